package store

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mellowthump/core/audio/wav"
	"mellowthump/core/intake"
	"mellowthump/core/session"
)

// A whole folder is said to be whole; each thing that is broken in it is told with what mends it, and nothing is changed.
func TestCheck(t *testing.T) {
	whole := t.TempDir()
	s := open(t, whole)
	id := create(t, s)
	file, sha := tone(t)
	in, err := s.Incoming(bytes.NewReader(file), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	src, _ := wav.NewReader(bytes.NewReader(file), int64(len(file)))
	a, err := intake.Analyse(ctx, src, "x", nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Register(ctx, in, sha, a); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Edit(ctx, id, AnyRevision, session.AddStem{File: "x.wav", Audio: sha, Rate: 44100, Role: session.Kick}); err != nil {
		t.Fatal(err)
	}
	head, err := s.Head(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.SaveTake(ctx, id, head, "one", "", map[string]int{}); err != nil {
		t.Fatal(err)
	}
	if _, err := Check(ctx, whole); err == nil || !strings.Contains(err.Error(), "in use") {
		t.Errorf("a folder in use: %v", err)
	}
	s.DropIncoming(in)
	s.Close()
	if r, err := Check(ctx, whole); err != nil || len(r.Troubles) != 0 || r.Songs != 1 || r.Revisions != 2 || r.Takes != 1 || r.Files != 1 {
		t.Fatalf("whole: %+v, %v", r, err)
	}
	for _, c := range []struct{ what, sql, path, say string }{
		{what: "a byte of audio", path: "audio/" + sha + ".wav", say: "is not what was brought"},
		{what: "a file of nobody's", path: "audio/other.wav", say: "belongs to nothing"},
		{what: "a revision", sql: `UPDATE revisions SET body = '{' WHERE id = 2`, say: "cannot be read"},
		{what: "a head", sql: `UPDATE songs SET head = 77`, say: "the revision at its head, 77, is not there"},
		{what: "a parent", sql: `PRAGMA foreign_keys = 0; UPDATE revisions SET parent = 77 WHERE id = 2`, say: "the one before it is not there"},
		{what: "a link", sql: `PRAGMA foreign_keys = 0; UPDATE takes SET revision_id = 77`, say: "points at a row of revisions"},
		{what: "a registration", sql: `PRAGMA foreign_keys = 0; DELETE FROM audio_files`, say: "is not registered"},
		{what: "figures", sql: `UPDATE takes SET numbers = '{'`, say: "the figures of the take"},
		{what: "facts", sql: `UPDATE facts SET body = 'x'`, say: "the facts of"},
		{what: "the database", path: dbName, say: "cannot be read further"},
	} {
		dir := filepath.Join(t.TempDir(), "copy")
		if err := os.CopyFS(dir, os.DirFS(whole)); err != nil {
			t.Fatal(err)
		}
		if c.sql != "" {
			db, err := connect(filepath.Join(dir, dbName), "")
			if err != nil {
				t.Fatal(err)
			}
			db.SetMaxOpenConns(1)
			if _, err := db.Exec(c.sql); err != nil {
				t.Fatalf("%s: %v", c.what, err)
			}
			db.Close()
		} else {
			f, err := os.OpenFile(filepath.Join(dir, c.path), os.O_CREATE|os.O_RDWR, 0o600)
			if err != nil {
				t.Fatal(err)
			}
			f.WriteAt(bytes.Repeat([]byte("#"), 3000), 2)
			f.Close()
		}
		r, err := Check(ctx, dir)
		if err != nil {
			t.Errorf("%s: %v", c.what, err)
			continue
		}
		told := ""
		for _, x := range r.Troubles {
			if x.Mend == "" {
				t.Errorf("%s: no word of what mends %q", c.what, x.What)
			}
			told += x.What + "\n"
		}
		if !strings.Contains(told, c.say) {
			t.Errorf("%s: no word of %q in %q", c.what, c.say, told)
		}
		if again, err := Check(ctx, dir); err != nil || len(again.Troubles) != len(r.Troubles) {
			t.Errorf("%s: looking changed something: %+v", c.what, again)
		}
	}
}
