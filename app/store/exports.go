package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"mellowthump/core/session"
)

// NoteExport remembers what a stem's sound that went out of a song holds, by the print of its samples (audio.Print).
func (s *Store) NoteExport(ctx context.Context, song, print string, held session.Held) error {
	body, err := json.Marshal(held)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO exports (song_id, print, held, created) VALUES (?, ?, ?, ?)
		ON CONFLICT (song_id, print) DO UPDATE SET held = excluded.held, created = excluded.created`, song, print, body, now())
	return err
}

// Exported returns what a sound holds that went out of a song; nil where none of that print did.
func (s *Store) Exported(ctx context.Context, song, print string) (*session.Held, error) {
	var body string
	err := s.db.GetContext(ctx, &body, `SELECT held FROM exports WHERE song_id = ? AND print = ?`, song, print)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	held := &session.Held{}
	return held, json.Unmarshal([]byte(body), held)
}

// Exports reports whether anything went out of a song.
func (s *Store) Exports(ctx context.Context, song string) (bool, error) {
	n := 0
	err := s.db.GetContext(ctx, &n, `SELECT COUNT(*) FROM exports WHERE song_id = ?`, song)
	return n > 0, err
}
