package store

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/jmoiron/sqlx"

	"mellowthump/core/archive"
	"mellowthump/core/session"
)

// Remembered is what a song remembers, as it goes into an archive; head is the revision that goes out.
func (s *Store) Remembered(ctx context.Context, id string, head int64) (*archive.History, error) {
	h := &archive.History{Format: 1, Head: head}
	var revisions []Revision
	if err := s.db.SelectContext(ctx, &revisions, `SELECT id, parent, summary, body, created, run FROM revisions WHERE song_id = ? ORDER BY id`, id); err != nil {
		return nil, err
	}
	for _, r := range revisions {
		h.Revisions = append(
			h.Revisions,
			archive.Revision{ID: r.ID, Parent: r.Parent.Int64, Summary: r.Summary, Created: r.Created, Run: r.Run, Song: rawJSON(r.Body)},
		)
	}
	var runs []Run
	if err := s.db.SelectContext(ctx, &runs, `SELECT `+runColumns+` FROM runs WHERE song_id = ? ORDER BY id`, id); err != nil {
		return nil, err
	}
	for _, r := range runs {
		h.Runs = append(h.Runs, archive.Run{ID: r.ID, Base: r.Base, Head: r.Head, Said: r.Said, Body: rawJSON(r.Body), Created: r.Created})
	}
	var takes []Take
	if err := s.db.SelectContext(ctx, &takes, `SELECT `+takeColumns+` FROM takes WHERE song_id = ? ORDER BY id`, id); err != nil {
		return nil, err
	}
	for _, t := range takes {
		h.Takes = append(h.Takes, archive.Take{Revision: t.Revision, Name: t.Name, Note: t.Note, Numbers: rawJSON(t.Numbers), Created: t.Created, Pinned: t.Pinned})
	}
	var ears []Ears
	if err := s.db.SelectContext(ctx, &ears, `SELECT `+earsColumns+` FROM ears WHERE song_id = ? AND state <> ? ORDER BY id`, id, EarsOpen); err != nil {
		return nil, err
	}
	for _, e := range ears {
		h.Ears = append(h.Ears, archive.Ears{Kind: e.Kind, State: e.State, Body: rawJSON(e.Body), Created: e.Created})
	}
	return h, nil
}

// ReadArchive makes a song what an archive holds, on top of what that remembers (nil: nothing), and ends a job: all is stored, or nothing.
func (s *Store) ReadArchive(ctx context.Context, id string, become session.Edit, h *archive.History, job int64) error {
	return s.in(ctx, func(tx *sqlx.Tx) error {
		if h != nil {
			if err := remember(ctx, tx, id, h); err != nil {
				return err
			}
		}
		song, err := load(ctx, tx, id) // what was just put in
		if err != nil {
			return err
		}
		c, err := prepared(song, []session.Edit{become})
		if err == nil {
			err = c.store(ctx, tx)
		}
		if err != nil {
			return err
		}
		return done(ctx, tx, job)
	})
}

// remember puts a history under new ids below what a song, which is new, becomes.
// Long because what a song remembers is put back in one transaction, kind by kind.
func remember(ctx context.Context, tx *sqlx.Tx, id string, h *archive.History) error {
	var base int64
	if err := tx.GetContext(ctx, &base, `SELECT head FROM songs WHERE id = ?`, id); err != nil {
		return err
	}
	is := map[int64]int64{0: base} // what begins here follows what the song is
	add := func(query string, values ...any) (int64, error) {
		res, err := tx.ExecContext(ctx, query, values...)
		if err != nil {
			return 0, err
		}
		return res.LastInsertId()
	}
	for _, r := range h.Revisions {
		song, err := session.Read(r.Song) // of an older form: as this program writes it
		if err != nil {
			return fmt.Errorf("the revision %d: %w", r.ID, err)
		}
		body, err := json.Marshal(song)
		if err != nil {
			return err
		}
		is[r.ID], err = add(`INSERT INTO revisions (song_id, parent, summary, body, created) VALUES (?, ?, ?, ?, ?)`,
			id, is[r.Parent], r.Summary, string(body), r.Created)
		if err != nil {
			return err
		}
	}
	for _, r := range h.Runs {
		run, err := add(`INSERT INTO runs (song_id, base, head, said, body, created) VALUES (?, ?, ?, ?, ?, ?)`,
			id, is[r.Base], is[r.Head], r.Said, string(r.Body), r.Created)
		if err != nil {
			return err
		}
		for _, v := range h.Revisions {
			if v.Run == r.ID {
				if _, err := tx.ExecContext(ctx, `UPDATE revisions SET run = ? WHERE id = ?`, run, is[v.ID]); err != nil {
					return err
				}
			}
		}
	}
	for _, t := range h.Takes {
		_, err := add(`INSERT INTO takes (song_id, revision_id, name, note, numbers, created, pinned) VALUES (?, ?, ?, ?, ?, ?, ?)`,
			id, is[t.Revision], t.Name, t.Note, string(t.Numbers), t.Created, t.Pinned)
		if err != nil {
			return err
		}
	}
	for _, e := range h.Ears {
		body, err := revisionsIn(e.Body, is)
		if err != nil {
			return err
		}
		_, err = add(`INSERT INTO ears (token, song_id, kind, body, state, created) VALUES (?, ?, ?, ?, ?, ?)`,
			NewToken(), id, e.Kind, string(body), e.State, e.Created)
		if err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(ctx, `UPDATE songs SET head = ? WHERE id = ?`, is[h.Head], id)
	return err
}

// revisionsIn gives the revisions that a test's body names ("rev") their new ids.
func revisionsIn(body json.RawMessage, is map[int64]int64) ([]byte, error) {
	var v any
	if err := json.Unmarshal(body, &v); err != nil {
		return nil, fmt.Errorf("a test for the ears: %w", err)
	}
	var walk func(any)
	walk = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			for key, of := range v {
				if n, number := of.(float64); key == "rev" && number {
					v[key] = is[int64(n)]
				} else {
					walk(of)
				}
			}
		case []any:
			for _, of := range v {
				walk(of)
			}
		}
	}
	walk(v)
	return json.Marshal(v)
}

// rawJSON is what is stored as JSON; null where it is damaged.
func rawJSON(text string) json.RawMessage {
	if !json.Valid([]byte(text)) {
		return json.RawMessage("null")
	}
	return json.RawMessage(text)
}
