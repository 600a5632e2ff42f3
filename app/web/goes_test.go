package web

import (
	"archive/zip"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"fmt"
	"io"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/core/dsp"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// printed prints something of a song and returns the files by name.
func (b *bench) printed(id string, what ...string) map[string]string {
	b.Helper()
	if status, page := b.edit(id, "/print/goes", url.Values{"what": what, "form": {"wav32"}}); status != 200 {
		b.Fatalf("%d %.300s", status, page)
	}
	var at []string
	for range 600 {
		page := b.get("/songs/" + id + "/print/goes")
		if at = regexp.MustCompile(`href="([^"]*/print/goes/\d+)"`).FindStringSubmatch(page); at != nil {
			break
		}
		if strings.Contains(page, `id="goes-failed"`) {
			b.Fatalf("%.400s", page)
		}
		<-time.After(20 * time.Millisecond) // between two looks at the job
	}
	if at == nil {
		b.Fatal("it never ends")
	}
	body := b.get(at[1])
	z, err := zip.NewReader(strings.NewReader(body), int64(len(body)))
	if err != nil {
		b.Fatal(err)
	}
	out := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			b.Fatal(err)
		}
		data, err := io.ReadAll(r)
		if err != nil {
			b.Fatal(err)
		}
		out[f.Name] = string(data)
	}
	return out
}

// What goes out in one job: an untouched song prints the sum of its files to -120 dBFS; its stems sum to the premaster; the
// mix is what the deck plays; the listening copy is under the ceiling by ffmpeg, in 16 bits; checksums are right; the sheet
// holds what is on. One at a time; bad input, another song's print and one that is gone are said.
func TestGoesOut(t *testing.T) {
	outside.Slow(t)
	b, id := ready(t)
	kick, bass := beat()
	peak := func(f func(i int) float64, n int) float64 {
		most := 0.0
		for i := range n {
			most = math.Max(most, math.Abs(f(i)))
		}
		return dsp.DB(most + 1e-12)
	}
	name := func(files map[string]string, with string) string {
		for n, body := range files {
			if strings.Contains(n, with) {
				return body
			}
		}
		t.Fatalf("no %s", with)
		return ""
	}
	files := b.printed(id, "premaster", "stems", "hits", "buses")
	x := sound(t, name(files, "premaster"))
	// the test's stems were 24-bit files
	if off := peak(func(i int) float64 { return float64(x.Ch[0][i]) - float64(kick.Ch[0][i]) - float64(bass.Ch[0][i]) }, kick.Frames()); off > -120+6 {
		t.Errorf("the premaster misses its sources by %.1f dBFS", off)
	}
	k, s := sound(t, name(files, "Kick")), sound(t, name(files, "808"))
	if off := peak(func(i int) float64 { return float64(x.Ch[0][i]) - float64(k.Ch[0][i]) - float64(s.Ch[0][i]) }, x.Frames()); off > -120 ||
		k.Frames() != x.Frames() {
		t.Errorf("the stems miss the premaster by %.1f dBFS", off)
	}
	sums := name(files, "checksums")
	if lines := strings.Count(sums, "\n"); lines != len(files)-1 {
		t.Errorf("%d checksums of %d files", lines, len(files)-1)
	}
	for n, body := range files {
		if sum := sha256.Sum256([]byte(body)); n != "checksums.sha256" && !strings.Contains(sums, hex.EncodeToString(sum[:])+"  "+n+"\n") {
			t.Errorf("the checksum of %s is not there", n)
		}
	}
	b.edit(id, "/duck/fit", url.Values{})
	b.edit(id, "/print/solve", url.Values{"school": {"limit"}, "lufs": {"-12"}, "ceiling": {"-1"}})
	if page := b.get("/songs/" + id + "/print/goes"); !strings.Contains(page, "the song has changed since") {
		t.Errorf("%.300s", page)
	}
	files = b.printed(id, "mix", "copy", "sheet")
	if len(files) != 5 {
		t.Errorf("%d files", len(files))
	}
	_, after := sides(t, b.get("/songs/"+id+"/deck/data?solo=all&loop=1-5"))
	deck, mix := sound(t, b.get(after)), sound(t, name(files, "mix"))
	from := rate // the loop begins a second in; its last 5 ms fade
	if off := peak(func(i int) float64 { return float64(deck.Ch[0][i]) - float64(mix.Ch[0][from+i]) }, deck.Frames()-rate/100); off > -100 {
		t.Errorf("the print misses what the deck plays by %.1f dBFS", off)
	}
	path := filepath.Join(t.TempDir(), "copy.wav")
	if err := os.WriteFile(path, []byte(name(files, "listening copy")), 0o600); err != nil {
		t.Fatal(err)
	}
	if is := outside.EBUR128(t, path); is.TruePeak > -1+0.1 {
		t.Errorf("the listening copy reaches %.2f dBTP", is.TruePeak)
	}
	if copy := name(files, "listening copy"); copy[34] != 16 {
		t.Errorf("%d bits", copy[34])
	}
	rows, err := csv.NewReader(strings.NewReader(name(files, "settings.csv"))).ReadAll()
	if err != nil || len(rows) < 3 || !strings.Contains(fmt.Sprint(rows), "limiter at") || !strings.Contains(fmt.Sprint(rows), "duck") {
		t.Errorf("%v %v", rows, err)
	}
	prints, err := filepath.Glob(filepath.Join(b.dir, "prints", "*"))
	if err != nil || len(prints) != 1 {
		t.Errorf("%v %v", prints, err)
	}
	for _, form := range []url.Values{{}, {"what": {"everything"}}, {"what": {"mix"}, "form": {"mp9"}}} {
		if status, page := b.edit(id, "/print/goes", form); status != 422 || !strings.Contains(page, `id="goes-wrong"`) {
			t.Errorf("%v: %d", form, status)
		}
	}
	other := b.song()
	if status, _ := b.edit(other, "/print/goes", url.Values{"what": {"mix"}}); status != 422 {
		t.Errorf("an empty song: %d", status)
	}
	at := regexp.MustCompile(`/print/goes/(\d+)`).FindStringSubmatch(b.get("/songs/" + id + "/print/goes"))
	if at == nil {
		t.Fatal("no print")
	}
	if status, _ := b.do("GET", "/songs/"+other+at[0], nil); status != 404 {
		t.Errorf("another song's print: %d", status)
	}
	if err := os.Remove(prints[0]); err != nil {
		t.Fatal(err)
	}
	if status, _ := b.do("GET", "/songs/"+id+at[0], nil); status != 404 {
		t.Errorf("a print that is gone: %d", status)
	}
	if page := b.get("/songs/" + id + "/print/goes"); strings.Contains(page, `id="goes-done"`) {
		t.Error("a print that is gone is offered")
	}
}

// An archive goes out and is read back on another machine: the song with its moves, and its print is the same to the bit. One
// that is dropped on a song with stems, and one that is none, are refused in a sentence, and nothing is taken from them.
func TestArchiveThereAndBack(t *testing.T) {
	outside.Slow(t)
	b, id := ready(t)
	b.edit(id, "/takes", url.Values{"name": {"as it came"}, "note": {"before the duck"}})
	before := b.load(id)
	b.edit(id, "/duck/fit", url.Values{})
	if err := b.server.Store.SetEars(t.Context(), store.Ears{Token: store.NewToken(), SongID: id, Kind: shell.BlindKind, State: store.EarsDone,
		Body: fmt.Sprintf(`{"sides":[{"rev":%d,"of":"","name":"the take"},{"rev":%d,"of":"","name":"now"}]}`, before.Rev, b.load(id).Rev)}); err != nil {
		t.Fatal(err)
	}
	files := b.printed(id, "archive", "premaster")
	z, err := zip.NewReader(strings.NewReader(files["Low Tide archive.zip"]), int64(len(files["Low Tide archive.zip"])))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range z.File {
		if age := time.Since(f.Modified); age < -time.Minute || age > time.Hour || strings.HasPrefix(f.Name, "audio/") && f.Method != zip.Store {
			t.Errorf("%s is of %v, packed by method %d", f.Name, f.Modified, f.Method)
		}
	}
	there := newBench(t)
	other := there.song()
	if jobs := there.send(other, file{"x.zip", []byte(files["Low Tide archive.zip"])}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	song, was := there.load(other), b.load(id)
	bass, of := song.ByRole(session.Bass), was.ByRole(session.Bass) // whichever came in first
	if len(song.Stems) != 2 || song.Name != was.Name || len(bass) != 1 || len(of) != 1 || len(bass[0].Moves) != len(of[0].Moves) || len(bass[0].Moves) == 0 {
		t.Errorf("%+v", song.Song)
	}
	// what it remembers came along: the take, each change, the blind test
	takes, err := there.server.Store.Takes(t.Context(), other)
	if err != nil || len(takes) != 1 || takes[0].Name != "as it came" || takes[0].Note != "before the duck" {
		t.Fatalf("%+v, %v", takes, err)
	}
	changes := there.get("/songs/" + other + "/log?view=changes")
	for _, want := range []string{"Duck", "Read the archive", "Kick"} {
		if !strings.Contains(changes, want) {
			t.Errorf("no change %q is told", want)
		}
	}
	ears, err := there.server.Store.EarsOfSong(t.Context(), other)
	if err != nil || len(ears) != 1 {
		t.Fatalf("%+v, %v", ears, err)
	}
	if was, err := there.server.Store.At(t.Context(), other, takes[0].Revision); err != nil ||
		!strings.Contains(ears[0].Body, fmt.Sprintf(`"rev":%d,`, takes[0].Revision)) &&
			!strings.Contains(ears[0].Body, fmt.Sprintf(`"rev":%d}`, takes[0].Revision)) ||
		len(was.Stems) != 2 ||
		was.ByRole(session.Bass)[0].Moves.Active() != nil {
		t.Errorf("%v: the take and the test do not point at what they did: %s, take %d", err, ears[0].Body, takes[0].Revision)
	}
	again := there.printed(other, "premaster")
	if x := again["Low Tide premaster float.wav"]; x == "" || x != files["Low Tide premaster float.wav"] {
		names := []string{}
		for n := range again {
			names = append(names, n)
		}
		t.Errorf("the print differs: %v", names)
	}
	jobs := there.send(other, file{"x.zip", []byte(files["Low Tide archive.zip"])})
	if len(jobs) != 1 || !strings.Contains(jobs[0].Message, "a song of its own") {
		t.Errorf("%+v", jobs)
	}
	empty := there.song()
	jobs = there.send(empty, file{"bad.zip", []byte("PK\x03\x04 and nothing")})
	if len(jobs) != 1 || !strings.Contains(jobs[0].Message, "no archive of a song") || len(there.load(empty).Stems) != 0 {
		t.Errorf("%+v", jobs)
	}
}

// The settings sheet is a page of what stands in the CSV, on the screen and, whole in itself, in the zip; names follow the pattern,
// and a wrong one is refused with what was typed.
func TestSheetPageAndNames(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{})
	bass := bassID(b, id)
	b.level(id, "/gain", url.Values{"of": {bass}, "step": {"clip"}, "db": {"-2.5"}})
	page := b.get("/songs/" + id + "/print/sheet")
	for _, want := range []string{"−2.5 dB", "ducks by", "/static/css/sheet.css?"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page does not say %q: %.600s", want, page)
		}
	}
	if strings.Contains(page, "<style>") || !strings.Contains(b.get("/static/css/sheet.css"), "@media print") {
		t.Error("the page brings its own style along")
	}
	files := b.printed(id, "sheet", "stems", "curves", "hits")
	var sheet string
	for name, body := range files {
		if strings.HasSuffix(name, "settings.html") {
			sheet = body
		}
	}
	if !strings.Contains(sheet, "<style>") || !strings.Contains(sheet, "−2.5 dB") || strings.Contains(sheet, "/static/") {
		t.Errorf("the file is not whole in itself: %.400s", sheet)
	}
	if len(files) != 2+1+1+2+1+1 { // stems, CSV, hits, curve and gain, page, checksums
		t.Errorf("%d files", len(files))
	}
	status, answer := b.edit(id, "/print/goes", url.Values{"what": {"mix"}, "names": {"{name} {title}"}})
	if status != 422 || !strings.Contains(answer, "{title} stands for nothing") || !strings.Contains(answer, `value="{name} {title}"`) ||
		strings.Contains(answer, `id="goes-stems" checked`) {
		t.Errorf("%d %.700s", status, answer)
	}
}
