package store

import (
	"context"
	"database/sql"
	"errors"
	"time"

	"mellowthump/core/session"

	"github.com/jmoiron/sqlx"
)

// BounceState says what became of a file of a bounce folder.
type BounceState string

// The states.
const (
	BounceLeft   BounceState = "left"   // it was there when the folder was named
	BounceComing BounceState = "coming" // it is being taken in
	BounceTaken  BounceState = "taken"
	BounceSame   BounceState = "same" // what the song has
	BounceAsked  BounceState = "asked"
	BounceFailed BounceState = "failed"
	BounceOlder  BounceState = "older" // than what its stem has from the folder
)

// Bounce is a file of a song's bounce folder as it was seen last.
type Bounce struct {
	SongID string      `db:"song_id"`
	Name   string      `db:"name"`
	Size   int64       `db:"size"`
	Stamp  string      `db:"mod"` // when it was changed
	State  BounceState `db:"state"`
	Stem   string      `db:"stem"` // whose new file it is
	SHA    string      `db:"sha"`
	Said   string      `db:"said"`
	Seen   string      `db:"seen"`
}

// Mod is when the file was changed.
func (b Bounce) Mod() time.Time {
	at, _ := time.Parse(time.RFC3339Nano, b.Stamp) // one that is damaged is of no file that is there
	return at
}

// At is when it was seen.
func (b Bounce) At() time.Time {
	at, _ := time.Parse(time.RFC3339Nano, b.Seen)
	return at
}

// SetBounceFolder names the folder of a song, with the files that are known there; an empty one ends the watching.
func (s *Store) SetBounceFolder(ctx context.Context, song, folder string, known []Bounce) error {
	return s.in(ctx, func(tx *sqlx.Tx) error {
		for _, table := range []string{"bounces", "bounce_folders"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE song_id = ?`, song); err != nil {
				return err
			}
		}
		if folder == "" {
			return nil
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO bounce_folders (song_id, folder) VALUES (?, ?)`, song, folder); err != nil {
			return err
		}
		for _, b := range known {
			b.SongID = song
			if err := setBounce(ctx, tx, b); err != nil {
				return err
			}
		}
		return nil
	})
}

// BounceFolder returns the folder of a song; empty where none is named.
func (s *Store) BounceFolder(ctx context.Context, song string) (string, error) {
	var folder string
	err := s.db.GetContext(ctx, &folder, `SELECT folder FROM bounce_folders WHERE song_id = ?`, song)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return folder, err
}

// BounceFolders lists the folders of the songs that are worked on, by song.
func (s *Store) BounceFolders(ctx context.Context) (map[string]string, error) {
	var rows []struct {
		Song   string `db:"song_id"`
		Folder string `db:"folder"`
	}
	if err := s.db.SelectContext(ctx, &rows,
		`SELECT f.song_id, f.folder FROM bounce_folders f JOIN songs s ON s.id = f.song_id WHERE s.deleted = '' AND s.archived = ''`); err != nil {
		return nil, err
	}
	out := map[string]string{}
	for _, r := range rows {
		out[r.Song] = r.Folder
	}
	return out, nil
}

// Bounces lists what was seen of a song's folder, the newest first.
func (s *Store) Bounces(ctx context.Context, song string) ([]Bounce, error) {
	var out []Bounce
	err := s.db.SelectContext(
		ctx,
		&out,
		`SELECT song_id, name, size, mod, state, stem, sha, said, seen FROM bounces WHERE song_id = ? ORDER BY seen DESC, name`,
		song,
	)
	return out, err
}

// SetBounce notes what became of a file of a song's folder.
func (s *Store) SetBounce(ctx context.Context, b Bounce) error { return setBounce(ctx, s.db, b) }

func setBounce(ctx context.Context, db sqlx.ExtContext, b Bounce) error {
	if b.Seen == "" {
		b.Seen = now()
	}
	_, err := sqlx.NamedExecContext(
		ctx,
		db,
		`INSERT INTO bounces (song_id, name, size, mod, state, stem, sha, said, seen) VALUES (:song_id, :name, :size, :mod, :state, :stem, :sha, :said, :seen)
		ON CONFLICT (song_id, name) DO UPDATE SET size = excluded.size, mod = excluded.mod, state = excluded.state, stem = excluded.stem, sha = excluded.sha,
		  said = excluded.said, seen = excluded.seen`,
		b,
	)
	return err
}

// Older reports whether a bounce is not what counts: its file was written anew since, or the file that its stem has now is a
// later one of the folder. has is that file's hash; empty: whose bounce it is is not known yet.
func (s *Store) Older(ctx context.Context, b Bounce, has string) (bool, error) {
	all, err := s.Bounces(ctx, b.SongID)
	if err != nil {
		return false, err
	}
	for _, o := range all {
		anew := o.Name == b.Name && !o.is(b)
		later := has != "" && o.SHA == has && o.State == BounceTaken && o.Mod().After(b.Mod())
		if anew || later {
			return true, nil
		}
	}
	return false, nil
}

// is reports whether two are of one file as it stood.
func (b Bounce) is(o Bounce) bool { return b.Name == o.Name && b.Size == o.Size && b.Stamp == o.Stamp }

// EndBounce notes what became of a file, unless it was written anew since.
func (s *Store) EndBounce(ctx context.Context, b Bounce) error {
	return s.in(ctx, func(tx *sqlx.Tx) error { return endBounce(ctx, tx, b) })
}

func endBounce(ctx context.Context, tx *sqlx.Tx, b Bounce) error {
	var n int
	if err := tx.GetContext(ctx, &n, `SELECT COUNT(*) FROM bounces WHERE song_id = ? AND name = ? AND size = ? AND mod = ?`, b.SongID, b.Name, b.Size,
		b.Stamp); err != nil ||
		n == 0 {
		return err
	}
	b.Seen = ""
	return setBounce(ctx, tx, b)
}

// TakeBounce is an edit that puts a bounce in its stem's place: it, the end of its job and what became of the file are stored
// together. base is as for Edit.
func (s *Store) TakeBounce(ctx context.Context, base int64, edit session.Edit, job int64, b Bounce) error {
	_, err := s.change(ctx, b.SongID, base, nil, []session.Edit{edit}, func(tx *sqlx.Tx, _ *change) error {
		if err := done(ctx, tx, job); err != nil {
			return err
		}
		return endBounce(ctx, tx, b)
	})
	return err
}

// ForgetBounces forgets the files of a song's folder that are in a state: they are taken as new ones.
func (s *Store) ForgetBounces(ctx context.Context, song string, state BounceState) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM bounces WHERE song_id = ? AND state = ?`, song, state)
	return err
}
