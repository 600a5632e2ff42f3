package web

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"mime/multipart"
	"net"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"mellowthump/app/demodata"
	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/audio/wav"
	"mellowthump/core/demo"
	"mellowthump/core/midi"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/internal/songs"
)

const rate = 44100

// bench is a server over a fresh folder with a client that keeps cookies.
type bench struct {
	*testing.T
	*http.Client
	url    string
	dir    string
	server *Server
	at     *httptest.Server
}

func newBench(t *testing.T) *bench {
	t.Helper()
	return newBenchIn(t, t.TempDir())
}

// newBenchIn is one over that folder.
func newBenchIn(t *testing.T, dir string) *bench {
	t.Helper()
	b := &bench{T: t, dir: dir}
	st, err := store.Open(context.Background(), b.dir)
	if err != nil {
		t.Fatal(err)
	}
	l := httptest.NewUnstartedServer(nil)
	if b.server, err = New(st, local(l.Listener.Addr())); err != nil {
		t.Fatal(err)
	}
	l.Config.Handler = b.server
	l.Start()
	t.Cleanup(func() { l.Close(); b.server.Pool.Close(); b.server.Store.Close() })
	jar, _ := cookiejar.New(nil)
	b.Client, b.url, b.at = &http.Client{Jar: jar}, l.URL, l
	return b
}

// local lets in whoever asks for an address of this machine.
func local(at net.Addr) Access {
	_, port, _ := net.SplitHostPort(at.String())
	return Access{Known: shell.Loopback(port)}
}

func (b *bench) do(method, path string, form url.Values, headers ...string) (int, string) {
	b.Helper()
	req, err := http.NewRequest(method, b.url+path, strings.NewReader(form.Encode()))
	if err != nil {
		b.Fatal(err)
	}
	if form != nil {
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
		if headers[i] == "Host" {
			req.Host = headers[i+1]
		}
	}
	res, err := b.Do(req)
	if err != nil {
		b.Fatal(err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil {
		b.Fatal(err)
	}
	if strings.HasPrefix(res.Header.Get("Content-Type"), "text/html") { // where a template's line is broken within a tag
		return res.StatusCode, strings.ReplaceAll(string(body), "\n  ", " ")
	}
	return res.StatusCode, string(body)
}

func (b *bench) get(path string) string {
	b.Helper()
	status, body := b.do("GET", path, nil)
	if status != 200 {
		b.Fatalf("%s answers %d: %.300s", path, status, body)
	}
	return body
}

func (b *bench) song() string {
	b.Helper()
	id, err := b.server.Store.CreateSong(context.Background(), session.New("Low Tide", 120), "new")
	if err != nil {
		b.Fatal(err)
	}
	return id
}

func (b *bench) load(id string) *store.Song {
	b.Helper()
	s, err := b.server.Store.Load(context.Background(), id)
	if err != nil {
		b.Fatal(err)
	}
	return s
}

// edit posts an edit as a page at the head would.
func (b *bench) edit(id, path string, form url.Values) (int, string) {
	b.Helper()
	form.Set("rev", fmt.Sprint(b.load(id).Rev))
	return b.do("POST", "/songs/"+id+path, form, "HX-Request", "true", "HX-Current-URL", b.url+"/songs/"+id+"/duck")
}

type file struct {
	name string
	body []byte
}

// send uploads files and waits until all are taken in, as stems of their own, or refused.
func (b *bench) send(id string, files ...file) []store.Job {
	b.Helper()
	left := b.bring(id, files...)
	form := url.Values{}
	for _, j := range left {
		if j.State == store.Ready {
			form.Set(fmt.Sprintf("to-%d", j.ID), "new")
		}
	}
	if len(form) > 0 {
		if status, body := b.edit(id, "/brought", form); status != 200 {
			b.Fatalf("taking them in: %d %.300s", status, body)
		}
	}
	return slices.DeleteFunc(left, func(j store.Job) bool { return j.State == store.Ready })
}

// bring uploads files and waits until all are in, or wait to be told what they are.
func (b *bench) bring(id string, files ...file) []store.Job {
	b.Helper()
	body, kind := multipartOf(files...)
	return b.post(id, body, kind)
}

// multipartOf packs files as a browser sends them.
func multipartOf(files ...file) (body []byte, contentType string) {
	size := 0
	for _, f := range files {
		size += len(f.body) + 500
	}
	w := bytes.NewBuffer(make([]byte, 0, size))
	m := multipart.NewWriter(w)
	for _, f := range files {
		part, err := m.CreateFormFile("files", f.name)
		if err != nil {
			panic(err)
		}
		part.Write(f.body)
	}
	m.Close()
	return w.Bytes(), m.FormDataContentType()
}

// post uploads and waits until all is taken in or refused.
func (b *bench) post(id string, body []byte, contentType string) []store.Job {
	b.Helper()
	return b.postTo(id, "/stems", body, contentType)
}

// postTo uploads to an address of a song, likewise.
func (b *bench) postTo(id, path string, body []byte, contentType string) []store.Job {
	b.Helper()
	req, _ := http.NewRequest("POST", b.url+"/songs/"+id+path, bytes.NewReader(body))
	req.Header.Set("Content-Type", contentType)
	req.Header.Set("HX-Request", "true")
	res, err := b.Do(req)
	if err != nil {
		b.Fatal(err)
	}
	io.Copy(io.Discard, res.Body)
	res.Body.Close()
	if res.StatusCode != 200 {
		b.Fatalf("the upload answers %d", res.StatusCode)
	}
	deadline := time.Now().Add(3 * time.Minute)
	for {
		jobs, err := b.server.Store.Jobs(context.Background(), id)
		if err != nil {
			b.Fatal(err)
		}
		active := 0
		for _, j := range jobs {
			if j.Active() {
				active++
			}
		}
		if active == 0 {
			return jobs
		}
		if time.Now().After(deadline) {
			b.Fatalf("still at work: %+v", jobs)
		}
		<-time.After(5 * time.Millisecond) // between two looks
	}
}

func asWAV(b audio.Buffer) []byte {
	var out bytes.Buffer
	if err := wav.Write(&out, b, wav.Int24); err != nil {
		panic(err)
	}
	return out.Bytes()
}

// beat makes a kick and a bass that fight, four bars at 120 bpm.
func beat() (kick, bass audio.Buffer) {
	kick, bass = audio.New(rate, 1, 8*rate), audio.New(rate, 1, 8*rate)
	for h := 0.25; h < 7.7; h += 0.5 {
		from := int(h * rate)
		for i := range rate / 4 {
			t := float64(i) / rate
			kick.Ch[0][from+i] += float32(0.7 * math.Sin(2*math.Pi*(52*t+1.5*(1-math.Exp(-t/0.01)))) * math.Exp(-t/0.08))
		}
	}
	for i := range bass.Ch[0] {
		bass.Ch[0][i] = float32(0.22 * math.Sin(2*math.Pi*46.25*float64(i)/rate))
	}
	return kick, bass
}

// took is a folder with a song of a kick and a bass; main_test.go removes it.
var took songs.Folder

// ready is a bench with a song of a kick and a bass.
func ready(t *testing.T) (*bench, string) {
	t.Helper()
	dir, id := took.Copy(t, func() (dir, id string) {
		b := newBench(t)
		id = b.song()
		kick, bass := beat()
		if jobs := b.send(id, file{"Kick.wav", asWAV(kick)}, file{"808.wav", asWAV(bass)}); len(jobs) != 0 {
			t.Fatalf("%+v", jobs)
		}
		b.at.Close()
		b.server.Pool.Close()
		if err := b.server.Store.Close(); err != nil {
			t.Fatal(err)
		}
		return b.dir, id
	})
	return newBenchIn(t, dir), id
}

func TestHeadersAndWhoGetsIn(t *testing.T) {
	b := newBench(t)
	res, err := b.Get(b.url + "/")
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	csp := res.Header.Get("Content-Security-Policy")
	for _, want := range []string{"default-src 'none'", "script-src 'self'", "style-src 'self'", "frame-ancestors 'none'"} {
		if !strings.Contains(csp, want) {
			t.Errorf("the policy lacks %s: %s", want, csp)
		}
	}
	if strings.Contains(csp, "unsafe") || res.Header.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("headers %v", res.Header)
	}
	if status, _ := b.do("GET", "/", nil, "Host", "evil.example"); status != http.StatusMisdirectedRequest {
		t.Errorf("another host's name is answered by %d", status)
	}
	form := url.Values{"name": {"x"}, "bpm": {"120"}}
	if status, _ := b.do("POST", "/songs", form, "Sec-Fetch-Site", "cross-site"); status != http.StatusForbidden {
		t.Errorf("a write from another site is answered by %d", status)
	}
	if status, _ := b.do("POST", "/songs", form, "Origin", "http://evil.example"); status != http.StatusForbidden {
		t.Errorf("a write from another origin is answered by %d", status)
	}
	for _, c := range [][]string{{"GET", "/", "Host", "evil.example"}, {"POST", "/songs", "Origin", "http://evil.example"}, {"GET", "/songs//x", "", ""}, {"GET",
		"/nowhere", "", ""}, {"GET", "/static/css/shell.css", "", ""}, {"GET", "/static/none.css", "", ""}} {
		req, _ := http.NewRequest(c[0], b.url+c[1], nil)
		if req.Host = c[3]; c[2] == "Origin" {
			req.Host = ""
			req.Header.Set(c[2], c[3])
		}
		res, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		for _, h := range []string{"Content-Security-Policy", "X-Content-Type-Options", "Referrer-Policy", "X-Frame-Options", "Cross-Origin-Resource-Policy"} {
			if res.Header.Get(h) == "" {
				t.Errorf("%v answers %d without %s", c, res.StatusCode, h)
			}
		}
	}
	if rows, _ := b.server.Store.Songs(context.Background()); len(rows) != 0 {
		t.Error("a refused write made a song")
	}
	for _, path := range []string{"/songs/none/intake", "/songs/" + b.song() + "/nonsense", "/static/../web.go", "/nowhere"} {
		if status, body := b.do("GET", path, nil); status != 404 || strings.Contains(body, "package web") {
			t.Errorf("%s answers %d", path, status)
		}
	}
	if status, _ := b.do("POST", "/songs", url.Values{"name": {strings.Repeat("x", 2<<20)}, "bpm": {"120"}}); status != http.StatusRequestEntityTooLarge {
		t.Errorf("a form of 2 MiB is answered by %d", status)
	}
	// no page carries a script or a style of its own
	page := b.get("/songs/" + b.song() + "/duck")
	if regexp.MustCompile(`<script[^>]*>[^<]|style=|onclick=`).MatchString(page) {
		t.Error("the page has inline scripts or styles")
	}
}

func TestNewSong(t *testing.T) {
	b := newBench(t)
	for _, c := range []struct{ name, bpm, say string }{
		{"", "120", "needs a name"}, {"x", "fast", "is not a number"}, {"x", "1", "outside 30 to 300"}, {"x", "NaN", "is not a number"},
		{strings.Repeat("y", 200), "90", "longer than"},
	} {
		status, body := b.do("POST", "/songs", url.Values{"name": {c.name}, "bpm": {c.bpm}})
		if status != 422 || !strings.Contains(body, c.say) || !strings.Contains(body, `value="`+c.bpm+`"`) {
			t.Errorf("%q at %q: %d, no word of %q, or the typed text is lost", c.name, c.bpm, status, c.say)
		}
	}
	status, body := b.do("POST", "/songs", url.Values{"name": {`<i>"Tide"</i>`}, "bpm": {"92,5 bpm"}})
	if status != 200 || !strings.Contains(body, "&lt;i&gt;") || strings.Contains(body, "<i>\"Tide") {
		t.Errorf("a name with markup: %d", status)
	}
	rows, _ := b.server.Store.Songs(context.Background())
	if len(rows) != 1 || b.load(rows[0].ID).BPM != 92.5 {
		t.Errorf("songs %+v", rows)
	}
}

// Every kind of broken file gets its own sentence; the good ones among them go through.
func TestBadFiles(t *testing.T) {
	b := newBench(t)
	id := b.song()
	kick, bass := beat()
	good := asWAV(kick)
	bad := audio.New(rate, 1, rate)
	bad.Ch[0][rate/2] = float32(math.NaN())
	var nan bytes.Buffer
	wav.Write(&nan, bad, wav.Float32)
	three := asWAV(audio.New(rate, 3, 100))
	jobs := b.send(id,
		file{"lyrics.wav", []byte("la la la")}, file{"empty.wav", nil}, file{"cut.wav", good[:len(good)/2]},
		file{"none.wav", asWAV(audio.New(rate, 1, 0))}, file{"nan.wav", nan.Bytes()}, file{"three.wav", three},
		file{"Kick.wav", good}, file{`../../a "quoted" <b>808<b>.wav`, asWAV(bass)}, file{strings.Repeat("n", 300) + ".wav", asWAV(audio.New(rate, 1, rate))},
	)
	says := map[string]string{
		"lyrics.wav": "not a sound file", "empty.wav": "not a sound file", "cut.wav": "cut short: the header promises 8.00 s, the file holds 4.00 s",
		"none.wav": "no audio", "nan.wav": "not numbers, the first at 0.500 s", "three.wav": "3 channels",
	}
	if len(jobs) != len(says) {
		t.Errorf("%d files were refused, want %d: %+v", len(jobs), len(says), jobs)
	}
	for _, j := range jobs {
		if want := says[j.Name]; want == "" || !strings.Contains(j.Message, want) {
			t.Errorf("%s: %q, want a word of %q", j.Name, j.Message, want)
		}
	}
	song := b.load(id)
	if len(song.Stems) != 3 {
		t.Fatalf("%d stems, want the 3 good ones", len(song.Stems))
	}
	page := b.get("/songs/" + id + "/intake")
	for _, want := range []string{"cut short", "silent from start to end", "&lt;b&gt;808&lt;b&gt;"} {
		if !strings.Contains(page, want) {
			t.Errorf("no word of %q on the page", want)
		}
	}
	if strings.Contains(page, "<b>808<b>") {
		t.Error("markup in a file name reaches the page")
	}
	if left, _ := os.ReadDir(filepath.Join(b.dir, "incoming")); len(left) != 0 {
		t.Errorf("%d refused uploads are left on disk", len(left))
	}
	stored, _ := os.ReadDir(filepath.Join(b.dir, "audio"))
	for _, f := range stored {
		if !regexp.MustCompile(`^[0-9a-f]{64}\.wav$`).MatchString(f.Name()) {
			t.Errorf("stored under the name %q", f.Name())
		}
	}
	if status, _ := b.edit(id, "/imports/forget", url.Values{}); status != 200 || strings.Contains(b.get("/songs/"+id+"/intake"), "cut short") {
		t.Error("the list of refused files does not clear")
	}
}

// A MIDI file finds its stem by name and its place by the stem's hits, which it then gives;
// one that fits nothing is refused.
func TestMIDI(t *testing.T) {
	b, id := ready(t)
	var notes []midi.Note
	for h := 0.0; h < 7.4; h += 0.5 { // the beat's hits stand 0.25 s later
		notes = append(notes, midi.Note{Start: h, End: h + 0.1, Key: 36})
	}
	var mid, wild bytes.Buffer
	midi.Write(&mid, notes, 120)
	midi.Write(
		&wild,
		[]midi.Note{
			{Start: 0, End: 1, Key: 36},
			{Start: 0.111, End: 1, Key: 36},
			{Start: 0.333, End: 1, Key: 36},
			{Start: 0.444, End: 1, Key: 36},
			{Start: 0.777, End: 1, Key: 36},
		},
		120,
	)
	jobs := b.send(id, file{"kick.mid", mid.Bytes()}, file{"who.mid", mid.Bytes()}, file{"808.mid", wild.Bytes()}, file{"cut.mid", mid.Bytes()[:30]})
	says := map[string]string{"who.mid": "no stem has the name", "808.mid": "meet the hits", "cut.mid": "MIDI"}
	for _, j := range jobs {
		if want := says[j.Name]; want == "" || !strings.Contains(j.Message, want) {
			t.Errorf("%s: %q", j.Name, j.Message)
		}
	}
	if len(jobs) != 3 {
		t.Errorf("%+v", jobs)
	}
	song := b.load(id)
	kick := song.TriggerStem()
	if kick.MIDI == nil || math.Abs(kick.MIDI.Offset-0.25) > 0.003 || len(kick.MIDI.Notes) != 15 {
		t.Fatalf("%+v", kick.MIDI)
	}
	if page := b.get("/songs/" + id + "/intake"); !strings.Contains(page, "15 MIDI notes, moved by 250 ms") {
		t.Error("the notes are not shown")
	}
	if page := b.get("/songs/" + id + "/pocket"); !strings.Contains(page, "15 hits") {
		t.Error("the notes are not the hits")
	}
	b.edit(id, "/stems/"+kick.ID+"/midi/drop", url.Values{})
	song = b.load(id)
	if song.TriggerStem().MIDI != nil {
		t.Error("the notes stay")
	}
}

// Songs that cannot be judged say why, in every stage.
func TestTroubles(t *testing.T) {
	b, id := ready(t)
	stems := b.load(id).Stems
	if stems[0].Role == session.Bass {
		stems[0], stems[1] = stems[1], stems[0]
	}
	pocket := func() string { return b.get("/songs/" + id + "/pocket") }
	if !strings.Contains(pocket(), "asked on 15 of 15 hits") {
		t.Errorf("a fighting pair is not judged: %s", regexp.MustCompile(`pocket-sentence">[^<]*`).FindString(pocket()))
	}
	b.edit(id, "/stems/"+stems[0].ID+"/role", url.Values{"role": {"other"}})
	if !strings.Contains(pocket(), "No stem is said to be the kick") {
		t.Error("no word of the missing kick")
	}
	b.edit(id, "/stems/"+stems[0].ID+"/role", url.Values{"role": {"kick"}})
	b.edit(id, "/stems/"+stems[1].ID+"/role", url.Values{"role": {"other"}})
	if !strings.Contains(pocket(), "No stem is said to be the bass") {
		t.Error("no word of the missing bass")
	}
	b.edit(id, "/stems/"+stems[0].ID+"/remove", url.Values{})
	drone := audio.New(rate, 1, 4*rate)
	for i := range drone.Ch[0] {
		drone.Ch[0][i] = float32(0.4 * float64(i) / float64(4*rate) * math.Sin(2*math.Pi*60*float64(i)/rate))
	}
	b.send(id, file{"kick drone.wav", asWAV(drone)}, file{"bass.wav", asWAV(drone)})
	if !strings.Contains(pocket(), "The kick has no hits in this loop") {
		t.Error("no word of a kick without hits")
	}
	for _, stage := range []string{"duck", "intake", "log", "levels", "print"} {
		b.get("/songs/" + id + "/" + stage)
	}
	if _, body := b.edit(id, "/duck/fit", url.Values{}); !strings.Contains(body, "no hits") {
		t.Error("the fit does not say why it cannot")
	}
	empty := b.song()
	for _, st := range b.server.Stages() {
		b.get("/songs/" + empty + "/" + st.Key)
	}
	if !strings.Contains(b.get("/songs/"+empty+"/duck"), "There are no stems yet") {
		t.Error("an empty song does not say so")
	}
}

// points returns the form of a curve.
func points(p ...[3]string) url.Values {
	f := url.Values{}
	for i, v := range p {
		f.Set(fmt.Sprintf("at-%d", i), v[0])
		f.Set(fmt.Sprintf("db-%d", i), v[1])
		f.Set(fmt.Sprintf("bend-%d", i), v[2])
	}
	return f
}

func TestDuckPoints(t *testing.T) {
	b, id := ready(t)
	good := points([3]string{"-6 ms", "0", "0"}, [3]string{"0", "−9,5 dB", ""}, [3]string{"1/16", "-9.5", "0.3"}, [3]string{"1/8t", "0", "0"})
	status, body := b.edit(id, "/duck/points", good)
	if status != 200 || !strings.Contains(body, `id="duck-readout"`) || !strings.Contains(body, `id="deck-data"`) {
		t.Fatalf("%d %.200s", status, body)
	}
	song := b.load(id)
	d, _ := song.Duck()
	if d == nil || d.Points[1].DB != -9.5 || d.Points[2].Note != "1/16" || math.Abs(d.Points[2].MS-125) > 1e-9 || d.Points[2].Bend != 0.3 {
		t.Fatalf("%+v", d)
	}
	for _, c := range []struct {
		form url.Values
		say  string
	}{
		{points([3]string{"-6", "0", ""}, [3]string{"soon", "-9", ""}, [3]string{"90", "0", ""}), "is not a number of ms"},
		{points([3]string{"-6", "0", ""}, [3]string{"0", "deep", ""}, [3]string{"90", "0", ""}), "is not a number of dB"},
		{points([3]string{"-6", "0", ""}, [3]string{"0", "-9", "3"}, [3]string{"90", "0", ""}), "bends go from"},
		{points([3]string{"-6", "0", ""}, [3]string{"0", "3", ""}, [3]string{"90", "0", ""}), "only lowers"},
		{points([3]string{"-6", "0", ""}, [3]string{"95", "-9", ""}, [3]string{"90", "0", ""}), "does not come after"},
		{points([3]string{"-6", "0", ""}, [3]string{"0", "-9", ""}, [3]string{"90", "-1", ""}), "stay at 0 dB"},
	} {
		status, body := b.edit(id, "/duck/points", c.form)
		if status != 422 || !strings.Contains(body, c.say) || !strings.Contains(body, `value="`+c.form.Get("at-1")+`"`) {
			t.Errorf("%v: %d, no word of %q, or the typed text is lost", c.form, status, c.say)
		}
	}
	if after := b.load(id); after.Rev != song.Rev {
		t.Error("a refused curve was stored")
	}
	// the other tab's edit is refused and said, and changes nothing
	good.Set("rev", fmt.Sprint(song.Rev-1))
	good.Set("db-1", "-3")
	status, body = b.do("POST", "/songs/"+id+"/duck/points", good, "HX-Request", "true")
	if status != http.StatusConflict || !strings.Contains(body, "another tab") || b.load(id).Rev != song.Rev {
		t.Errorf("a stale edit: %d %.200s", status, body)
	}
	// a preview stores nothing
	if status, body := b.edit(id, "/duck/preview", good); status != 200 || !strings.Contains(body, "duck-picture") || b.load(id).Rev != song.Rev {
		t.Errorf("a preview: %d", status)
	}
	if status, _ := b.edit(id, "/duck/preview", points([3]string{"x", "y", "z"})); status != http.StatusNoContent {
		t.Errorf("a preview of nonsense: %d", status)
	}
	if status, body := b.edit(id, "/duck/remove", url.Values{"i": {"0"}}); status != 422 || !strings.Contains(body, "first and the last point") {
		t.Errorf("removing the first point: %d", status)
	}
	b.edit(id, "/duck/remove", url.Values{"i": {"1"}})
	b.edit(id, "/duck/add", url.Values{})
	after := b.load(id)
	if d, _ := after.Duck(); len(d.Points) != 4 {
		t.Errorf("%+v", d)
	}
	b.edit(id, "/duck/switch", url.Values{})
	after = b.load(id)
	if _, off := after.Duck(); !off {
		t.Error("the duck does not turn off")
	}
	b.edit(id, "/duck/drop", url.Values{})
	after = b.load(id)
	if d, _ := after.Duck(); d != nil {
		t.Error("the duck stays")
	}
}

// What is taken away is what was heard: the ducked stem is the deck's After of the bass, and
// the curve is the one that was fitted.
func TestFitAndTakeAway(t *testing.T) {
	b, id := ready(t)
	if status, _ := b.do("GET", "/songs/"+id+"/duck/curve.csv", nil); status != 404 {
		t.Errorf("a curve of no duck: %d", status)
	}
	if status, body := b.edit(id, "/duck/fit", url.Values{}); status != 200 || !strings.Contains(body, "lets the kick clear the bass by 8.0 dB") {
		t.Fatalf("%d", status)
	}
	song := b.load(id)
	d, _ := song.Duck()
	rows, err := csv.NewReader(strings.NewReader(b.get("/songs/" + id + "/duck/curve.csv"))).ReadAll()
	if err != nil || len(rows) < 10 || rows[0][0] != "ms" || rows[0][1] != "db" {
		t.Fatalf("%v, %v", rows, err)
	}
	low := 0.0
	for _, r := range rows[1:] {
		var db float64
		fmt.Sscan(r[1], &db)
		low = min(low, db)
	}
	if math.Abs(low-d.Depth()) > 1e-3 {
		t.Errorf("the curve goes down to %.3f dB, the duck to %.3f", low, d.Depth())
	}
	file := []byte(b.get("/songs/" + id + "/duck/ducked.wav"))
	r, err := wav.NewReader(bytes.NewReader(file), int64(len(file)))
	if err != nil || r.Format().BitDepth != 24 || r.Format().Channels != 1 {
		t.Fatalf("%+v, %v", r, err)
	}
	ducked, _ := audio.ReadAll(r)
	side := func(name string, solo mix.Solo) audio.Buffer {
		t.Helper()
		body := []byte(b.get(fmt.Sprintf("/songs/%s/deck/%s.wav?rev=%d&solo=%s&from=%d&to=%d", id, name, song.Rev, solo, rate, 3*rate)))
		r, err := wav.NewReader(bytes.NewReader(body), int64(len(body)))
		if err != nil {
			t.Fatal(err)
		}
		out, err := audio.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	after, before := side("after", mix.SoloBass), side("before", mix.SoloBass)
	_, bass := beat()
	for i := range 2*rate - rate/100 { // its last 5 ms lead to its start
		if after.Ch[0][i] != ducked.Ch[0][rate+i] || len(after.Ch) != 1 {
			t.Fatalf("frame %d: the deck plays %g, the file holds %g", i, after.Ch[0][i], ducked.Ch[0][rate+i])
		}
		if math.Abs(float64(before.Ch[0][i]-bass.Ch[0][rate+i])) > 2e-7 {
			t.Fatalf("frame %d: before plays %g, the stem holds %g", i, before.Ch[0][i], bass.Ch[0][rate+i])
		}
	}
	for as, want := range map[string]struct {
		bits   int
		within float64
	}{"wav16": {16, 3. / (1 << 15)}, "wav32": {32, 1e-7}, "flac": {24, 1. / (1 << 23)}} {
		file := []byte(b.get("/songs/" + id + "/duck/ducked.wav?as=" + as))
		src, err := codec.Open(bytes.NewReader(file), int64(len(file)))
		if err != nil || src.Format().BitDepth != want.bits {
			t.Fatalf("%s: %v", as, err)
		}
		got, err := audio.ReadAll(src)
		if err != nil || got.Frames() != ducked.Frames() {
			t.Fatalf("%s: %d frames, %v", as, got.Frames(), err)
		}
		for i, v := range ducked.Ch[0] {
			if math.Abs(float64(v-got.Ch[0][i])) > want.within {
				t.Fatalf("%s: frame %d is %g, want %g", as, i, got.Ch[0][i], v)
			}
		}
	}
	notes, err := midi.Read(strings.NewReader(b.get("/songs/" + id + "/duck/hits.mid")))
	if err != nil || len(notes) != 15 || math.Abs(notes[1].Start-0.75) > 0.003 {
		t.Errorf("hits as MIDI: %+v, %v", notes, err)
	}
	cost := b.get("/songs/" + id + "/duck/cost")
	if !strings.Contains(cost, `id="trade"`) || !strings.Contains(cost, "Whole song") {
		t.Errorf("%.300s", cost)
	}
	for _, bad := range []string{"before.wav", "before.wav?rev=1&from=5&to=2", "middle.wav?rev=1&from=0&to=100", "after.wav?rev=999999&from=0&to=100",
		fmt.Sprintf("after.wav?rev=%d&from=99999999&to=999999999", song.Rev)} {
		if status, _ := b.do("GET", "/songs/"+id+"/deck/"+bad, nil); status < 400 || status >= 500 {
			t.Errorf("%s answers %d", bad, status)
		}
	}
	// asked again with the bass far down, the fit says that none is needed and takes it away
	if status, body := b.edit(id, "/duck/targets", url.Values{"clearance": {"0"}, "depth": {"12"}}); status != 200 {
		t.Errorf("%d %.200s", status, body)
	}
	b.edit(id, "/duck/targets", url.Values{"clearance": {"8"}, "depth": {"1"}})
	if _, body := b.edit(id, "/duck/fit", url.Values{}); !strings.Contains(body, "The cap of 1.0 dB stops it") {
		t.Error("the cap is not named")
	}
	for _, bad := range []url.Values{{"clearance": {"loud"}, "depth": {"12"}}, {"clearance": {"8"}, "depth": {"-4"}}, {"clearance": {"99"}, "depth": {"12"}}} {
		if status, body := b.edit(id, "/duck/targets", bad); status != 422 || !strings.Contains(body, `class="wrong"`) {
			t.Errorf("targets %v: %d", bad, status)
		}
	}
}

func TestSettingsLoopTakes(t *testing.T) {
	b, id := ready(t)
	set := url.Values{"name": {"High Tide"}, "bpm": {"140"}, "felt": {"70"}, "key": {"F minor"}}
	if status, _ := b.edit(id, "/settings", set); status != 200 {
		t.Fatalf("settings: %d", status)
	}
	song := b.load(id)
	if song.Name != "High Tide" || song.BPM != 140 || song.FeltBPM != 70 || song.Key != "F minor" {
		t.Errorf("%+v", song.Song)
	}
	set.Set("felt", "7")
	if status, body := b.edit(id, "/settings", set); status != 422 || !strings.Contains(body, "felt tempo of 7 bpm") {
		t.Errorf("a felt tempo of 7: %d", status)
	}
	if status, _ := b.edit(id, "/loop", url.Values{"from": {"1"}, "to": {"3.5"}}); status != 200 || b.load(id).Loop.To != 3.5 {
		t.Errorf("loop: %d, %+v", status, b.load(id).Loop)
	}
	for _, bad := range []url.Values{{"from": {"3"}, "to": {"1"}}, {"from": {"NaN"}, "to": {"2"}}, {"from": {"-1"}, "to": {"2"}}, {}} {
		if status, _ := b.edit(id, "/loop", bad); status != 422 {
			t.Errorf("loop %v: %d", bad, status)
		}
	}
	b.edit(id, "/loop", url.Values{"auto": {"1"}})
	if b.load(id).Loop != nil {
		t.Error("the loop is not given back")
	}
	if status, _ := b.edit(id, "/takes", url.Values{"name": {" "}}); status != 422 {
		t.Errorf("a take without a name: %d", status)
	}
	if status, _ := b.edit(id, "/takes", url.Values{"name": {"first"}, "note": {"<script>"}}); status != 200 {
		t.Errorf("a take: %d", status)
	}
	if page := b.get("/songs/" + id + "/log?view=takes"); !strings.Contains(page, "first") || strings.Contains(page, "<script>\n") ||
		!strings.Contains(page, "&lt;script&gt;") {
		t.Error("the take is not in the log, or its note is not text")
	}
	if status, _ := b.edit(id, "/undo", url.Values{}); status != 200 || b.load(id).Loop == nil {
		t.Error("undo does not undo")
	}
	if status, _ := b.edit(id, "/redo", url.Values{}); status != 200 || b.load(id).Loop != nil {
		t.Error("redo does not redo")
	}
	if status, body := b.edit(id, "/redo", url.Values{}); status != http.StatusConflict || !strings.Contains(body, "nothing further") {
		t.Errorf("redo at the end: %d", status)
	}
}

// Sixty stems stay usable: the pages answer, and an edit too.
func TestSixtyStems(t *testing.T) {
	b, id := sixty(t)
	for _, stage := range []string{"intake", "pocket", "duck"} {
		page := b.get("/songs/" + id + "/" + stage)
		if len(page) > 900_000 {
			t.Errorf("%s is %d bytes", stage, len(page))
		}
		if stage == "intake" && strings.Count(page, "<tr id=") != 60 {
			t.Errorf("%d rows", strings.Count(page, "<tr id="))
		}
	}
	if status, _ := b.edit(id, "/stems/x7/role", url.Values{"role": {"texture"}}); status != 200 {
		t.Errorf("an edit answers %d", status)
	}
}

// BenchmarkImport takes in twelve stems of three minutes, those of the demo song repeated.
func BenchmarkImport(b *testing.B) {
	var files []file
	for _, s := range demo.SlowFerry().Stems {
		long := audio.New(s.Sound.Rate, len(s.Sound.Ch), 180*s.Sound.Rate)
		for c := range long.Ch {
			for at := 0; at < long.Frames(); at += s.Sound.Frames() {
				copy(long.Ch[c][at:], s.Sound.Ch[c])
			}
		}
		files = append(files, file{s.Name + ".wav", asWAV(long)})
	}
	body, kind := multipartOf(files...)
	files = nil
	for b.Loop() {
		bench := newBench(&testing.T{})
		if jobs := bench.post(bench.song(), body, kind); len(jobs) > 0 {
			b.Fatal(jobs)
		}
	}
}

func BenchmarkDuckEdit(b *testing.B) {
	t := &testing.T{}
	bench := newBench(t)
	if err := demodata.Load(context.Background(), bench.server.Store); err != nil {
		b.Fatal(err)
	}
	songs, err := bench.server.Store.Songs(context.Background())
	if err != nil || len(songs) != 1 {
		b.Fatal(err, len(songs))
	}
	id := songs[0].ID
	depth := 3.0
	edit := func() {
		depth += 0.001
		form := points(
			[3]string{"-6", "0", "0"},
			[3]string{"0", fmt.Sprintf("%.3f", -depth), "0"},
			[3]string{"90", fmt.Sprintf("%.3f", -depth), "0"},
			[3]string{"150", "0", "0"},
		)
		status, body := bench.edit(id, "/duck/points", form)
		if status != 200 {
			b.Fatal(status, body)
		}
		at := strings.Index(body, `data-after="`) + len(`data-after="`)
		if status, _ := bench.do("GET", strings.ReplaceAll(body[at:at+strings.Index(body[at:], `"`)], "&amp;", "&"), nil); status != 200 {
			b.Fatal(status)
		}
	}
	edit()
	for b.Loop() {
		edit()
	}
}
