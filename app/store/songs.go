package store

import (
	"context"
	"encoding/json"
	"errors"
	"os"

	"github.com/jmoiron/sqlx"

	"mellowthump/core/session"
)

// SongRow is a song in the list.
type SongRow struct {
	ID       string `db:"id"`
	Rev      int64  `db:"head"`
	Name     string `db:"name"`
	Updated  string `db:"updated"`
	Archived string `db:"archived"` // when; empty: it is not
	Deleted  string `db:"deleted"`
	Body     string `db:"body"`
	Take     string `db:"take"` // the last that was saved; empty: none

	Song  session.Song `db:"-"`
	Bytes int64        `db:"-"` // of the audio that it names now
}

// Songs lists all songs, the last changed first.
func (s *Store) Songs(ctx context.Context) ([]SongRow, error) {
	var rows []SongRow
	err := s.db.SelectContext(
		ctx,
		&rows,
		`SELECT s.id, s.head, s.name, s.updated, s.archived, s.deleted, r.body, coalesce((SELECT t.name FROM takes t WHERE t.song_id = s.id ORDER BY t.id DESC `+
			`LIMIT 1), '') AS take FROM songs s JOIN revisions r ON r.id = s.head ORDER BY s.updated DESC`,
	)
	if err != nil {
		return nil, err
	}
	var files []struct {
		SHA   string `db:"sha"`
		Bytes int64  `db:"bytes"`
	}
	if err := s.db.SelectContext(ctx, &files, `SELECT sha, bytes FROM audio_files`); err != nil {
		return nil, err
	}
	bytes := map[string]int64{}
	for _, f := range files {
		bytes[f.SHA] = f.Bytes
	}
	for i := range rows {
		r := &rows[i]
		if r.Song, err = session.Read([]byte(r.Body)); err != nil { // the others are listed all the same; its own page says it
			r.Song = session.Song{Name: r.Name}
		}
		r.Body = ""
		for _, sha := range r.Song.Files() {
			r.Bytes += bytes[sha]
		}
	}
	return rows, nil
}

// CreateSong stores a new song as its first revision and returns its id.
func (s *Store) CreateSong(ctx context.Context, song session.Song, summary string) (string, error) {
	if err := song.Validate(); err != nil {
		return "", err
	}
	body, err := json.Marshal(song)
	if err != nil {
		return "", err
	}
	id := newID()
	return id, s.in(ctx, func(tx *sqlx.Tx) error {
		if _, err := tx.ExecContext(ctx, `INSERT INTO songs (id, name, created, updated) VALUES (?, ?, ?, ?)`, id, song.Name, now(), now()); err != nil {
			return err
		}
		_, err := addRevision(ctx, tx, id, nil, summary, song.Name, body)
		return err
	})
}

// Archive puts a song apart in the list, or back.
func (s *Store) Archive(ctx context.Context, id string, on bool) error {
	return s.stamp(ctx, `UPDATE songs SET archived = ? WHERE id = ?`, id, on)
}

// Delete puts a song away until it is restored or removed for good; nothing of it is gone.
func (s *Store) Delete(ctx context.Context, id string, on bool) error {
	return s.stamp(ctx, `UPDATE songs SET deleted = ? WHERE id = ?`, id, on)
}

func (s *Store) stamp(ctx context.Context, query, id string, on bool) error {
	at := ""
	if on {
		at = now()
	}
	res, err := s.db.ExecContext(ctx, query, at, id)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return ErrNotFound
	}
	return nil
}

// alone are the audio files that a song has had at any time and no other song, nor a job of one, nor the set of favourites knows of.
const alone = `SELECT a.sha, a.ext, a.bytes FROM audio_files a
	WHERE EXISTS (SELECT 1 FROM revisions r WHERE r.song_id = ?1 AND instr(r.body, a.sha))
	AND NOT EXISTS (SELECT 1 FROM revisions r WHERE r.song_id <> ?1 AND instr(r.body, a.sha))
	AND NOT EXISTS (SELECT 1 FROM favourites f WHERE f.sha = a.sha)
	AND NOT EXISTS (SELECT 1 FROM jobs j WHERE j.song_id <> ?1 AND instr(j.payload, a.sha))`

type aloneRow struct {
	SHA   string `db:"sha"`
	Ext   string `db:"ext"`
	Bytes int64  `db:"bytes"`
}

// Frees returns how many bytes of audio removing a song would free: those of files that no other song knows.
func (s *Store) Frees(ctx context.Context, id string) (int64, error) {
	var files []aloneRow
	err := s.db.SelectContext(ctx, &files, alone, id)
	sum := int64(0)
	for _, f := range files {
		sum += f.Bytes
	}
	return sum, err
}

// Remove takes a deleted song out for good, with its revisions and takes and the audio that it alone knows, and returns the
// bytes that are free now. One that is not deleted stays, and while files come in so does any: one of them may
// be of its audio (Refused).
func (s *Store) Remove(ctx context.Context, id string) (freed int64, err error) {
	files, freed, err := s.removeRows(ctx, id)
	if err != nil {
		return 0, err
	}
	if err := s.DropPrints(id, 0); err != nil {
		return freed, err
	}
	for _, f := range files { // the rows are gone: one that stays is swept at a later start
		if err := s.removeFile(ctx, f); err != nil {
			return freed, err
		}
	}
	return freed, nil
}

// unlink removes a file; tests make it slow.
var unlink = os.Remove

// removeFile removes an audio file that has no row any more, unless it came in again meanwhile.
func (s *Store) removeFile(ctx context.Context, f aloneRow) error {
	s.files.Lock()
	defer s.files.Unlock()
	n := 0
	if err := s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM audio_files WHERE sha = ?`, f.SHA); err != nil || n > 0 {
		return err
	}
	if err := unlink(s.audioPath(f.SHA, f.Ext)); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return nil
}

// removeRows takes all that is known of a deleted song out of the database, and returns the files that it alone knew; nothing
// is known of them from then on.
func (s *Store) removeRows(ctx context.Context, id string) (files []aloneRow, freed int64, err error) {
	s.files.Lock()
	defer s.files.Unlock()
	err = s.in(ctx, func(tx *sqlx.Tx) error {
		deleted := ""
		if err := tx.GetContext(ctx, &deleted, `SELECT deleted FROM songs WHERE id = ?`, id); err != nil {
			return ErrNotFound
		}
		if deleted == "" {
			return &Refused{errors.New("the song is not deleted; delete it first, then it can be removed for good")}
		}
		active := 0
		if err := tx.GetContext(ctx, &active, `SELECT COUNT(*) FROM jobs WHERE state IN ('queued', 'running')`); err != nil {
			return err
		}
		if active > 0 {
			return &Refused{errors.New("files are still coming in; remove it when they are in")}
		}
		if err := tx.SelectContext(ctx, &files, alone, id); err != nil {
			return err
		}
		for _, table := range []string{"takes", "jobs", "exports", "marks", "ears", "bounces", "bounce_folders", "runs", "revisions"} {
			if _, err := tx.ExecContext(ctx, `DELETE FROM `+table+` WHERE song_id = ?`, id); err != nil {
				return err
			}
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM songs WHERE id = ?`, id); err != nil {
			return err
		}
		for _, f := range files {
			if err := forgetRows(ctx, tx, f.SHA); err != nil {
				return err
			}
			freed += f.Bytes
		}
		return nil
	})
	if err != nil {
		return nil, 0, err
	}
	for _, f := range files {
		s.forget(f.SHA)
	}
	return files, freed, nil
}

// Mark is how many findings of a stage were open at a revision.
type Mark struct {
	SongID string `db:"song_id"`
	Stage  string `db:"stage"`
	Rev    int64  `db:"rev"`
	Open   int    `db:"open"`
}

// SetMark keeps a mark.
func (s *Store) SetMark(ctx context.Context, m Mark) error {
	_, err := s.db.NamedExecContext(ctx, `INSERT INTO marks (song_id, stage, rev, open) VALUES (:song_id, :stage, :rev, :open)
		ON CONFLICT (song_id, stage) DO UPDATE SET rev = excluded.rev, open = excluded.open`, m)
	return err
}

// Marks are all that are kept.
func (s *Store) Marks(ctx context.Context) ([]Mark, error) {
	var out []Mark
	err := s.db.SelectContext(ctx, &out, `SELECT song_id, stage, rev, open FROM marks`)
	return out, err
}
