// Package bounces watches a folder into which another program bounces stems. It tells which files are new or have changed and are
// complete. It looks and copies, and never writes there.
package bounces

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"mellowthump/core/audio/wav"
)

const (
	// Every is the time between two looks.
	Every = 500 * time.Millisecond
	// Rest is how long a file has to stay as it is to count as complete.
	Rest = 1500 * time.Millisecond
	// Unfinished is how long one may stay that says of itself that more is to come.
	Unfinished = 20 * time.Second
	// Most bounds how many files of a folder are looked at.
	Most = 1000
)

// endings are those of files that hold a sound.
var endings = []string{".wav", ".wave", ".bwf", ".rf64", ".flac", ".aif", ".aiff", ".mp3", ".ogg"}

// File is a file as it stands.
type File struct {
	Name string
	Size int64
	Mod  time.Time
}

func (f File) as(o File) bool { return f.Size == o.Size && f.Mod.Equal(o.Mod) }

// Folder is one that is watched.
type Folder struct {
	Path    string
	known   map[string]File // as they were taken
	resting map[string]rest // what changed, and since when it stays as it is
}

type rest struct {
	File
	since time.Time
}

// Watch watches a folder of which some files are known.
func Watch(path string, known []File) *Folder {
	f := &Folder{Path: path, known: map[string]File{}, resting: map[string]rest{}}
	for _, k := range known {
		f.known[k.Name] = k
	}
	return f
}

// Check says in a sentence why a folder cannot be watched.
func Check(path string) error {
	if !filepath.IsAbs(path) {
		return errors.New("type the whole path of the folder, from the root on")
	}
	st, err := os.Stat(path)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return errors.New("there is no such folder on this machine")
	case err != nil:
		return fmt.Errorf("the folder cannot be looked at: %s", plain(err))
	case !st.IsDir():
		return errors.New("that is a file; name the folder that it is in")
	}
	if _, err := os.ReadDir(path); err != nil {
		return fmt.Errorf("the folder cannot be read: %s", plain(err))
	}
	return nil
}

// plain is what the system says, without the path.
func plain(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// Unread says in a sentence why a file of a folder cannot be read.
func Unread(err error) string { return "it cannot be read: " + plain(err) }

// Why says in a sentence why a folder that was named cannot be read.
func Why(err error) string {
	if errors.Is(err, fs.ErrNotExist) {
		return "the folder is not there; when it comes back, the watching goes on"
	}
	return "the folder cannot be read: " + plain(err)
}

// Files lists what of a folder holds a sound: plain files there, none that is hidden, no links, no folders.
func Files(path string) ([]File, error) {
	dir, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	entries, err := dir.ReadDir(Most)
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, err
	}
	var out []File
	for _, e := range entries {
		if !e.Type().IsRegular() || strings.HasPrefix(e.Name(), ".") || !slices.Contains(endings, strings.ToLower(filepath.Ext(e.Name()))) {
			continue
		}
		info, err := e.Info()
		if err != nil { // it is gone meanwhile
			continue
		}
		out = append(out, File{e.Name(), info.Size(), info.ModTime()})
	}
	return out, nil
}

// Look tells at a time which files are complete, and which are still being written. What is gone is forgotten, so that it is
// taken when it comes again as another.
func (f *Folder) Look(now time.Time) (complete, coming []File, err error) {
	files, err := Files(f.Path)
	if err != nil {
		return nil, nil, err
	}
	there := map[string]bool{}
	for _, file := range files {
		there[file.Name] = true
		if k, known := f.known[file.Name]; known && k.as(file) {
			delete(f.resting, file.Name)
			continue
		}
		r, seen := f.resting[file.Name]
		if !seen || !r.as(file) {
			r = rest{file, now}
			f.resting[file.Name] = r
		}
		switch still := now.Sub(r.since); {
		case still < Rest, file.Size == 0 && still < Unfinished, still < Unfinished && !f.whole(file.Name):
			coming = append(coming, file)
		default:
			complete = append(complete, file)
		}
	}
	for name := range f.resting {
		if !there[name] {
			delete(f.resting, name)
		}
	}
	return complete, coming, nil
}

// Took notes that a file was taken as it stood.
func (f *Folder) Took(file File) {
	f.known[file.Name] = file
	delete(f.resting, file.Name)
}

// Drop forgets that a file was taken: it is looked at as one that is new.
func (f *Folder) Drop(name string) { delete(f.known, name) }

// whole reports whether a WAV holds all that its header promises. Of other kinds it is not known.
func (f *Folder) whole(name string) bool {
	r, err := os.OpenInRoot(f.Path, name)
	if err != nil {
		return false
	}
	defer r.Close()
	st, err := r.Stat()
	if err != nil {
		return false
	}
	if !wav.Is(r) {
		return !slices.Contains(endings[:4], strings.ToLower(filepath.Ext(name)))
	}
	_, err = wav.NewReader(r, st.Size())
	return err == nil
}

// ErrChanged says that a file changed while it was copied.
var ErrChanged = errors.New("the file changed while it was read")

// Copy gives a file's content to copy, and refuses it where the file is not, before and after, as it was when it was looked at.
func (f *Folder) Copy(file File, copy func(io.Reader) error) error {
	r, err := os.OpenInRoot(f.Path, file.Name)
	if err != nil {
		return err
	}
	defer r.Close()
	same := func() error {
		st, err := r.Stat()
		if err == nil && (!st.Mode().IsRegular() || !file.as(File{file.Name, st.Size(), st.ModTime()})) {
			err = ErrChanged
		}
		return err
	}
	if err := same(); err != nil {
		return err
	}
	if err := copy(r); err != nil {
		return err
	}
	return same()
}
