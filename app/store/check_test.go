package store

import (
	"bytes"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"mellowthump/core/audio/wav"
	"mellowthump/core/facts"
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
	a, err := facts.Analyse(ctx, src, "x", nil)
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
		was := folderOf(t, dir)
		r, err := Check(ctx, dir)
		if err != nil {
			t.Errorf("%s: %v", c.what, err)
			continue
		}
		if is := folderOf(t, dir); is != was {
			t.Errorf("%s: looking changed the folder:\n%s\n%s", c.what, was, is)
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

// folderOf is what is in a folder: names, kinds, times, contents.
func folderOf(t *testing.T, dir string) string {
	t.Helper()
	var out strings.Builder
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || d.Name() == lockName {
			return err
		}
		st, err := d.Info()
		if err != nil {
			return err
		}
		fmt.Fprintf(&out, "%s %v %v %d", path, st.Mode(), st.ModTime(), st.Size())
		if st.Mode().IsRegular() {
			is, err := hash(path)
			if err != nil {
				return err
			}
			out.WriteString(" " + is)
		}
		out.WriteString("\n")
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out.String()
}

// What is no plain file among the audio is told and not read: a pipe and a device would never end. A database with what
// a kill left beside it is read whole, and nothing is written there.
func TestCheckReadsPlainFilesOnly(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	id := create(t, s)
	var shas []string
	for i := range 2 {
		sha := strings.Repeat(fmt.Sprint(i+1), 64)
		if _, err := s.db.Exec(`INSERT INTO audio_files (sha, ext, bytes, created) VALUES (?, 'wav', 100, ?)`, sha, now()); err != nil {
			t.Fatal(err)
		}
		shas = append(shas, sha)
	}
	if err := syscall.Mkfifo(s.audioPath(shas[0], "wav"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink("/dev/zero", s.audioPath(shas[1], "wav")); err != nil {
		t.Fatal(err)
	}
	for _, sha := range shas { // the program itself does not wait for them either
		if a, err := s.Facts(ctx, sha); err != nil || a.Damage != "no plain file" {
			t.Errorf("%v, %v", a, err)
		}
	}
	if _, err := s.Edit(ctx, id, AnyRevision, editFunc(func(s *session.Song) (string, error) { s.Name = "Ebb"; return "named", nil })); err != nil {
		t.Fatal(err)
	}
	killed := filepath.Join(t.TempDir(), "killed") // as a kill leaves it: the last edits are beside the database
	for _, sub := range []string{"audio", "incoming"} {
		if err := os.MkdirAll(filepath.Join(killed, sub), 0o700); err != nil {
			t.Fatal(err)
		}
	}
	for _, name := range []string{dbName, dbName + "-wal"} {
		if err := copyFile(filepath.Join(dir, name), filepath.Join(killed, name)); err != nil {
			t.Fatal(err)
		}
	}
	for _, sha := range shas {
		if err := os.Rename(s.audioPath(sha, "wav"), filepath.Join(killed, "audio", sha+".wav")); err != nil {
			t.Fatal(err)
		}
	}
	was := folderOf(t, killed)
	r, err := Check(ctx, killed)
	if err != nil || r.Revisions != 2 || len(r.Troubles) != 2 {
		t.Fatalf("%+v, %v", r, err)
	}
	for _, x := range r.Troubles {
		if !strings.Contains(x.What, "is no plain file") {
			t.Errorf("told: %s", x.What)
		}
	}
	if is := folderOf(t, killed); is != was {
		t.Errorf("looking changed the folder:\n%s\n%s", was, is)
	}
}
