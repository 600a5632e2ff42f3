package web

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"mellowthump/app/demodata"
	"mellowthump/app/store"
	"mellowthump/internal/outside"
)

// A file that is gone, cut or changed: all pages work, the stem says so, and the same file mends it.
func TestDamagedAudio(t *testing.T) {
	outside.Slow(t)
	b := newBench(t)
	if err := demodata.Load(t.Context(), b.server.Store); err != nil {
		t.Fatal(err)
	}
	songs, err := b.server.Store.Songs(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	id := songs[0].ID
	st := b.load(id).Stems[0]
	path := filepath.Join(b.dir, "audio", st.Audio+".wav")
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	peak := func() string {
		_, page := b.do("GET", "/songs/"+id+"/levels", nil)
		_, after, _ := strings.Cut(page, `id="premaster-peak">`)
		figure, _, _ := strings.Cut(after, "<")
		return figure
	}
	sound := peak()
	for _, c := range []struct {
		what, say string
		damage    func() error
	}{
		{"gone", "gone from the data folder", func() error { return nil }},
		{"cut", "cut short", func() error { return os.WriteFile(path, whole[:len(whole)/2], 0o600) }},
		{"its head cut", "cut short", func() error { return os.WriteFile(path, whole[:20], 0o600) }},
		{"changed", "not what was brought", func() error {
			other := append([]byte{}, whole...)
			other[len(other)/2] ^= 0x40
			if err := os.WriteFile(path, other, 0o600); err != nil {
				return err
			}
			later := time.Now().Add(time.Minute) // than it was brought again
			return os.Chtimes(path, later, later)
		}},
		{"longer", "not what was brought", func() error { return os.WriteFile(path, append(whole, 1), 0o600) }},
		{"gone, with all that was known of it", "gone from the data folder", func() error { return b.server.Store.Forget(t.Context(), st.Audio) }},
	} {
		os.Remove(path) // what stands there may be one file with an upload
		if err := c.damage(); err != nil {
			t.Fatal(err)
		}
		b.restart()
		for _, path := range []string{"/intake", "/levels", "/pocket", "/duck", "/room", "/log", "/deck/data", "/marks"} {
			if status, body := b.do("GET", "/songs/"+id+path, nil); status != 200 {
				t.Errorf("%s: %s answers %d: %.200s", c.what, path, status, body[strings.Index(body, "<main")+1:])
			} else if path == "/intake" && !strings.Contains(body, "Its audio file is "+c.say) {
				t.Errorf("%s: the stem does not say that it is %s", c.what, c.say)
			}
		}
		if silent := peak(); silent == sound {
			t.Errorf("%s: the peak is still %s", c.what, silent)
		}
		rev := b.load(id).Rev
		if failed := b.send(id, file{"again.wav", whole}); len(failed) > 0 {
			t.Fatalf("%s: %v", c.what, failed)
		}
		if is, err := os.ReadFile(path); err != nil || string(is) != string(whole) {
			t.Errorf("%s: it is not mended: %d bytes, %v", c.what, len(is), err)
		}
		if now := b.load(id); now.Rev != rev || len(now.Stems) != 12 {
			t.Errorf("%s: mending changed the song: %d stems", c.what, len(now.Stems))
		}
		if _, page := b.do("GET", "/songs/"+id+"/intake", nil); strings.Contains(page, "Its audio file is") {
			t.Errorf("%s: it is still said to be damaged", c.what)
		}
		if again := peak(); again != sound {
			t.Errorf("%s: the peak was %s and is %s", c.what, sound, again)
		}
	}
}

// Files among the audio that nothing knows of are removed when they are a day old; what is known stays.
func TestSweep(t *testing.T) {
	b := newBench(t)
	id := b.song()
	kick, _ := beat()
	b.send(id, file{"kick.wav", asWAV(kick)})
	dir := filepath.Join(b.dir, "audio")
	old := time.Now().Add(-25 * time.Hour)
	for name, at := range map[string]time.Time{"left.wav": old, "left.wav.new": old, "fresh.wav": time.Now(), b.load(id).Stems[0].Audio + ".wav": old} {
		f, err := os.OpenFile(filepath.Join(dir, name), os.O_CREATE|os.O_WRONLY, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		f.Close()
		os.Chtimes(filepath.Join(dir, name), at, at)
	}
	swept, err := b.server.Store.SweepAudio(t.Context())
	if err != nil || strings.Join(swept, " ") != "left.wav left.wav.new" {
		t.Errorf("swept %v, %v", swept, err)
	}
	if left, _ := os.ReadDir(dir); len(left) != 2 {
		t.Errorf("left are %v", left)
	}
}

// restart stops the server and starts it over its folder.
func (b *bench) restart() {
	b.Helper()
	b.server.Pool.Close()
	b.server.Store.Close()
	st, err := store.Open(b.Context(), b.dir)
	if err != nil {
		b.Fatal(err)
	}
	if b.server, err = New(st, local(b.at.Listener.Addr())); err != nil {
		b.Fatal(err)
	}
	b.at.Config.Handler = b.server
}
