package web

import (
	"context"
	"crypto/sha256"
	"fmt"
	"math"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"mellowthump/app/bounces"
	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/session"
)

// folder is a bounce folder beside a bench.
type folder struct {
	*bench
	id, path string
	looks    chan time.Time
	now      time.Time
}

// starts lets the server work. Its folder is looked at as pass tells.
func (f *folder) starts() {
	f.Helper()
	f.looks = make(chan time.Time)
	f.server.Looks = f.looks
	if err := f.server.Start(context.Background()); err != nil {
		f.Fatal(err)
	}
}

// pass lets time pass by the folder's clock: what is looked at in it has been looked at.
func (f *folder) pass(d time.Duration) {
	for end := f.now.Add(d); f.now.Before(end); {
		f.now = f.now.Add(bounces.Every)
		f.looks <- f.now
	}
	f.looks <- f.now // is heard when the look before it is over
}

// watching is a song of kick and 808 whose folder is watched.
func watching(t *testing.T) *folder {
	t.Helper()
	b, id := ready(t)
	f := &folder{bench: b, id: id, path: t.TempDir(), now: time.Now()}
	f.starts()
	if status, page := f.name(f.path); status != 200 || !strings.Contains(page, "is watched") {
		t.Fatalf("%d %.400s", status, page)
	}
	return f
}

func (f *folder) name(path string) (int, string) {
	f.Helper()
	return f.do("POST", "/songs/"+f.id+"/bounces", url.Values{"folder": {path}}, "HX-Request", "true")
}

// page is the folder as the page shows it, without marks.
func (f *folder) page() string {
	f.Helper()
	return strings.Join(strings.Fields(regexp.MustCompile(`<[^>]*>`).ReplaceAllString(f.get("/songs/"+f.id+"/bounces"), " ")), " ")
}

// until waits until the page says something.
func (f *folder) until(says string) string {
	f.Helper()
	for end := time.Now().Add(3 * time.Minute); ; time.Sleep(20 * time.Millisecond) {
		f.pass(bounces.Every)
		page := f.page()
		if strings.Contains(page, says) {
			return page
		}
		if time.Now().After(end) {
			f.Fatalf("it never says %q: %s", says, page)
		}
	}
}

func (f *folder) write(name string, body []byte) {
	f.Helper()
	if err := os.WriteFile(filepath.Join(f.path, name), body, 0o600); err != nil {
		f.Fatal(err)
	}
}

// print is what is in the folder.
func (f *folder) print() string {
	f.Helper()
	h := sha256.New()
	entries, err := os.ReadDir(f.path)
	if err != nil {
		f.Fatal(err)
	}
	for _, e := range entries {
		info, err := e.Info()
		if err != nil {
			f.Fatal(err)
		}
		fmt.Fprintln(h, e.Name(), info.Size(), info.ModTime(), info.Mode())
	}
	return fmt.Sprintf("%x", h.Sum(nil))
}

// louder is a sound by so many dB.
func louder(b audio.Buffer, db float64) audio.Buffer {
	out := audio.New(b.Rate, len(b.Ch), b.Frames())
	for c, x := range b.Ch {
		for i, v := range x {
			out.Ch[c][i] = v * float32(dsp.Gain(db))
		}
	}
	return out
}

// A folder is named once; what is bounced into it comes in when it is complete, as its stem's new file, and is told to have
// landed, in part, or not. One undo takes it back; the next bounce goes on; nothing is ever written there.
func TestBounceFolder(t *testing.T) {
	f := watching(t)
	_, bass := beat()
	st := bassID(f.bench, f.id)
	f.level(f.id, "/gain", url.Values{"of": {st}, "step": {"clip"}, "db": {"-3"}})
	first := f.load(f.id).Stem(st).Audio

	whole := asWAV(louder(bass, -3)) // it is written slowly
	for _, part := range []float64{0.2, 0.5, 0.8} {
		f.write("808.wav", whole[:int(part*float64(len(whole)))])
		f.pass(2 * bounces.Rest)
		if page := f.page(); !strings.Contains(page, "808.wav is being written") {
			t.Errorf("while it is written: %s", page)
		}
	}
	if f.load(f.id).Stem(st).Audio != first {
		t.Fatal("half a file came in")
	}
	f.write("808.wav", whole)
	was := f.print()
	page := f.until("landed")
	if !strings.Contains(page, "gain of −3.0 dB −3.0 dB landed") {
		t.Error(page)
	}
	song := f.load(f.id)
	if now := song.Stem(st); now.Audio == first || now.Was != first || now.Clip != 0 || now.Back == nil || now.Holds != "gains" ||
		song.Undo != "Bounce of 808: landed" {
		t.Errorf("%+v, undo %q", now, song.Undo)
	}
	if f.print() != was {
		t.Error("something was written into the folder")
	}
	if status, _ := f.edit(f.id, "/undo", url.Values{}); status != 200 || f.load(f.id).Stem(st).Clip != -3 || f.load(f.id).Stem(st).Audio != first {
		t.Errorf("%d: one undo does not take it back", status)
	}
	if page := f.page(); !strings.Contains(page, "undone, or another came after it") {
		t.Error(page)
	}

	// another is put in its place by a temporary file: only a part of it
	f.write("808.tmp", asWAV(louder(bass, -1.5)))
	if err := os.Rename(filepath.Join(f.path, "808.tmp"), filepath.Join(f.path, "808.wav")); err != nil {
		t.Fatal(err)
	}
	page = f.until("partly")
	if !strings.Contains(page, "−1.5 dB 1.5 dB missing partly") {
		t.Error(page)
	}
	if now := f.load(f.id).Stem(st); math.Abs(now.Clip+1.5) > 0.05 || now.Back.Of != first { // what is missing is left here
		t.Errorf("%+v", now)
	}
	// and all of it, under another name
	if err := os.Remove(filepath.Join(f.path, "808.wav")); err != nil {
		t.Fatal(err)
	}
	f.write("808 v3.wav", whole)
	f.until("808 v3.wav")
	f.until("gain of −3.0 dB −3.0 dB landed")
	if now := f.load(f.id).Stem(st); math.Abs(now.Clip) > 1e-9 || !now.Back.All {
		t.Errorf("%+v %+v", now, now.Back)
	}
	f.write("copy.wav", whole) // the very same
	f.until("as before")

	f.write("808 v3.wav", asWAV(louder(bass, -4))) // another after it: what was as before is not now
	f.until("not its file now")
	if page := f.page(); !strings.Contains(page, "copy.wav") || strings.Contains(page, "\uFFFD") ||
		strings.Count(page, "It was the file of 808; undone, or another came after it.") != 1 {
		t.Error(page)
	}

	noise := audio.New(44100, 1, 3*44100)
	seed := uint32(1)
	for i := range noise.Ch[0] {
		seed = seed*1664525 + 1013904223
		noise.Ch[0][i] = float32(seed>>8)/(1<<24)*0.4 - 0.2
	}
	f.write("choir.wav", asWAV(noise))
	f.until("asked on Intake")
	if page := f.get("/songs/" + f.id + "/intake"); !strings.Contains(page, "1 new stem") || len(f.load(f.id).Stems) != 2 {
		t.Error("what is of no stem is not asked on Intake")
	}
	f.taken(f.id)
	if len(f.load(f.id).Stems) != 3 {
		t.Error("it did not become a stem")
	}
	if page := f.page(); strings.Contains(page, "asked on Intake") || !strings.Contains(page, "As it was told on Intake. taken in") {
		t.Errorf("what was told on Intake is still asked: %s", page)
	}
	if status, _ := f.do("POST", "/songs/"+f.id+"/bounces/999/cancel", url.Values{}, "HX-Request", "true"); status != 404 {
		t.Errorf("a job that is none is cancelled: %d", status)
	}
	f.write("odd.wav", append([]byte("RIFF\x00\x00\x00\x00WAVEfmt \x10\x00\x00\x00\x55\x00\x01\x00"), make([]byte, 200)...))
	if page := f.until("odd.wav is being written"); strings.Contains(page, "not taken") {
		t.Error(page)
	}
}

// What is in a folder when it is named is left, until it is asked for; a restart takes nothing twice, and goes on.
func TestBounceFolderBefore(t *testing.T) {
	b, id := ready(t)
	_, bass := beat()
	f := &folder{bench: b, id: id, path: t.TempDir(), now: time.Now()}
	f.write("808.wav", asWAV(louder(bass, -2)))
	f.name(f.path)
	f.starts()
	first := f.load(id).Rev
	f.pass(2 * bounces.Rest)
	if page := f.page(); !strings.Contains(page, "1 that was there before is left.") || f.load(id).Rev != first {
		t.Fatal(page)
	}
	if status, _ := f.do("POST", "/songs/"+id+"/bounces/left", url.Values{}, "HX-Request", "true"); status != 200 {
		t.Fatal(status)
	}
	page := f.until("nothing planned")
	if !strings.Contains(page, "beside the plan: −2.0 dB of gain") {
		t.Error(page)
	}
	rev := f.load(id).Rev
	f.restart()
	f.starts()
	f.pass(2 * bounces.Rest)
	if f.load(id).Rev != rev {
		t.Error("a restart takes it twice")
	}
	f.write("808.wav", asWAV(louder(bass, -5)))
	f.until("−3.0 dB of gain")
	if err := os.RemoveAll(f.path); err != nil {
		t.Fatal(err)
	}
	f.until("The folder is not there; when it comes back, the watching goes on")
	if status, page := f.name(""); status != 200 || !strings.Contains(page, "Name the folder") {
		t.Errorf("%d %s", status, page)
	}
}

// A folder that cannot be watched is told why at the field, with what was typed; on a network none is named on a page.
func TestBounceFolderNamed(t *testing.T) {
	b, id := ready(t)
	f := &folder{bench: b, id: id, path: t.TempDir()}
	for path, want := range map[string]string{"bounces": "Type the whole path", filepath.Join(f.path, "none"): "There is no such folder", b.dir: "own folder",
		filepath.Join(b.dir, "audio"): "own folder"} {
		if status, page := f.name(path); status != 422 || !strings.Contains(page, want) || !strings.Contains(page, `value="`+path+`"`) {
			t.Errorf("%s: %d %s", path, status, page)
		}
	}
	st := b.server.Store
	if err := st.SetBounceFolder(context.Background(), id, f.path, []store.Bounce{{Name: "a.wav", State: store.BounceLeft}}); err != nil {
		t.Fatal(err)
	}
	if folders, err := st.BounceFolders(context.Background()); err != nil || folders[id] != f.path {
		t.Error(folders, err)
	}
	if err := st.Delete(context.Background(), id, true); err != nil {
		t.Fatal(err)
	}
	if folders, err := st.BounceFolders(context.Background()); err != nil || len(folders) != 0 {
		t.Error("the folder of a deleted song is watched", folders, err)
	}
	if err := st.Delete(context.Background(), id, false); err != nil {
		t.Fatal(err)
	}
	shut := guarded(t)
	if status, _ := shut.do("POST", "/door", url.Values{"password": {"wide quiet river"}}); status != 303 {
		t.Fatal(status)
	}
	own, err := shut.server.Store.CreateSong(context.Background(), session.New("Shut", 120), "New song")
	if err != nil {
		t.Fatal(err)
	}
	if status, page := shut.do("POST", "/songs/"+own+"/bounces", url.Values{"folder": {f.path}}, "HX-Request", "true"); status != 403 ||
		!strings.Contains(page, "--bounces") {
		t.Errorf("%d %.300s", status, page)
	}
}

// A folder that was a link to elsewhere when it was named, and is turned to the program's own audio, is not taken from.
func TestBounceFolderTurned(t *testing.T) {
	f := watching(t)
	link := filepath.Join(t.TempDir(), "link")
	if err := os.Symlink(f.path, link); err != nil {
		t.Fatal(err)
	}
	if status, page := f.name(link); status != 200 {
		t.Fatalf("%d %.300s", status, page)
	}
	rev := f.load(f.id).Rev
	if err := os.Remove(link); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join(f.dir, "audio"), link); err != nil {
		t.Fatal(err)
	}
	f.until("own folder")
	if all, err := f.server.Store.Bounces(t.Context(), f.id); err != nil || len(all) != 0 || f.load(f.id).Rev != rev {
		t.Errorf("%+v, %v", all, err)
	}
}

// A name that is no UTF-8, as other systems write them, is taken with what can be read of it.
func TestNamesOfOtherSystems(t *testing.T) {
	b := newBench(t)
	id := b.song()
	kick, _ := beat()
	if jobs := b.send(id, file{"Gr\xfcne Trommel.wav", asWAV(kick)}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	if name := b.load(id).Stems[0].Name; name != "Gr_ne Trommel" {
		t.Errorf("it is called %q", name)
	}
	b.get("/songs/" + id + "/intake")
}
