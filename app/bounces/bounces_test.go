package bounces

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
)

// sound is a WAV of so many frames.
func sound(frames int) []byte {
	var b strings.Builder
	if err := wav.Write(&b, audio.New(44100, 1, frames), wav.Int24); err != nil {
		panic(err)
	}
	return []byte(b.String())
}

// clock is a folder that is looked at as time passes.
type clock struct {
	*testing.T
	*Folder
	now time.Time
}

func begin(t *testing.T) *clock {
	return &clock{t, Watch(t.TempDir(), nil), time.Now()}
}

// after looks every half a second for so long, takes what is complete, and returns the names.
func (c *clock) after(d time.Duration) (taken, coming []string) {
	c.Helper()
	for end := c.now.Add(d); c.now.Before(end); {
		c.now = c.now.Add(Every)
		complete, still, err := c.Look(c.now)
		if err != nil {
			c.Fatal(err)
		}
		coming = nil
		for _, f := range still {
			coming = append(coming, f.Name)
		}
		for _, f := range complete {
			if err := c.Copy(f, func(r io.Reader) error { _, err := io.Copy(io.Discard, r); return err }); err != nil {
				c.Fatal(err)
			}
			c.Took(f)
			taken = append(taken, f.Name)
		}
	}
	return taken, coming
}

func (c *clock) write(name string, b []byte, mod int) {
	c.Helper()
	path := filepath.Join(c.Path, name)
	if err := os.WriteFile(path, b, 0o600); err != nil {
		c.Fatal(err)
	}
	at := time.Unix(1e9+int64(mod), 0)
	if err := os.Chtimes(path, at, at); err != nil {
		c.Fatal(err)
	}
}

func (c *clock) want(what string, got, want []string) {
	c.Helper()
	if !slices.Equal(got, want) {
		c.Errorf("%s: %q, not %q", what, got, want)
	}
}

// A file is taken once it stays as it is, not while it grows, not while its header promises more; again when it changes, when it
// is replaced by a temporary file, when it is renamed; what goes is forgotten, and what is no sound is never looked at.
func TestFolder(t *testing.T) {
	c := begin(t)
	whole := sound(4000)
	taken, coming := c.after(2 * time.Second)
	c.want("nothing there", append(taken, coming...), nil)

	for i, part := range []int{1000, 2000, 5000, 9000} { // it grows
		c.write("808.wav", whole[:part], i)
		taken, coming = c.after(time.Second)
		c.want("growing", taken, nil)
		c.want("growing", coming, []string{"808.wav"})
	}
	taken, _ = c.after(5 * time.Second) // it rests, and its header promises more
	c.want("not whole", taken, nil)
	c.write("808.wav", whole, 10)
	taken, coming = c.after(time.Second)
	c.want("fresh", taken, nil)
	c.want("fresh", coming, []string{"808.wav"})
	taken, _ = c.after(time.Second)
	c.want("at rest", taken, []string{"808.wav"})
	taken, coming = c.after(5 * time.Second)
	c.want("as it was", append(taken, coming...), nil)

	c.write("808.wav", whole, 20) // the same again: its time is another
	taken, _ = c.after(3 * time.Second)
	c.want("written anew", taken, []string{"808.wav"})

	c.write("808.wav.tmp", sound(5000), 30) // replaced by a temporary file
	taken, coming = c.after(3 * time.Second)
	c.want("temporary", append(taken, coming...), nil)
	if err := os.Rename(filepath.Join(c.Path, "808.wav.tmp"), filepath.Join(c.Path, "808.wav")); err != nil {
		t.Fatal(err)
	}
	taken, _ = c.after(3 * time.Second)
	c.want("replaced", taken, []string{"808.wav"})

	if err := os.Rename(filepath.Join(c.Path, "808.wav"), filepath.Join(c.Path, "bass.wav")); err != nil {
		t.Fatal(err)
	}
	taken, _ = c.after(3 * time.Second)
	c.want("renamed", taken, []string{"bass.wav"})

	c.write("kick.wav", whole, 40)
	c.after(time.Second)
	if err := os.Remove(filepath.Join(c.Path, "kick.wav")); err != nil { // gone before it rests
		t.Fatal(err)
	}
	taken, coming = c.after(5 * time.Second)
	c.want("deleted", append(taken, coming...), nil)

	c.write(".hidden.wav", whole, 50)
	c.write("notes.txt", whole, 50)
	c.write("empty.wav", nil, 50)
	if err := os.Mkdir(filepath.Join(c.Path, "more.wav"), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join(c.Path, "bass.wav"), filepath.Join(c.Path, "link.wav")); err != nil {
		t.Fatal(err)
	}
	taken, coming = c.after(5 * time.Second)
	c.want("no sounds", taken, nil)
	c.want("empty", coming, []string{"empty.wav"})
	c.write("broken.wav", whole[:3000], 60)
	taken, _ = c.after(Unfinished + time.Second)
	slices.Sort(taken)
	c.want("never whole: it is taken, and said to be broken", taken, []string{"broken.wav", "empty.wav"})
}

// What is there when the watching begins is known; a folder that is gone says so, and one that comes back goes on.
func TestKnownAndGone(t *testing.T) {
	c := begin(t)
	c.write("808.wav", sound(100), 1)
	files, err := Files(c.Path)
	if err != nil || len(files) != 1 {
		t.Fatal(err, files)
	}
	c.Folder = Watch(c.Path, files)
	taken, coming := c.after(5 * time.Second)
	c.want("known", append(taken, coming...), nil)
	c.Drop("808.wav")
	taken, _ = c.after(5 * time.Second)
	c.want("looked at after all", taken, []string{"808.wav"})
	away := c.Path + "-away"
	if err := os.Rename(c.Path, away); err != nil {
		t.Fatal(err)
	}
	if _, _, err := c.Look(c.now); err == nil {
		t.Error("a folder that is gone is read")
	}
	if err := os.Rename(away, c.Path); err != nil {
		t.Fatal(err)
	}
	c.write("808.wav", sound(200), 2)
	taken, _ = c.after(5 * time.Second)
	c.want("back", taken, []string{"808.wav"})
}

// A file that changes while it is copied is refused.
func TestCopy(t *testing.T) {
	c := begin(t)
	c.write("808.wav", sound(100), 1)
	files, _ := Files(c.Path)
	err := c.Copy(files[0], func(io.Reader) error { c.write("808.wav", sound(101), 2); return nil })
	if !errors.Is(err, ErrChanged) {
		t.Error(err)
	}
	if err := c.Copy(files[0], func(io.Reader) error { t.Error("it is read"); return nil }); !errors.Is(err, ErrChanged) {
		t.Error(err)
	}
	if err := c.Copy(File{Name: "../x.wav"}, func(io.Reader) error { return nil }); err == nil {
		t.Error("a file outside the folder is read")
	}
}

// A folder that cannot be watched is told why.
func TestCheck(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "a.wav")
	if err := os.WriteFile(file, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{dir: "", "bounces": "whole path", filepath.Join(dir, "none"): "no such folder", file: "that is a file"} {
		if err := Check(path); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", path, err)
		}
	}
}
