package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"github.com/jmoiron/sqlx"

	"mellowthump/core/session"
)

// AnyRevision lets Edit work on whatever the head is: for jobs, which no tab's view limits.
const AnyRevision = 0

// Edit makes a new revision of a song and returns it. base is the revision the editor saw; where the head has moved on, the edit is
// refused with ErrConflict. The edit is a value that was worked out before. Where it is refused (Refused), or changes nothing,
// nothing is stored.
func (s *Store) Edit(ctx context.Context, id string, base int64, edit session.Edit) (*Song, error) {
	return edited(s.change(ctx, id, base, nil, []session.Edit{edit}, nil))
}

// EditOn is Edit on a song as its editor saw it, which becomes the new one.
func (s *Store) EditOn(ctx context.Context, song *Song, edit session.Edit) (*Song, error) {
	return edited(s.change(ctx, song.ID, song.Rev, song, []session.Edit{edit}, nil))
}

func edited(c *change, err error) (*Song, error) {
	if err != nil {
		return nil, err
	}
	return c.song, nil
}

// EditDone is an edit that ends jobs: all is stored, or nothing. base is as for Edit.
func (s *Store) EditDone(ctx context.Context, id string, base int64, edit session.Edit, jobs ...int64) error {
	_, err := s.change(ctx, id, base, nil, []session.Edit{edit}, func(tx *sqlx.Tx, _ *change) error { return done(ctx, tx, jobs...) })
	return err
}

func done(ctx context.Context, tx *sqlx.Tx, jobs ...int64) error {
	for _, job := range jobs {
		if err := setJob(ctx, tx, job, Done, 1, ""); err != nil {
			return err
		}
	}
	return nil
}

// change is what edits make of a song: a revision each, but for those that change nothing.
type change struct {
	id    string
	base  int64 // the head that they were made on
	song  *Song // as it is after them; Rev is that of the last, once they are stored
	made  []revised
	first int64 // the first revision, once they are stored
}

type revised struct {
	said, name string
	body       []byte
}

// errMoved says that another edit was faster.
var errMoved = errors.New("the head has moved on")

// change makes edits and stores them, with what else is to be stored with them. song is the one that they are made on; nil: the
// head. They are read, made and validated before the database is held: then only the head is looked at, and where that has moved
// on meanwhile, they are made anew on what is there, or refused as stale.
func (s *Store) change(ctx context.Context, id string, base int64, song *Song, edits []session.Edit, also func(*sqlx.Tx, *change) error) (*change, error) {
	for ; ; song = nil {
		var err error
		if song == nil {
			if song, err = s.Load(ctx, id); err != nil {
				return nil, err
			}
		}
		if stale(base, song.Rev) {
			return nil, ErrConflict
		}
		c, err := prepared(song, edits)
		if err != nil || len(c.made) == 0 && also == nil {
			return c, err
		}
		err = s.in(ctx, func(tx *sqlx.Tx) error {
			if err := c.store(ctx, tx); err != nil || also == nil {
				return err
			}
			return also(tx, c)
		})
		if !errors.Is(err, errMoved) {
			return c, err
		}
	}
}

// prepared makes edits on a song, without storing them.
func prepared(song *Song, edits []session.Edit) (*change, error) {
	c := &change{id: song.ID, base: song.Rev, song: song}
	for _, e := range edits {
		said, err := e.Apply(&song.Song)
		if err == nil && said != "" {
			err = song.Validate()
		}
		if err != nil {
			return nil, &Refused{err}
		}
		if said == "" {
			continue
		}
		body, err := json.Marshal(song.Song)
		if err != nil {
			return nil, err
		}
		c.made = append(c.made, revised{said, song.Name, body})
		song.Undo, song.Redo = said, ""
	}
	return c, nil
}

// store puts what was prepared into the database; errMoved where another edit was faster.
func (c *change) store(ctx context.Context, tx *sqlx.Tx) error {
	var head int64
	if err := tx.GetContext(ctx, &head, `SELECT head FROM songs WHERE id = ?`, c.id); err != nil {
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNotFound
		}
		return err
	}
	if head != c.base {
		return errMoved
	}
	c.song.Rev = c.base
	for _, m := range c.made {
		parent := c.song.Rev
		rev, err := addRevision(ctx, tx, c.id, &parent, m.said, m.name, m.body)
		if err != nil {
			return err
		}
		c.song.Rev = rev
		if c.first == 0 {
			c.first = rev
		}
	}
	return nil
}

// stale reports whether an editor saw another revision than the head.
func stale(base, head int64) bool { return base != AnyRevision && base != head }
