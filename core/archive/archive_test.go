package archive

import (
	"archive/zip"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"mellowthump/core/session"
)

// packed is a song with two stems of one file and a finished track, as an archive.
func packed(t *testing.T) (body []byte, song session.Song, files map[string]string) {
	t.Helper()
	files = map[string]string{}
	add := func(content string) string {
		sum := sha256.Sum256([]byte(content))
		sha := hex.EncodeToString(sum[:])
		files[sha] = content
		return sha
	}
	a, b := add("one sound"), add("another")
	song = session.New("Low Tide", 140)
	song.Rate = 48000
	song.Stems = []session.Stem{{ID: "s1", Name: "Kick", Role: session.Kick, Audio: a}, {ID: "s2", Name: "Kick again", Role: session.Kick, Audio: a}}
	song.References = []session.Reference{{ID: "r1", Name: "Other", Audio: b}}
	var w bytes.Buffer
	if err := Write(context.Background(), &w, &song, nil, func(sha string) (io.ReadCloser, error) {
		return io.NopCloser(strings.NewReader(files[sha])),
			nil
	}); err != nil {
		t.Fatal(err)
	}
	return w.Bytes(), song, files
}

// What is packed is what is unpacked: the song, and every file of it, each once.
func TestThereAndBack(t *testing.T) {
	body, song, files := packed(t)
	a, err := Open(bytes.NewReader(body), int64(len(body)))
	if err != nil {
		t.Fatal(err)
	}
	x, _ := json.Marshal(song)
	y, _ := json.Marshal(a.Song)
	if !bytes.Equal(x, y) {
		t.Errorf("%s\n%s", x, y)
	}
	if len(a.audio) != 2 {
		t.Errorf("%d files", len(a.audio))
	}
	for sha, content := range files {
		var w bytes.Buffer
		if err := a.Copy(context.Background(), &w, sha); err != nil || w.String() != content {
			t.Errorf("%q %v", w.String(), err)
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if err := a.Copy(ctx, io.Discard, song.Stems[0].Audio); !errors.Is(err, context.Canceled) {
		t.Errorf("it goes on: %v", err)
	}
	if a.Copy(context.Background(), io.Discard, strings.Repeat("0", 64)) == nil {
		t.Error("a file that is not there is read")
	}
	if err := Write(context.Background(), io.Discard, &song, nil, func(string) (io.ReadCloser, error) { return nil, errors.New("gone") }); err == nil ||
		!strings.Contains(err.Error(), "gone") {
		t.Errorf("audio that is gone: %v", err)
	}
}

// Bad archives are refused in a sentence: no zip, no song, a later form, missing and changed audio, names that lead elsewhere,
// entries that do not belong, twice, too many, and bombs.
func TestBadArchives(t *testing.T) {
	_, song, files := packed(t)
	plain, _ := json.Marshal(song)
	sha := song.Stems[0].Audio
	make := func(f func(z *zip.Writer)) []byte {
		var w bytes.Buffer
		z := zip.NewWriter(&w)
		f(z)
		z.Close()
		return w.Bytes()
	}
	put := func(z *zip.Writer, name, body string) {
		w, err := z.Create(name)
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, body)
	}
	whole := func(z *zip.Writer) {
		put(z, "session.json", string(plain))
		for sha, content := range files {
			put(z, "audio/"+sha+".wav", content)
		}
	}
	for name, c := range map[string]struct {
		body []byte
		say  string
	}{
		"nothing": {nil, "cannot be read as a zip"},
		"no zip":  {[]byte("RIFFnot a zip at all"), "cannot be read as a zip"},
		"empty":   {make(func(*zip.Writer) {}), "holds no session.json"},
		"no song": {make(func(z *zip.Writer) { put(z, "session.json", "{") }), "session.json"},
		"later": {make(func(z *zip.Writer) {
			put(z, "session.json", strings.Replace(string(plain), `"format":3`, `"format":99`, 1))
		}), "session.json"},
		"a history of a later form":  {make(func(z *zip.Writer) { whole(z); put(z, historyName, `{"format":2}`) }), "history.json: it has form 2"},
		"a history without its head": {make(func(z *zip.Writer) { whole(z); put(z, historyName, `{"format":1,"head":7}`) }), "the revision 7, which is not there"},
		"a history in a circle": {make(func(z *zip.Writer) {
			whole(z)
			put(z, historyName, `{"format":1,"head":1,"revisions":[{"id":1,"parent":2,"song":`+string(plain)+`},{"id":2,"parent":1,"song":`+string(plain)+`}]}`)
		}), "the revision 1 stands before the one that it follows"},
		"a take of nothing": {make(func(z *zip.Writer) {
			whole(z)
			put(z, historyName, `{"format":1,"head":1,"revisions":[{"id":1,"song":`+string(plain)+`}],"takes":[{"revision":3,"name":"lost"}]}`)
		}), "the take “lost” points at the revision 3"},
		"a change that is no song": {make(func(z *zip.Writer) {
			whole(z)
			put(z, historyName, `{"format":1,"head":1,"revisions":[{"id":1,"song":{"format":99}}]}`)
		}), "history.json: the revision 1"},
		"missing audio": {make(func(z *zip.Writer) { put(z, "session.json", string(plain)) }), "is not in it"},
		"slip":          {make(func(z *zip.Writer) { whole(z); put(z, "../../evil.wav", "x") }), "does not belong"},
		"absolute":      {make(func(z *zip.Writer) { whole(z); put(z, "/etc/passwd", "x") }), "does not belong"},
		"backslash":     {make(func(z *zip.Writer) { whole(z); put(z, `audio\..\x.wav`, "x") }), "does not belong"},
		"twice":         {make(func(z *zip.Writer) { whole(z); put(z, "session.json", string(plain)) }), "does not belong"},
		"other":         {make(func(z *zip.Writer) { whole(z); put(z, "run.sh", "x") }), "does not belong"},
		"many": {make(func(z *zip.Writer) {
			for i := range 10000 {
				put(z, fmt.Sprintf("audio/%064x.wav", i), "")
			}
		}), "10000 entries"},
		"bomb": {make(func(z *zip.Writer) { put(z, "session.json", strings.Repeat(" ", MostSession+10)) }), "larger than 32 MiB"},
	} {
		if _, err := Open(bytes.NewReader(c.body), int64(len(c.body))); err == nil || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%s: %v", name, err)
		}
	}
	body := make(func(z *zip.Writer) {
		put(z, "session.json", string(plain))
		for k, content := range files {
			if k == sha {
				content = "changed"
			}
			put(z, "audio/"+k+".wav", content)
		}
	})
	a, err := Open(bytes.NewReader(body), int64(len(body)))
	if err != nil {
		t.Fatal(err)
	}
	if err := a.Copy(context.Background(), io.Discard, sha); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("changed audio: %v", err)
	}
}

// No archive, whatever is in it, ends in a panic or is read without its limits.
func FuzzOpen(f *testing.F) {
	f.Add([]byte("PK\x03\x04"))
	var w bytes.Buffer
	z := zip.NewWriter(&w)
	out, _ := z.Create("session.json")
	io.WriteString(out, `{"format":2,"name":"x","bpm":120}`)
	z.Close()
	f.Add(w.Bytes())
	f.Fuzz(func(t *testing.T, body []byte) {
		a, err := Open(bytes.NewReader(body), int64(len(body)))
		if err != nil {
			return
		}
		for sha := range a.audio {
			a.Copy(context.Background(), io.Discard, sha)
		}
	})
}
