package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math"
	"mime/multipart"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	watched "mellowthump/app/bounces"
	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
)

// bounced is a song whose folder is written into while its server is killed: four versions of a stem each time.
type bounced struct {
	*killing
	folder   string
	versions map[string]int // by content: the how many-th it is
}

// sheeted is a song to which a row of its run sheet is applied, and that is taken back, while its server is killed.
type sheeted struct {
	*killing
	asked  int             // how often it was acknowledged
	made   int             // how often that was seen to be made
	states map[string]bool // the settings that the song was found with
}

const sheetRow = "levels/plan"

// beatWAV is four bars of a kick and of a bass under it that is too loud by 12 dB: their files.
func beatWAV(t *testing.T, bassGain float64) (kick, bass []byte) {
	t.Helper()
	const rate, bars = 44100, 4
	a, b := audio.New(rate, 1, 2*bars*rate), audio.New(rate, 1, 2*bars*rate)
	for i := range a.Ch[0] {
		in := math.Mod(float64(i)/rate, 0.5) // since the beat
		f := 50*in + 3*(1-math.Exp(-in*40))
		a.Ch[0][i] = float32(0.4 * math.Exp(-in*12) * math.Sin(2*math.Pi*f))
		b.Ch[0][i] = float32(bassGain * math.Sin(2*math.Pi*55*float64(i)/rate))
	}
	var k, l bytes.Buffer
	if err := wav.Write(&k, a, wav.Int24); err != nil {
		t.Fatal(err)
	}
	if err := wav.Write(&l, b, wav.Int24); err != nil {
		t.Fatal(err)
	}
	return k.Bytes(), l.Bytes()
}

// beatSong makes a song of kick and bass over the running server, and returns where it is served.
func (k *killing) beatSong(name string) *killing {
	k.t.Helper()
	kick, bass := beatWAV(k.t, 0.9)
	page, ok := k.request(k.t.Context(), "POST", "/songs", "application/x-www-form-urlencoded", []byte(url.Values{"name": {name}, "bpm": {"120"}}.Encode()))
	m := regexp.MustCompile(`/songs/(\w+)/stems`).FindStringSubmatch(page)
	if !ok || m == nil {
		k.t.Fatalf("no song %s: %.200s", name, page)
	}
	out := &killing{t: k.t, url: k.url, song: m[1], promised: k.promised}
	var form bytes.Buffer
	w := multipart.NewWriter(&form)
	for name, body := range map[string][]byte{"Kick.wav": kick, "Bass.wav": bass} {
		part, _ := w.CreateFormFile("files", name)
		part.Write(body)
	}
	w.Close()
	if page, ok := out.request(k.t.Context(), "POST", "/songs/"+out.song+"/stems", w.FormDataContentType(), form.Bytes()); !ok {
		k.t.Fatalf("the stems of %s: %.300s", name, page)
	}
	out.settled(out.song)
	return out
}

// bouncing makes a song whose folder is watched.
func (k *killing) bouncing() *bounced {
	k.t.Helper()
	b := &bounced{killing: k.beatSong("Bounced"), folder: k.t.TempDir(), versions: map[string]int{}}
	named := []byte(url.Values{"folder": {b.folder}}.Encode())
	page, ok := b.request(k.t.Context(), "POST", "/songs/"+b.song+"/bounces", "application/x-www-form-urlencoded", named)
	if !ok || !strings.Contains(page, "is watched") {
		k.t.Fatalf("the folder is not watched: %.300s", page)
	}
	return b
}

// write puts four versions of the bass into the folder, each newer than the one before, under its name or under names of their own.
func (b *bounced) write(n int) {
	old, _ := filepath.Glob(filepath.Join(b.folder, "*"))
	for _, path := range old {
		os.Remove(path)
	}
	now := time.Now()
	for i := range 4 {
		at := len(b.versions)
		_, body := beatWAV(b.t, 0.9*math.Pow(10, -0.01*float64(at+1)/20))
		b.versions[fmt.Sprintf("%x", sha256.Sum256(body))] = at
		name := "Bass.wav"
		if n%2 == 0 {
			name = fmt.Sprintf("Bass v%d.wav", i+1)
		}
		path := filepath.Join(b.folder, name)
		if err := os.WriteFile(path+".part", body, 0o600); err != nil {
			b.t.Fatal(err)
		}
		if err := os.Chtimes(path+".part", now, now.Add(time.Duration(i-4)*10*time.Millisecond)); err != nil {
			b.t.Fatal(err)
		}
		if err := os.Rename(path+".part", path); err != nil {
			b.t.Fatal(err)
		}
	}
}

// ends waits until the newest version has been looked at.
func (b *bounced) ends() {
	b.t.Helper()
	time.Sleep(watched.Rest + 2*watched.Every) // what the folder does not show to be known, it looks at after that
	b.settled(b.song)
	for end := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
		page, ok := b.request(b.t.Context(), "GET", "/songs/"+b.song+"/bounces", "", nil)
		if ok && !strings.Contains(page, "<progress") && !strings.Contains(page, "coming") {
			return
		}
		if time.Now().After(end) {
			b.t.Fatalf("the folder does not come to rest: %s", page)
		}
	}
}

// verify holds the bass against what was written: the newest is its file, and none was ever put over a newer one.
func (b *bounced) verify(st *store.Store) {
	b.t.Helper()
	history, err := st.History(b.t.Context(), b.song, 1<<20)
	if err != nil {
		b.t.Fatal(err)
	}
	slices.Reverse(history)
	last, taken := -1, 0
	for _, r := range history {
		was, err := st.At(b.t.Context(), b.song, r.ID)
		if err != nil {
			b.t.Fatal(err)
		}
		for _, s := range was.Stems {
			at, ok := b.versions[s.Audio]
			if !ok {
				continue
			}
			if at < last {
				b.t.Errorf("version %d is put over version %d", at, last)
			}
			if at != last {
				taken++
			}
			last = at
		}
	}
	if last != len(b.versions)-1 {
		b.t.Errorf("of %d versions the last is not the bass's file, but number %d", len(b.versions), last)
	}
	b.t.Logf("%d versions were bounced; %d of them were taken, each newer than the one before", len(b.versions), taken)
}

// sheet applies the row and takes it back, again and again.
func (s *sheeted) sheet(ctx context.Context) {
	for ctx.Err() == nil {
		if !s.posted(ctx, "/log/apply", url.Values{"tick": {sheetRow}, "shown": {sheetRow}}) {
			continue
		}
		s.mu.Lock()
		s.asked++
		s.mu.Unlock()
		for ctx.Err() == nil { // until it is made
			page, ok := s.request(ctx, "GET", "/songs/"+s.song+"/log/applying", "", nil)
			if ok && !strings.Contains(page, "/log/applying") {
				if page, ok = s.request(ctx, "GET", "/songs/"+s.song+"/log", "", nil); ok && strings.Contains(page, "run-applied") {
					s.mu.Lock()
					s.made++
					s.mu.Unlock()
				}
				if strings.Contains(page, `title="Undo: Run sheet`) { // else what was there before the sheet would be undone
					s.posted(ctx, "/undo", url.Values{})
				}
				break
			}
			select {
			case <-ctx.Done():
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
}

// seesOne waits until one more sheet is made, or a while.
func (s *sheeted) seesOne() {
	made := func() int {
		s.mu.Lock()
		defer s.mu.Unlock()
		return s.made
	}
	was := made()
	for end := time.Now().Add(20 * time.Second); made() == was && time.Now().Before(end); {
		time.Sleep(10 * time.Millisecond)
	}
}

// ends waits until nothing is being applied.
func (s *sheeted) ends() {
	s.t.Helper()
	for end := time.Now().Add(time.Minute); ; time.Sleep(50 * time.Millisecond) {
		page, ok := s.request(s.t.Context(), "GET", "/songs/"+s.song+"/log/applying", "", nil)
		if ok && !strings.Contains(page, "/log/applying") {
			return
		}
		if time.Now().After(end) {
			s.t.Fatalf("it is applied without end: %s", page)
		}
	}
}

// verify sees to it that each run of the song was made whole, and that nothing is left under way.
func (s *sheeted) verify(st *store.Store) {
	s.t.Helper()
	ctx := s.t.Context()
	runs, err := st.Runs(ctx, s.song, 1<<20)
	if err != nil {
		s.t.Fatal(err)
	}
	history, err := st.History(ctx, s.song, 1<<20)
	if err != nil {
		s.t.Fatal(err)
	}
	of := map[int64]int{}
	for _, r := range history {
		of[r.Run]++
	}
	s.look(st)
	for _, r := range runs {
		if n := of[r.ID]; r.Head <= r.Base || n != 0 && n != of[runs[0].ID] { // 0: it was undone
			s.t.Errorf("the run %d from %d to %d has %d changes", r.ID, r.Base, r.Head, n)
		}
	}
	if len(s.states) != 2 {
		for song := range s.states {
			s.t.Logf("%.4000s", song)
		}
		s.t.Errorf("the song was found in %d states; it is as it was, or as its sheet makes it", len(s.states))
	}
	left, err := st.Unfinished(ctx)
	if err != nil || len(left) > 0 {
		s.t.Errorf("left under way: %+v, %v", left, err)
	}
	if s.made == 0 || s.asked == 0 {
		s.t.Errorf("no sheet was applied: asked %d times, made %d times", s.asked, s.made)
	}
	s.t.Logf("%d times asked to apply, %d times seen made", s.asked, s.made)
}

// look notes the settings that the song has.
func (s *sheeted) look(st *store.Store) {
	s.t.Helper()
	song, err := st.Load(s.t.Context(), s.song)
	if err != nil {
		s.t.Fatal(err)
	}
	body, err := json.Marshal(song.Song)
	if err != nil {
		s.t.Fatal(err)
	}
	s.states[string(body)] = true
}

// lookInto is look while no program has the folder.
func (s *sheeted) lookInto(dir string) {
	s.t.Helper()
	st, err := store.Open(s.t.Context(), dir)
	if err != nil {
		s.t.Fatal(err)
	}
	defer st.Close()
	s.look(st)
}
