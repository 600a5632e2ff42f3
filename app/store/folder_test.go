package store

import (
	"database/sql"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mellowthump/core/session"
)

// A folder belongs to one program at a time: the second says who has it and where, and touches nothing; when the first
// has ended, it may.
func TestOneProgramAFolder(t *testing.T) {
	dir := t.TempDir()
	first, err := Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := first.ServedAt("http://127.0.0.1:8808/"); err != nil {
		t.Fatal(err)
	}
	in, err := first.Incoming(strings.NewReader("an upload"), 100)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Open(ctx, dir); err == nil || !strings.Contains(err.Error(), "in use by another Mellow Thump (process ") ||
		!strings.Contains(err.Error(), "http://127.0.0.1:8808/") {
		t.Errorf("the second says %v", err)
	}
	if _, err := first.HashIncoming(in); err != nil {
		t.Error("the second took the first one's upload away")
	}
	first.Close()
	again, err := Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	again.Close()
}

// What is in a data folder is for its owner alone.
func TestFolderIsTheOwners(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "data")
	s := open(t, dir)
	create(t, s)
	filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			t.Fatal(err)
		}
		info, err := d.Info()
		if err != nil {
			t.Fatal(err)
		}
		if mode := info.Mode().Perm(); mode&0o077 != 0 {
			t.Errorf("%s is %v", path, mode)
		}
		return nil
	})
}

// At a change of its form the database as it was is kept; one of a newer program, and a damaged one, are left alone and
// told of.
func TestForms(t *testing.T) {
	s, id := old(t)
	dir := s.dir
	kept := filepath.Join(dir, "mellowthump.db.before-7")
	db, err := sql.Open("sqlite", "file:"+kept)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	n := 0
	if err := db.QueryRow(`SELECT count(*) FROM revisions WHERE song_id = ?`, id).Scan(&n); err != nil || n != 5 {
		t.Errorf("the copy holds %d revisions, %v", n, err)
	}
	if err := db.QueryRow(`SELECT starts FROM jobs`).Scan(&n); err == nil || !strings.Contains(err.Error(), "starts") {
		t.Errorf("the copy is not of the old form: %v", err)
	}
	if _, err := s.db.Exec(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (999, 1)`); err != nil {
		t.Fatal(err)
	}
	s.Close()
	before, _ := os.ReadFile(filepath.Join(dir, "mellowthump.db"))
	if _, err := Open(ctx, dir); err == nil || !strings.Contains(err.Error(), "newer Mellow Thump") {
		t.Errorf("a newer one says %v", err)
	}
	if after, _ := os.ReadFile(filepath.Join(dir, "mellowthump.db")); len(after) != len(before) {
		t.Error("a newer one was changed")
	}
	broken := t.TempDir()
	if err := os.WriteFile(filepath.Join(broken, "mellowthump.db"), []byte(strings.Repeat("no database ", 1000)), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(ctx, broken); err == nil || !strings.Contains(err.Error(), "is damaged, or no database") {
		t.Errorf("a damaged one says %v", err)
	}
}

// An import's edit and its job's end are stored together, or neither is.
func TestEditDone(t *testing.T) {
	s := open(t, t.TempDir())
	id := create(t, s)
	job, err := s.AddJob(ctx, Job{SongID: id, Kind: "import", State: Queued})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.StartJob(ctx, job); err != nil {
		t.Fatal(err)
	}
	if err := s.EditDone(ctx, id, AnyRevision, session.Attach{Stem: "nobody"}, job); err == nil {
		t.Error("a stem that is not there is taken")
	}
	if j, _ := s.Job(ctx, job); j.State != Running || j.Starts != 1 {
		t.Errorf("after a refusal the job is %s, started %d times", j.State, j.Starts)
	}
	if err := s.EditDone(ctx, id, AnyRevision, session.Settings{Key: ptr("A")}, job); err != nil {
		t.Fatal(err)
	}
	if j, _ := s.Job(ctx, job); j.State != Done || keyOf(t, s, id) != "A" {
		t.Errorf("the job is %s, the key %q", j.State, keyOf(t, s, id))
	}
}
