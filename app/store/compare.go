package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"mellowthump/core/compare"
)

// MostFavourites bounds the set of favourites.
const MostFavourites = 200

// Favourite is a finished track that is kept across songs.
type Favourite struct {
	ID      int64         `db:"id"`
	SHA     string        `db:"sha"`
	Name    string        `db:"name"`
	Body    string        `db:"sound"` // JSON
	Created string        `db:"created"`
	Sound   compare.Sound `db:"-"`
}

// AddFavourite keeps a finished track with what was measured of it; one that is there is measured anew. Where there are too
// many it is refused.
func (s *Store) AddFavourite(ctx context.Context, sha, name string, sound compare.Sound) error {
	body, err := json.Marshal(sound)
	if err != nil {
		return err
	}
	return s.in(ctx, func(tx *sqlx.Tx) error {
		n := 0
		if err := tx.GetContext(ctx, &n, `SELECT COUNT(*) FROM favourites WHERE sha <> ?`, sha); err != nil {
			return err
		}
		if n >= MostFavourites {
			return &Refused{fmt.Errorf("the set holds %d finished tracks already; take one out first", n)}
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO favourites (sha, name, sound, created) VALUES (?, ?, ?, ?)
			ON CONFLICT (sha) DO UPDATE SET name = excluded.name, sound = excluded.sound`, sha, name, string(body), now())
		return err
	})
}

// Favourites lists the set by name.
func (s *Store) Favourites(ctx context.Context) ([]Favourite, error) {
	var out []Favourite
	if err := s.db.SelectContext(ctx, &out, `SELECT id, sha, name, sound, created FROM favourites ORDER BY name, id`); err != nil {
		return nil, err
	}
	for i := range out {
		if err := json.Unmarshal([]byte(out[i].Body), &out[i].Sound); err != nil {
			return nil, fmt.Errorf("the favourite %q: %w", out[i].Name, err)
		}
		out[i].Body = ""
	}
	return out, nil
}

// RemoveFavourite takes one out of the set.
func (s *Store) RemoveFavourite(ctx context.Context, id int64) error {
	res, err := s.db.ExecContext(ctx, `DELETE FROM favourites WHERE id = ?`, id)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return &Refused{errors.New("that finished track is no longer in the set")}
	}
	return nil
}

// The states of a test for the ears.
const (
	EarsOpen = "open"
	EarsDone = "done"
	EarsLeft = "left" // before its end: nothing came of it
)

// Ears is a blind test of a song, or a question of a drill.
type Ears struct {
	ID      int64  `db:"id"`
	Token   string `db:"token"`
	SongID  string `db:"song_id"` // empty: a drill
	Kind    string `db:"kind"`
	Body    string `db:"body"` // JSON, as its kind reads it
	State   string `db:"state"`
	Created string `db:"created"`
}

const earsColumns = `id, token, song_id, kind, body, state, created`

// NewToken is a name that says nothing.
func NewToken() string { return newID() + newID() }

// SetEars stores a test under its token, anew or as it is now. One that has ended stays as it is (ErrConflict).
func (s *Store) SetEars(ctx context.Context, e Ears) error {
	if e.Created == "" {
		e.Created = now()
	}
	res, err := s.db.NamedExecContext(ctx, `INSERT INTO ears (token, song_id, kind, body, state, created) VALUES (:token, :song_id, :kind, :body, :state, :created)
		ON CONFLICT (token) DO UPDATE SET body = excluded.body, state = excluded.state WHERE ears.state = 'open'`, e)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return ErrConflict
	}
	return nil
}

// EarsOf returns the test of a token.
func (s *Store) EarsOf(ctx context.Context, token string) (Ears, error) {
	var e Ears
	err := s.db.GetContext(ctx, &e, `SELECT `+earsColumns+` FROM ears WHERE token = ?`, token)
	if errors.Is(err, sql.ErrNoRows) {
		return e, ErrNotFound
	}
	return e, err
}

// EarsOfSong lists a song's tests, the newest first.
func (s *Store) EarsOfSong(ctx context.Context, song string) ([]Ears, error) {
	var out []Ears
	err := s.db.SelectContext(ctx, &out, `SELECT `+earsColumns+` FROM ears WHERE song_id = ? ORDER BY id DESC`, song)
	return out, err
}

// EarsOfKind lists the tests of a kind that were answered, the oldest first.
func (s *Store) EarsOfKind(ctx context.Context, kind string) ([]Ears, error) {
	var out []Ears
	err := s.db.SelectContext(ctx, &out, `SELECT `+earsColumns+` FROM ears WHERE kind = ? AND state = 'done' ORDER BY id`, kind)
	return out, err
}
