package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"mellowthump/core/session"
)

// Trouble is one thing that is wrong in a data folder, with what mends it.
type Trouble struct{ What, Mend string }

// Report is what Check came to.
type Report struct {
	Songs, Revisions, Takes, Files int // that were looked at
	Troubles                       []Trouble
}

// checking is a check under way.
type checking struct {
	Report
	s     *Store
	known map[string]bool // registered audio
}

// Check looks through a data folder and changes nothing: the database's own consistency, every link between its rows,
// every revision, and the hash of every file. The folder must not be in use.
func Check(ctx context.Context, dir string) (*Report, error) {
	path := filepath.Join(dir, dbName)
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("there is no data of this program in %s: %w", dir, err)
	}
	held, err := lock(dir)
	if err != nil {
		return nil, err
	}
	defer held.Close()
	copied, done, err := copyOf(path)
	if err != nil {
		return nil, err
	}
	defer done()
	db, err := connect(copied, "?_pragma=busy_timeout(5000)&_pragma=query_only(1)")
	if err != nil {
		return nil, err
	}
	defer db.Close()
	c := &checking{s: &Store{db: db, dir: dir}, known: map[string]bool{}}
	for _, step := range []func(context.Context) error{c.database, c.files, c.songs, c.takes} {
		if err := step(ctx); err != nil {
			if ctx.Err() != nil {
				return nil, ctx.Err()
			}
			c.tell("the database cannot be read further: "+err.Error(), "put a copy of it back; one is kept beside it, named .before-, at each change of its form")
			break
		}
	}
	return &c.Report, nil
}

// copyOf copies the database with what is not yet in it (its -wal) apart, for to read it where it is SQLite would write beside
// it; done removes the copy.
func copyOf(path string) (copied string, done func(), err error) {
	dir, err := os.MkdirTemp("", "mellowthump-check-*")
	if err != nil {
		return "", nil, err
	}
	done = func() { os.RemoveAll(dir) }
	for _, end := range []string{"", "-wal"} {
		if err = copyFile(path+end, filepath.Join(dir, dbName+end)); err != nil && !(end != "" && errors.Is(err, os.ErrNotExist)) {
			done()
			return "", nil, fmt.Errorf("reading the database: %w", err)
		}
	}
	return filepath.Join(dir, dbName), done, nil
}

func copyFile(from, to string) error {
	if st, err := os.Lstat(from); err != nil {
		return err
	} else if !st.Mode().IsRegular() {
		return errors.New(filepath.Base(from) + " is no plain file")
	}
	in, err := os.Open(from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

func (c *checking) tell(what, mend string) { c.Troubles = append(c.Troubles, Trouble{what, mend}) }

// database asks SQLite, and whether it has this program's form.
func (c *checking) database(ctx context.Context) error {
	var said []string
	if err := c.s.db.SelectContext(ctx, &said, `PRAGMA integrity_check(20)`); err != nil {
		return err
	}
	if strings.Join(said, "") != "ok" {
		c.tell("the database is damaged: "+strings.Join(said, "; "), "put a copy of it back")
	}
	p, err := forms(c.s.db)
	if err != nil {
		return err
	}
	switch has, knows, err := p.GetVersions(ctx); {
	case err != nil:
		return err
	case has > knows:
		return fmt.Errorf("it has form %d of a newer program; this one knows %d", has, knows)
	case has < knows:
		c.tell(fmt.Sprintf("the database has form %d of %d", has, knows), "the next start brings it up to date, and keeps a copy of it as it is")
	}
	rows, err := c.s.db.QueryxContext(ctx, `PRAGMA foreign_key_check`)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var table, parent string
		var row, link sql.NullInt64
		if err := rows.Scan(&table, &row, &parent, &link); err != nil {
			return err
		}
		c.tell(fmt.Sprintf("row %d of %s points at a row of %s that is not there", row.Int64, table, parent), "put a copy of the database back")
	}
	return rows.Err()
}

// files compares the registered audio with what is there.
func (c *checking) files(ctx context.Context) error {
	var all []struct {
		Sha   string
		Ext   string
		Bytes int64
	}
	if err := c.s.db.SelectContext(ctx, &all, `SELECT sha, ext, bytes FROM audio_files ORDER BY created`); err != nil {
		return err
	}
	for _, f := range all {
		if err := ctx.Err(); err != nil {
			return err
		}
		c.Files++
		c.known[f.Sha] = true
		name := f.Sha + "." + f.Ext
		st, err := os.Lstat(c.s.audioPath(f.Sha, f.Ext))
		if err != nil {
			c.tell("audio/"+name+" is gone", "bring the same file again")
			continue
		}
		if !st.Mode().IsRegular() { // to read a pipe or a device might never end
			c.tell("audio/"+name+" is no plain file", "remove it, and bring the same file again")
			continue
		}
		if is, err := hash(c.s.audioPath(f.Sha, f.Ext)); err != nil {
			c.tell("audio/"+name+" cannot be read: "+err.Error(), "bring the same file again")
		} else if is != f.Sha || st.Size() != f.Bytes {
			c.tell(fmt.Sprintf("audio/%s is not what was brought: %d bytes of %d, of another hash", name, st.Size(), f.Bytes), "bring the same file again")
		}
	}
	there, err := os.ReadDir(filepath.Join(c.s.dir, "audio"))
	if err != nil {
		c.tell("the folder audio cannot be read: "+err.Error(), "the next start makes it anew")
	}
	for _, f := range there {
		if sha, _, _ := strings.Cut(f.Name(), "."); !c.known[sha] || f.Name() != sha+".wav" {
			c.tell("audio/"+f.Name()+" belongs to nothing", "a start removes it when it is a day old")
		}
	}
	var facts []struct{ Sha, Body string }
	if err := c.s.db.SelectContext(ctx, &facts, `SELECT sha, body FROM facts`); err != nil {
		return err
	}
	for _, f := range facts {
		if !json.Valid([]byte(f.Body)) {
			c.tell("the facts of "+f.Sha+" are damaged", "it is measured anew when a page asks for it")
		}
	}
	return nil
}

// songs reads every revision of every song.
func (c *checking) songs(ctx context.Context) error {
	var songs []struct {
		ID, Name string
		Head     int64
	}
	if err := c.s.db.SelectContext(ctx, &songs, `SELECT id, name, head FROM songs ORDER BY created`); err != nil {
		return err
	}
	for _, song := range songs {
		c.Songs++
		var all []Revision
		if err := c.s.db.SelectContext(ctx, &all, `SELECT id, parent, summary, body, created FROM revisions WHERE song_id = ? ORDER BY id`, song.ID); err != nil {
			return err
		}
		c.song(song.Name, song.Head, all)
	}
	return nil
}

// song reads the revisions of one.
func (c *checking) song(name string, head int64, all []Revision) {
	ids := map[int64]bool{}
	for _, r := range all {
		c.Revisions++
		of := fmt.Sprintf("“%s”, revision %d", name, r.ID)
		if r.Parent.Valid && !ids[r.Parent.Int64] {
			c.tell(of+": the one before it is not there", "put a copy of the database back; undo ends there")
		}
		ids[r.ID] = true
		song, err := session.Read([]byte(r.Body))
		if err != nil {
			c.tell(of+" cannot be read: "+err.Error(), "undo to the one before it, or put a copy of the database back")
			continue
		}
		for _, sha := range song.Files() {
			if !c.known[sha] {
				c.tell(of+": the file "+sha+" is not registered", "bring the same file again")
			}
		}
	}
	if !ids[head] {
		c.tell(fmt.Sprintf("“%s”: the revision at its head, %d, is not there", name, head), "put a copy of the database back")
	}
}

// takes looks at what each take points at.
func (c *checking) takes(ctx context.Context) error {
	var all []struct {
		Name, Numbers, Song, Of string
	}
	err := c.s.db.SelectContext(ctx, &all, `SELECT t.name, t.numbers, t.song_id AS song, r.song_id AS "of" FROM takes t JOIN revisions r ON r.id = t.revision_id`)
	for _, t := range all {
		c.Takes++
		if t.Song != t.Of {
			c.tell("the take “"+t.Name+"” points into another song", "put a copy of the database back")
		}
		if !json.Valid([]byte(t.Numbers)) {
			c.tell("the figures of the take “"+t.Name+"” are damaged", "return to it and save it anew")
		}
	}
	return err
}
