package main

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"mime/multipart"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	watched "mellowthump/app/bounces"
	"mellowthump/app/store"
	"mellowthump/core/archive"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

const (
	serveIn    = "MELLOWTHUMP_TEST_SERVE" // a child of the test serves that folder
	cyclesWord = "MELLOWTHUMP_KILLS"      // how many times it is killed
	cycles     = 20
)

// promised is what a server acknowledged before it was killed.
type promised struct {
	mu      sync.Mutex
	uploads map[string]bool // sent; whether it was acknowledged
	edits   []string
	takes   []string
	reads   map[string]bool // songs that an archive was sent to; whether it was acknowledged
}

// killing is a song that is worked on while its server is killed.
type killing struct {
	t       *testing.T
	url     string
	song    string
	n       int // of the cycle
	archive []byte
	*promised
}

// A program that is killed at any moment, by -9, TERM or INT, while files and archives come in, edits are made, a duck is fitted,
// takes are saved, run sheets applied, bounces taken up and prints are made, keeps all that it acknowledged: nothing is lost,
// nothing half there, nothing there twice.
func TestKill(t *testing.T) {
	outside.Slow(t)
	dir, most := t.TempDir(), cycles
	if n, err := strconv.Atoi(os.Getenv(cyclesWord)); err == nil {
		most = n
	}
	const aSong = 20 // cycles
	p := &promised{uploads: map[string]bool{}, reads: map[string]bool{}}
	k := &killing{t: t, promised: p, archive: smallArchive(t)}
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	var songs []string
	child := k.serve(dir)
	b, s := k.bouncing(), &sheeted{killing: k.beatSong("Sheet"), states: map[string]bool{}}
	child.Process.Kill()
	child.Wait()
	for k.n = range most {
		child := k.serve(dir)
		b.url, s.url = k.url, k.url
		if k.n%aSong == 0 {
			res, err := http.PostForm(k.url+"/songs", url.Values{"name": {fmt.Sprintf("Song %d", k.n)}, "bpm": {"120"}})
			if err != nil {
				t.Fatal(err)
			}
			res.Body.Close()
			k.song = regexp.MustCompile(`/songs/(\w+)`).FindStringSubmatch(res.Request.URL.Path)[1]
			songs = append(songs, k.song)
		}
		ctx, stop := context.WithCancel(t.Context())
		var work sync.WaitGroup
		works := []func(context.Context){k.upload, k.edit, k.take, k.fit, k.print, k.read}
		if k.n%5 == 1 { // what takes longer has the processor for itself
			works = []func(context.Context){k.edit}
		}
		for _, do := range append(works, s.sheet) {
			work.Go(func() { do(ctx) })
		}
		moment := 100 + r.IntN(700)
		if k.n%5 == 0 {
			b.write(k.n / 5)
		}
		if k.n%5 == 1 { // late enough for a bounce to be compared and a sheet to be made
			moment += int(watched.Rest / time.Millisecond)
			s.seesOne()
		}
		<-time.After(time.Duration(moment) * time.Millisecond)
		child.Process.Signal([]os.Signal{syscall.SIGKILL, syscall.SIGTERM, os.Interrupt}[r.IntN(3)])
		ended := make(chan error, 1)
		go func() { ended <- child.Wait() }()
		select {
		case <-ended:
		case <-time.After(12 * time.Second):
			child.Process.Signal(syscall.SIGQUIT) // it says where it is
			<-ended
			t.Errorf("cycle %d: told to stop, it does not: %s", k.n, child.Stderr)
		}
		stop()
		work.Wait()
		if k.n%4 == 0 {
			s.lookInto(dir)
		}
	}
	child = k.serve(dir) // what was left is taken up
	b.url, s.url = k.url, k.url
	for _, id := range songs {
		k.settled(id)
		k.song = id
		k.takeIn()
	}
	for id := range k.reads {
		k.settled(id)
	}
	b.ends()
	s.ends()
	child.Process.Signal(syscall.SIGTERM)
	child.Wait()
	k.verify(dir, songs, b, s)
}

// serve starts a server over the folder and returns when it answers.
func (k *killing) serve(dir string) *exec.Cmd {
	k.t.Helper()
	self, err := os.Executable()
	if err != nil {
		k.t.Fatal(err)
	}
	child := exec.Command(self)
	child.Env = append(os.Environ(), serveIn+"="+dir)
	var errs bytes.Buffer
	child.Stderr = &errs
	out, err := child.StdoutPipe()
	if err == nil {
		err = child.Start()
	}
	if err != nil {
		k.t.Fatal(err)
	}
	k.t.Cleanup(func() { child.Process.Kill() })
	line, err := bufio.NewReader(out).ReadString('\n')
	at := regexp.MustCompile(`http://[^/]+`).FindString(line)
	if err != nil || at == "" {
		k.t.Fatalf("cycle %d: it says %q and %s", k.n, line, errs.String())
	}
	k.url = at
	return child
}

func (k *killing) request(ctx context.Context, method, path, kind string, body []byte) (string, bool) {
	req, err := http.NewRequestWithContext(ctx, method, k.url+path, bytes.NewReader(body))
	if err != nil {
		return "", false
	}
	req.Header.Set("Content-Type", kind)
	req.Header.Set("HX-Request", "true")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return "", false
	}
	defer res.Body.Close()
	got, _ := io.ReadAll(res.Body) // an answer that breaks off was begun: what it acknowledges holds
	return string(got), res.StatusCode == http.StatusOK
}

// upload sends one file after another, each another sound.
func (k *killing) upload(ctx context.Context) {
	for i := 0; i < 6 && ctx.Err() == nil; i++ {
		b := audio.New(44100, 1, 44100/2)
		for j := range b.Ch[0] {
			b.Ch[0][j] = float32((j*(k.n*10+i+3))%997)/1200 - 0.4
		}
		var sound, form bytes.Buffer
		wav.Write(&sound, b, wav.Int24)
		name := fmt.Sprintf("Kick %d-%d", k.n, i)
		m := multipart.NewWriter(&form)
		part, _ := m.CreateFormFile("files", name+".wav")
		part.Write(sound.Bytes())
		m.Close()
		k.mu.Lock()
		k.uploads[name] = false
		k.mu.Unlock()
		_, ok := k.request(ctx, "POST", "/songs/"+k.song+"/stems", m.FormDataContentType(), form.Bytes())
		k.mu.Lock()
		k.uploads[name] = ok
		k.mu.Unlock()
	}
}

var revision = regexp.MustCompile(`name="rev" value="(\d+)"`)

// posted sends a form as a page at the song's head does.
func (k *killing) posted(ctx context.Context, path string, form url.Values) bool {
	page, _ := k.request(ctx, "GET", "/songs/"+k.song+"/log", "", nil)
	m := revision.FindStringSubmatch(page)
	if m == nil {
		return false
	}
	form.Set("rev", m[1])
	_, ok := k.request(ctx, "POST", "/songs/"+k.song+path, "application/x-www-form-urlencoded", []byte(form.Encode()))
	return ok
}

// smallArchive is a song of two short stems.
func smallArchive(t *testing.T) []byte {
	t.Helper()
	song := session.New("Read", 120)
	song.Rate = 44100
	files := map[string][]byte{}
	for i, role := range []session.Role{session.Kick, session.Bass} {
		b := audio.New(44100, 1, 44100)
		for j := range b.Ch[0] {
			b.Ch[0][j] = float32((j*(i+5))%991)/1200 - 0.4
		}
		var sound bytes.Buffer
		if err := wav.Write(&sound, b, wav.Int24); err != nil {
			t.Fatal(err)
		}
		sha := fmt.Sprintf("%x", sha256.Sum256(sound.Bytes()))
		files[sha] = sound.Bytes()
		song.Stems = append(song.Stems, session.Stem{ID: fmt.Sprintf("s%d", i+1), Name: string(role), Role: role, Audio: sha})
	}
	song.Settle()
	var out bytes.Buffer
	if err := archive.Write(t.Context(), &out, &song, nil, func(sha string) (io.ReadCloser, error) {
		return io.NopCloser(bytes.NewReader(files[sha])),
			nil
	}); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// read sends an archive to one new song after another.
func (k *killing) read(ctx context.Context) {
	for i := 0; i < 3 && ctx.Err() == nil; i++ {
		page, ok := k.request(
			ctx,
			"POST",
			"/songs",
			"application/x-www-form-urlencoded",
			[]byte(url.Values{"name": {fmt.Sprintf("Read %d-%d", k.n, i)}, "bpm": {"120"}}.Encode()),
		)
		m := regexp.MustCompile(`/songs/(\w+)/stems`).FindStringSubmatch(page)
		if !ok || m == nil {
			continue
		}
		var form bytes.Buffer
		w := multipart.NewWriter(&form)
		part, _ := w.CreateFormFile("files", "Read.zip")
		part.Write(k.archive)
		w.Close()
		k.mu.Lock()
		k.reads[m[1]] = false
		k.mu.Unlock()
		_, ok = k.request(ctx, "POST", "/songs/"+m[1]+"/stems", w.FormDataContentType(), form.Bytes())
		k.mu.Lock()
		k.reads[m[1]] = ok
		k.mu.Unlock()
	}
}

// edit writes one word after another into the song's key.
func (k *killing) edit(ctx context.Context) {
	for i := 0; ctx.Err() == nil; i++ {
		word := fmt.Sprintf("E%d-%d", k.n, i)
		if k.posted(ctx, "/settings", url.Values{"name": {"Song"}, "bpm": {"120"}, "grid": {"0"}, "leader": {"kick"}, "key": {word}}) {
			k.mu.Lock()
			k.edits = append(k.edits, word)
			k.mu.Unlock()
		}
	}
}

func (k *killing) take(ctx context.Context) {
	for i := 0; ctx.Err() == nil; i++ {
		name := fmt.Sprintf("T%d-%d", k.n, i)
		if k.posted(ctx, "/takes", url.Values{"name": {name}}) {
			k.mu.Lock()
			k.takes = append(k.takes, name)
			k.mu.Unlock()
		}
	}
}

// fit asks for what takes long; there is nothing to keep of it.
func (k *killing) fit(ctx context.Context) {
	for ctx.Err() == nil {
		k.posted(ctx, "/duck/fit", url.Values{"school": {"curve"}})
	}
}

// print asks for what goes out again and again; what is there of it at any time is whole.
func (k *killing) print(ctx context.Context) {
	for ctx.Err() == nil {
		k.posted(ctx, "/print/goes", url.Values{"what": {"mix", "stems", "sheet", "archive"}})
		select {
		case <-ctx.Done():
		case <-time.After(40 * time.Millisecond): // between two prints
		}
	}
}

// wholePrint reports whether all that a print's checksums name is in it as they say.
func wholePrint(path string) error {
	z, err := zip.OpenReader(path)
	if err != nil {
		return err
	}
	defer z.Close()
	sums, said := map[string]string{}, ""
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			return err
		}
		body, err := io.ReadAll(r)
		if err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
		if f.Name == "checksums.sha256" {
			said = string(body)
		} else {
			sums[f.Name] = fmt.Sprintf("%x", sha256.Sum256(body))
		}
	}
	for name, sum := range sums {
		if !strings.Contains(said, sum+"  "+name+"\n") {
			return fmt.Errorf("the checksum of %s is not there", name)
		}
	}
	if len(sums) < 3 {
		return fmt.Errorf("it holds %d files", len(sums))
	}
	return nil
}

// settled waits until a song's imports have ended.
func (k *killing) settled(id string) {
	for deadline := time.Now().Add(time.Minute); ; <-time.After(20 * time.Millisecond) {
		page, ok := k.request(k.t.Context(), "GET", "/songs/"+id+"/imports", "", nil)
		if ok && !strings.Contains(page, "<progress") {
			if strings.Contains(page, `class="failed"`) {
				k.t.Errorf("imports failed: %s", page)
			}
			return
		}
		if time.Now().After(deadline) {
			k.t.Fatalf("imports do not end: %s", page)
		}
	}
}

var waiting = regexp.MustCompile(`name="(to-\d+)"`)

// takeIn takes in as stems of their own what sounded like another and waits to be told what it is.
func (k *killing) takeIn() {
	page, _ := k.request(k.t.Context(), "GET", "/songs/"+k.song+"/intake", "", nil)
	form := url.Values{}
	for _, m := range waiting.FindAllStringSubmatch(page, -1) {
		form.Set(m[1], "new")
	}
	if len(form) > 0 && !k.posted(k.t.Context(), "/brought", form) {
		k.t.Error("what waits is not taken in")
	}
}

// verify holds what the folder has against what was promised.
func (k *killing) verify(dir string, songs []string, b *bounced, s *sheeted) {
	if r, err := store.Check(k.t.Context(), dir); err != nil || len(r.Troubles) > 0 {
		k.t.Errorf("the folder: %+v, %v", r, err)
	}
	st, err := store.Open(k.t.Context(), dir)
	if err != nil {
		k.t.Fatal(err)
	}
	defer st.Close()
	b.verify(st)
	s.verify(st)
	stems, takes, keys := map[string]int{}, map[string]int{}, map[string]bool{}
	for _, id := range songs {
		song, err := st.Load(k.t.Context(), id)
		if err != nil {
			k.t.Fatal(err)
		}
		for _, s := range song.Stems {
			stems[s.Name]++
		}
		all, err := st.Takes(k.t.Context(), id)
		if err != nil {
			k.t.Fatal(err)
		}
		for _, t := range all {
			takes[t.Name]++
		}
		history, err := st.History(k.t.Context(), id, 1<<20)
		if err != nil {
			k.t.Fatal(err)
		}
		for _, r := range history {
			was, err := st.At(k.t.Context(), id, r.ID)
			if err != nil {
				k.t.Fatal(err)
			}
			keys[was.Key] = true
		}
	}
	lost, acknowledged := 0, 0
	for name, ok := range k.uploads {
		if n := stems[name]; n > 1 || ok && n == 0 {
			k.t.Errorf("%s, acknowledged %v, is there %d times", name, ok, n)
			lost++
		}
		if ok {
			acknowledged++
		}
	}
	for _, name := range k.takes {
		if takes[name] != 1 {
			k.t.Errorf("the take %s is there %d times", name, takes[name])
		}
	}
	for _, word := range k.edits {
		if !keys[word] {
			k.t.Errorf("the edit %s is lost", word)
		}
	}
	whole := 0
	for id, ok := range k.reads {
		song, err := st.Load(k.t.Context(), id)
		if err != nil {
			k.t.Fatal(err)
		}
		if n := len(song.Stems); n != 0 && n != 2 || ok && n == 0 {
			k.t.Errorf("the song of an archive, acknowledged %v, has %d stems", ok, n)
		} else if n == 2 {
			whole++
		}
	}
	if whole == 0 {
		k.t.Error("no archive was read")
	}
	k.t.Logf("%d archives of %d sent are read, whole", whole, len(k.reads))
	prints, _ := filepath.Glob(filepath.Join(dir, "prints", "*.zip"))
	for _, path := range prints {
		if err := wholePrint(path); err != nil {
			k.t.Errorf("the print %s: %v", filepath.Base(path), err)
		}
	}
	k.t.Logf("%d prints are there", len(prints))
	if acknowledged == 0 || len(k.edits) == 0 || len(k.takes) == 0 {
		k.t.Errorf("nothing was promised: %d uploads, %d edits, %d takes", acknowledged, len(k.edits), len(k.takes))
	}
	k.t.Logf(
		"%d uploads of %d sent, %d edits and %d takes were acknowledged; %d uploads are lost or twice there",
		acknowledged,
		len(k.uploads),
		len(k.edits),
		len(k.takes),
		lost,
	)
}
