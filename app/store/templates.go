package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"mellowthump/core/session"
)

// Template is a song without audio, to start from.
type Template struct {
	ID      int64  `db:"id"`
	Name    string `db:"name"`
	Body    string `db:"body"`
	Created string `db:"created"`
}

// AddTemplate keeps one.
func (s *Store) AddTemplate(ctx context.Context, name string, song session.Song) error {
	body, err := json.Marshal(song)
	if err == nil {
		_, err = s.db.ExecContext(ctx, `INSERT INTO templates (name, body, created) VALUES (?, ?, ?)`, name, string(body), now())
	}
	return err
}

// Templates lists them by their names.
func (s *Store) Templates(ctx context.Context) ([]Template, error) {
	var out []Template
	err := s.db.SelectContext(ctx, &out, `SELECT id, name, body, created FROM templates ORDER BY name COLLATE NOCASE, id`)
	return out, err
}

// TemplateSong is the song of one.
func (s *Store) TemplateSong(ctx context.Context, id int64) (session.Song, error) {
	var body string
	err := s.db.GetContext(ctx, &body, `SELECT body FROM templates WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return session.Song{}, ErrNotFound
	}
	if err != nil {
		return session.Song{}, err
	}
	return session.Read([]byte(body))
}

// RemoveTemplate takes one out; songs that were started from it stay.
func (s *Store) RemoveTemplate(ctx context.Context, id int64) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM templates WHERE id = ?`, id)
	return err
}
