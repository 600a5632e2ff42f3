// Package store keeps songs, their revisions and takes, and the audio on disk.
package store

import (
	"context"
	"crypto/rand"
	"database/sql"
	"embed"
	"encoding/base32"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
	_ "modernc.org/sqlite" // the driver

	"mellowthump/core/facts"
	"mellowthump/core/session"
)

//go:embed migrations/*.sql
var migrations embed.FS

// What callers may want to tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("the song was changed elsewhere meanwhile")
	ErrNothing  = errors.New("nothing further to undo or redo")
)

// Refused is what an edit said against itself: a sentence for the user. Nothing was stored.
type Refused struct{ Err error }

// Error is the sentence.
func (r *Refused) Error() string { return r.Err.Error() }

// Unwrap gives the error of the edit.
func (r *Refused) Unwrap() error { return r.Err }

// Store is a data folder. It is safe for use by several goroutines.
type Store struct {
	db   *sqlx.DB
	dir  string
	lock *os.File // held as long as the store is open

	files sync.RWMutex // held to put audio in place or to remove it; read, where what is known of it has to be there
	mu    sync.Mutex
	facts map[string]*facts.Analysis // by hash; facts never change

	measuring map[string]*measuring // by hash: what is measured anew
}

// Open opens a data folder for this program alone, making it and bringing it up to date where needed.
func Open(ctx context.Context, dir string) (_ *Store, err error) {
	for _, d := range []string{dir, filepath.Join(dir, "audio"), filepath.Join(dir, "incoming")} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, fmt.Errorf("making the data folder: %w", err)
		}
	}
	held, err := lock(dir)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			held.Close()
		}
	}()
	path := filepath.Join(dir, dbName)
	made, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600) // for its owner alone
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	made.Close()
	// synchronous FULL: what was acknowledged is on the disk, through a loss of power too
	db, err := connect(path, "?_pragma=busy_timeout(5000)&_pragma=journal_mode(WAL)&_pragma=foreign_keys(1)&_pragma=synchronous(FULL)&_txlock=immediate")
	if err != nil {
		return nil, fmt.Errorf("opening the database: %w", err)
	}
	p, err := forms(db)
	if err == nil {
		err = migrate(ctx, db, p, path)
	}
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("bringing the database up to date: %w", err)
	}
	return &Store{db: db, dir: dir, lock: held, facts: map[string]*facts.Analysis{}, measuring: map[string]*measuring{}}, nil
}

// dbName is the database's in its folder.
const dbName = "mellowthump.db"

func connect(path, how string) (*sqlx.DB, error) {
	return sqlx.Open("sqlite", "file:"+(&url.URL{Path: path}).EscapedPath()+how)
}

// forms are the database's forms, from the first to this program's.
func forms(db *sqlx.DB) (*goose.Provider, error) {
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectSQLite3, db.DB, sub)
}

// Close closes the database and gives the folder back.
func (s *Store) Close() error {
	err := s.db.Close()
	s.lock.Close()
	return err
}

func now() string { return time.Now().UTC().Format(time.RFC3339Nano) }

func newID() string {
	var b [10]byte
	rand.Read(b[:]) // never fails
	return strings.ToLower(base32.StdEncoding.EncodeToString(b[:]))
}

// in runs f in a transaction.
func (s *Store) in(ctx context.Context, f func(tx *sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := f(tx); err != nil {
		return err
	}
	return tx.Commit()
}

func addRevision(ctx context.Context, tx *sqlx.Tx, id string, parent *int64, summary, name string, body []byte) (int64, error) {
	res, err := tx.ExecContext(ctx, `INSERT INTO revisions (song_id, parent, summary, body, created) VALUES (?, ?, ?, ?, ?)`,
		id, parent, summary, string(body), now())
	if err != nil {
		return 0, err
	}
	rev, err := res.LastInsertId()
	if err != nil {
		return 0, err
	}
	return rev, setHead(ctx, tx, id, rev, name)
}

func setHead(ctx context.Context, tx *sqlx.Tx, id string, rev int64, name string) error {
	_, err := tx.ExecContext(ctx, `UPDATE songs SET head = ?, name = ?, updated = ? WHERE id = ?`, rev, name, now(), id)
	return err
}

// Revision is one state of a song.
type Revision struct {
	ID      int64         `db:"id"`
	Parent  sql.NullInt64 `db:"parent"`
	Summary string        `db:"summary"`
	Body    string        `db:"body"`
	Created string        `db:"created"`
	Run     int64         `db:"run"` // that it was made in; 0: alone
}

// Song is a song at its newest revision.
type Song struct {
	ID   string
	Rev  int64
	Undo string // summary of what undo takes back, empty where there is nothing
	Redo string
	session.Song
}

// Head returns the id of a song's newest revision.
func (s *Store) Head(ctx context.Context, id string) (int64, error) {
	r, err := head(ctx, s.db, id)
	return r.ID, err
}

// Load returns a song at its head.
func (s *Store) Load(ctx context.Context, id string) (*Song, error) {
	return load(ctx, s.db, id)
}

func head(ctx context.Context, q sqlx.QueryerContext, id string) (Revision, error) {
	var r Revision
	err := sqlx.GetContext(
		ctx,
		q,
		&r,
		`SELECT r.id, r.parent, r.summary, r.body, r.created, r.run FROM songs s JOIN revisions r ON r.id = s.head WHERE s.id = ?`,
		id,
	)
	if errors.Is(err, sql.ErrNoRows) {
		return r, ErrNotFound
	}
	return r, err
}

func load(ctx context.Context, q sqlx.QueryerContext, id string) (*Song, error) {
	r, err := head(ctx, q, id)
	if err != nil {
		return nil, err
	}
	song, err := session.Read([]byte(r.Body))
	if err != nil {
		return nil, err
	}
	out := &Song{ID: id, Rev: r.ID, Song: song}
	if r.Parent.Valid {
		if out.Undo, err = saidOf(ctx, q, r); err != nil {
			return nil, err
		}
	}
	next, err := child(ctx, q, r.ID)
	if err == nil {
		if out.Redo, err = saidOf(ctx, q, next); err != nil {
			return nil, err
		}
	} else if !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	return out, nil
}

// saidOf is what a step back or forth over a revision is called: of one in a run, the run.
func saidOf(ctx context.Context, q sqlx.QueryerContext, r Revision) (string, error) {
	run, err := runOf(ctx, q, r.ID)
	if err != nil || run == nil {
		return r.Summary, err
	}
	return run.Said, nil
}

func child(ctx context.Context, q sqlx.QueryerContext, rev int64) (Revision, error) {
	var r Revision
	err := sqlx.GetContext(ctx, q, &r, `SELECT id, parent, summary, body, created, run FROM revisions WHERE parent = ? ORDER BY id DESC LIMIT 1`, rev)
	return r, err
}

// Undo moves the head to the revision before it; Redo to the newest after it: over a run of changes in one step. base is the
// revision the editor saw, as for Edit.
func (s *Store) Undo(ctx context.Context, id string, base int64) error {
	return s.in(ctx, func(tx *sqlx.Tx) error {
		r, err := head(ctx, tx, id)
		if err != nil {
			return err
		}
		if stale(base, r.ID) {
			return ErrConflict
		}
		if !r.Parent.Valid {
			return ErrNothing
		}
		if run, err := runOf(ctx, tx, r.ID); err != nil {
			return err
		} else if run != nil {
			return moveHead(ctx, tx, id, run.Base)
		}
		return moveHead(ctx, tx, id, r.Parent.Int64)
	})
}

// Redo moves the head to the newest revision made after it.
func (s *Store) Redo(ctx context.Context, id string, base int64) error {
	return s.in(ctx, func(tx *sqlx.Tx) error {
		r, err := head(ctx, tx, id)
		if err != nil {
			return err
		}
		if stale(base, r.ID) {
			return ErrConflict
		}
		next, err := child(ctx, tx, r.ID)
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNothing
		}
		if err != nil {
			return err
		}
		if run, err := runOf(ctx, tx, next.ID); err != nil {
			return err
		} else if run != nil {
			return moveHead(ctx, tx, id, run.Head)
		}
		return moveHead(ctx, tx, id, next.ID)
	})
}

func moveHead(ctx context.Context, tx *sqlx.Tx, id string, rev int64) error {
	song, err := revision(ctx, tx, id, rev)
	if err != nil {
		return err
	}
	return setHead(ctx, tx, id, rev, song.Name)
}

func revision(ctx context.Context, q sqlx.QueryerContext, id string, rev int64) (session.Song, error) {
	var body string
	err := sqlx.GetContext(ctx, q, &body, `SELECT body FROM revisions WHERE id = ? AND song_id = ?`, rev, id)
	if errors.Is(err, sql.ErrNoRows) {
		return session.Song{}, ErrNotFound
	}
	if err != nil {
		return session.Song{}, err
	}
	return session.Read([]byte(body))
}

// History lists the newest revisions of a song, newest first.
func (s *Store) History(ctx context.Context, id string, most int) ([]Revision, error) {
	var rows []Revision
	err := s.db.SelectContext(
		ctx,
		&rows,
		`SELECT id, parent, summary, '' AS body, created, run FROM revisions WHERE song_id = ? ORDER BY id DESC LIMIT ?`,
		id,
		most,
	)
	return rows, err
}

// Take is a named revision with its measured numbers.
type Take struct {
	ID       int64  `db:"id"`
	Revision int64  `db:"revision_id"`
	Name     string `db:"name"`
	Note     string `db:"note"`
	Numbers  string `db:"numbers"` // JSON
	Created  string `db:"created"`
	Pinned   bool   `db:"pinned"`
}

// SaveTake names a revision of a song.
func (s *Store) SaveTake(ctx context.Context, id string, rev int64, name, note string, numbers any) error {
	b, err := json.Marshal(numbers)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO takes (song_id, revision_id, name, note, numbers, created) VALUES (?, ?, ?, ?, ?, ?)`,
		id, rev, name, note, string(b), now())
	return err
}

const takeColumns = `id, revision_id, name, note, numbers, created, pinned`

// Seen tells the words of a take apart from all others: a form says by it what its page showed.
func (t Take) Seen() string {
	h := fnv.New64a()
	fmt.Fprintf(h, "%q %q %t", t.Name, t.Note, t.Pinned)
	return strconv.FormatUint(h.Sum64(), 36)
}

// SetTake gives a take another name and note, and pins it or not; what it names stays. seen is what its sender saw
// (Take.Seen): where the words are others by now it is ErrConflict.
func (s *Store) SetTake(ctx context.Context, song string, id int64, seen, name, note string, pinned bool) error {
	return s.in(ctx, func(tx *sqlx.Tx) error {
		var is Take
		err := tx.GetContext(ctx, &is, `SELECT `+takeColumns+` FROM takes WHERE id = ? AND song_id = ?`, id, song)
		switch {
		case errors.Is(err, sql.ErrNoRows):
			return ErrNotFound
		case err == nil && is.Seen() != seen:
			return ErrConflict
		case err == nil:
			_, err = tx.ExecContext(ctx, `UPDATE takes SET name = ?, note = ?, pinned = ? WHERE id = ?`, name, note, pinned, id)
		}
		return err
	})
}

// Takes lists a song's takes, those that are pinned first, then the newest.
func (s *Store) Takes(ctx context.Context, id string) ([]Take, error) {
	var rows []Take
	err := s.db.SelectContext(ctx, &rows, `SELECT `+takeColumns+` FROM takes WHERE song_id = ? ORDER BY pinned DESC, id DESC`, id)
	return rows, err
}

// Return makes the song what it was in a take, as a new revision.
func (s *Store) Return(ctx context.Context, id string, base, take int64) (*Song, error) {
	var t Take
	err := s.db.GetContext(ctx, &t, `SELECT `+takeColumns+` FROM takes WHERE id = ? AND song_id = ?`, take, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	old, err := revision(ctx, s.db, id, t.Revision)
	if err != nil {
		return nil, err
	}
	return s.Edit(ctx, id, base, session.Become{Song: old, Said: "Back to take “" + t.Name + "”"})
}

// At returns a song as it was at a revision.
func (s *Store) At(ctx context.Context, id string, rev int64) (session.Song, error) {
	return revision(ctx, s.db, id, rev)
}

// Holds reports whether a folder is the data folder, or within it.
func (s *Store) Holds(path string) bool {
	own, err := filepath.EvalSymlinks(s.dir)
	if err != nil {
		return false
	}
	if own, err = filepath.Abs(own); err != nil {
		return false
	}
	if path, err = filepath.EvalSymlinks(path); err != nil {
		return false
	}
	rel, err := filepath.Rel(own, path)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, "../")
}
