package songs

import (
	"os"
	"sync"
	"testing"
)

// Folder is a data folder that is filled once a test program and copied for each test. The zero value is to be filled.
type Folder struct {
	once    sync.Once
	dir, id string
}

// Copy returns a copy of the folder and the song in it. fill makes both, the first time; nothing may have the folder open after that.
func (f *Folder) Copy(t *testing.T, fill func() (dir, id string)) (dir, id string) {
	t.Helper()
	f.once.Do(func() {
		from, id := fill()
		kept, err := os.MkdirTemp("", "mellowthump-test-")
		if err == nil {
			err = os.CopyFS(kept, os.DirFS(from))
		}
		if err != nil {
			t.Fatal(err)
		}
		f.dir, f.id = kept, id
	})
	if f.id == "" {
		t.Fatal("the folder could not be filled: see the test that tried it first")
	}
	dir = t.TempDir()
	if err := os.CopyFS(dir, os.DirFS(f.dir)); err != nil {
		t.Fatal(err)
	}
	return dir, f.id
}

// Remove removes it.
func (f *Folder) Remove() { os.RemoveAll(f.dir) }
