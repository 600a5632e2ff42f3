package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"github.com/jmoiron/sqlx"

	"mellowthump/core/session"
)

// Run is several changes of a song that were made as one: a revision each, one undo for all.
type Run struct {
	ID      int64  `db:"id"`
	Base    int64  `db:"base"` // the revision that they stand on
	Head    int64  `db:"head"` // the last of them
	Said    string `db:"said"`
	Body    string `db:"body"` // JSON: what was said of each
	Created string `db:"created"`
}

const runColumns = `id, base, head, said, body, created`

// EditRun makes several edits as one run, a revision each, and ends a job with it: all is stored, or nothing. base is as for
// Edit. Edits that change nothing make no revision; where none does, there is no run.
func (s *Store) EditRun(ctx context.Context, id string, base int64, said string, edits []session.Edit, body any, job int64) (Run, error) {
	var run Run
	b, err := json.Marshal(body)
	if err != nil {
		return run, err
	}
	_, err = s.change(ctx, id, base, nil, edits, func(tx *sqlx.Tx, c *change) error {
		run = Run{Base: c.base, Head: c.song.Rev, Said: said, Body: string(b), Created: now()}
		if run.Head != run.Base {
			res, err := tx.ExecContext(ctx, `INSERT INTO runs (song_id, base, head, said, body, created) VALUES (?, ?, ?, ?, ?, ?)`,
				id, run.Base, run.Head, said, run.Body, run.Created)
			if err == nil {
				run.ID, err = res.LastInsertId()
			}
			if err == nil {
				_, err = tx.ExecContext(ctx, `UPDATE revisions SET run = ? WHERE song_id = ? AND id >= ? AND id <= ?`, run.ID, id, c.first, run.Head)
			}
			if err != nil {
				return err
			}
		}
		if job == 0 {
			return nil
		}
		return done(ctx, tx, job)
	})
	return run, err
}

// Runs lists a song's runs, newest first.
func (s *Store) Runs(ctx context.Context, song string, most int) ([]Run, error) {
	var out []Run
	err := s.db.SelectContext(ctx, &out, `SELECT `+runColumns+` FROM runs WHERE song_id = ? ORDER BY id DESC LIMIT ?`, song, most)
	return out, err
}

// runOf returns the run that a revision is of, nil where it is of none.
func runOf(ctx context.Context, q sqlx.QueryerContext, rev int64) (*Run, error) {
	var r Run
	err := sqlx.GetContext(ctx, q, &r, `SELECT u.id, u.base, u.head, u.said, u.body, u.created FROM revisions r JOIN runs u ON u.id = r.run WHERE r.id = ?`, rev)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return &r, err
}
