package web

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/url"
	"reflect"
	"regexp"
	"strings"
	"testing"
	"time"

	"mellowthump/app/web/shell"
	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// level posts an edit as the Levels page would.
func (b *bench) level(id, path string, form url.Values) (int, string) {
	b.Helper()
	form.Set("rev", fmt.Sprint(b.load(id).Rev))
	return b.do("POST", "/songs/"+id+"/levels"+path, form, "HX-Request", "true", "HX-Current-URL", b.url+"/songs/"+id+"/levels")
}

func bassID(b *bench, id string) string { return b.load(id).ByRole(session.Bass)[0].ID }

// mend presses a finding's button.
func (b *bench) mend(id, stage, finding string) (int, string) {
	b.Helper()
	return b.edit(id, "/findings/apply", url.Values{"stage": {stage}, "finding": {finding}})
}

func kickID(b *bench, id string) string { return b.load(id).TriggerStem().ID }

// Levels lists parts by their roles, as Intake does, whatever their order in the song.
func TestLevelsByRole(t *testing.T) {
	b, id := ready(t)
	kick, bass := beat()
	b.send(id, file{"Pad.wav", asWAV(bass)}, file{"Hats.wav", asWAV(kick)})
	b.send(id, file{"Kick top.wav", asWAV(kick)})
	stems := b.load(id).Stems
	for i, role := range []string{"kick", "bass", "melodic", "hats", "kick"} {
		b.edit(id, "/stems/"+stems[i].ID+"/role", url.Values{"role": {role}})
	}
	page := b.get("/songs/" + id + "/levels")
	order := ""
	for _, m := range regexp.MustCompile(`id="level-stem-(s\d)"`).FindAllStringSubmatch(page, -1) {
		order += string(b.load(id).Stem(m[1]).Role[0])
	}
	if order != "kkbhm" {
		t.Errorf("the roles stand as %s", order)
	}
}

// A gain at any step, typed; what is no number is refused and stays in its field.
func TestGains(t *testing.T) {
	b, id := ready(t)
	kick := kickID(b, id)
	for step, db := range map[session.Step]string{session.SourceStep: "-3", session.ClipStep: "+2.5", session.TrackStep: "−1,5"} {
		if status, body := b.level(id, "/gain", url.Values{"of": {kick}, "step": {string(step)}, "db": {db}}); status != 200 {
			t.Fatalf("%s %s: %d %.200s", step, db, status, body)
		}
	}
	song := b.load(id)
	if st := song.Stem(kick); st.Source != -3 || st.Clip != 2.5 || st.Fader != -1.5 {
		t.Errorf("%+v", st)
	}
	w := mix.Window{To: 8 * rate}
	l, err := levels.Measure(context.Background(), b.server.Renderer, &song.Song, w)
	if err != nil {
		t.Fatal(err)
	}
	page := b.get("/songs/" + id + "/levels")
	if want := shell.Figure(l.Row(kick).Peak(), 1); !strings.Contains(page, `class="n peak">`+want+"<") {
		t.Errorf("the page does not say %s", want)
	}
	b.level(id, "/gain", url.Values{"of": {"master"}, "step": {"master"}, "db": {"-4"}})
	for _, bad := range []string{"loud", "", "200", "1e9"} {
		rev := b.load(id).Rev
		status, body := b.level(id, "/gain", url.Values{"of": {kick}, "step": {"clip"}, "db": {bad}})
		if status != 422 || !strings.Contains(body, "What you typed is still there") || !strings.Contains(body, `id="g-`+kick+`-clip" value="`+bad+`"`) {
			t.Errorf("%q: %d", bad, status)
		}
		if b.load(id).Rev != rev {
			t.Errorf("%q made a revision", bad)
		}
	}
	if status, _ := b.level(id, "/gain", url.Values{"of": {"nobody"}, "step": {"clip"}, "db": {"1"}}); status != 422 {
		t.Errorf("a gain of nobody: %d", status)
	}
	after := b.load(id)
	if after.Song.Master.Fader != -4 {
		t.Errorf("master %+v", after.Song.Master)
	}
}

// Buses: added, nested, fed, locked, never in a ring; taken away, what went to them goes on.
func TestBuses(t *testing.T) {
	b, id := ready(t)
	kick := kickID(b, id)
	for _, name := range []string{"Drums", "Hits"} {
		if status, body := b.level(id, "/bus", url.Values{"name": {name}}); status != 200 {
			t.Fatalf("%d %.200s", status, body)
		}
	}
	if status, body := b.level(id, "/bus", url.Values{"name": {"drums"}}); status != 422 || !strings.Contains(body, "a bus called drums already") {
		t.Errorf("a second bus of one name: %d", status)
	}
	drums, hits := b.load(id).Buses[0].ID, b.load(id).Buses[1].ID
	stem := url.Values{"bus": {hits}, "pan": {"-25"}, "width": {"50"}, "lock-track": {"1"}, "send-" + drums: {"-12"}, "pre-" + drums: {"1"}}
	if status, body := b.level(id, "/stem/"+kick, stem); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	st := b.load(id).Stem(kick)
	if st.Bus != hits || st.Pan != -0.25 || st.Width != -0.5 || !st.Locked(session.TrackStep) || len(st.Sends) != 1 || !st.Sends[0].Pre ||
		st.Sends[0].Level != -12 {
		t.Errorf("%+v", st)
	}
	if status, _ := b.level(id, "/bus/"+hits, url.Values{"name": {"Hits"}, "bus": {drums}, "lock-bus": {"1"}}); status != 200 {
		t.Error("a bus does not go into another")
	}
	if status, body := b.level(id, "/bus/"+drums, url.Values{"name": {"Drums"}, "bus": {hits}}); status != 422 || !strings.Contains(body, "would end in itself") {
		t.Errorf("a ring of buses: %d", status)
	}
	for name, form := range map[string]url.Values{
		"a pan":  {"pan": {"far"}, "width": {"100"}},
		"beyond": {"pan": {"150"}, "width": {"100"}},
		"a bus":  {"pan": {"0"}, "width": {"100"}, "bus": {"nowhere"}},
		"a send": {"pan": {"0"}, "width": {"100"}, "send-" + drums: {"some"}},
	} {
		if status, body := b.level(id, "/stem/"+kick, form); status != 422 || !strings.Contains(body, "Nothing was changed") {
			t.Errorf("%s: %d", name, status)
		}
	}
	if page := b.get("/songs/" + id + "/levels?open=bus:" + hits); !strings.Contains(page, `id="shares"`) {
		t.Error("an opened bus does not say who causes its peaks")
	}
	b.level(id, "/bus/"+hits+"/remove", url.Values{})
	if st := b.load(id).Stem(kick); st.Bus != drums || len(b.load(id).Buses) != 1 {
		t.Errorf("after its bus went: %+v", st)
	}
	b.level(id, "/master", url.Values{"lock-master": {"1"}})
	if after := b.load(id); !after.Song.Master.Locked() {
		t.Error("the master is not locked")
	}
}

// A trigger taken at a bus is lost when its stem goes elsewhere: a finding, with the fix.
func TestLostTrigger(t *testing.T) {
	b, id := ready(t)
	kick := kickID(b, id)
	b.level(id, "/bus", url.Values{"name": {"Drums"}})
	drums := b.load(id).Buses[0].ID
	b.level(id, "/stem/"+kick, url.Values{"bus": {drums}, "pan": {"0"}, "width": {"100"}, "trigger-at": {drums}})
	b.edit(id, "/duck/add", url.Values{})
	hits := func() int {
		song := b.load(id)
		h, err := b.server.Renderer.Hits(&song.Song, session.KickTrigger)
		if err != nil {
			t.Fatal(err)
		}
		return len(h)
	}
	if hits() != 15 {
		t.Fatalf("%d hits", hits())
	}
	b.level(id, "/stem/"+kick, url.Values{"bus": {""}, "pan": {"0"}, "width": {"100"}})
	const what = "808 no longer ducks: its trigger does not arrive"
	if page := b.get("/songs/" + id + "/levels"); !strings.Contains(page, what) {
		t.Error("nobody says that the trigger is lost")
	}
	if hits() != 0 {
		t.Error("it still ducks")
	}
	if status, _ := b.mend(id, "levels", "lost-trigger."+bassID(b, id)); status != 200 || hits() != 15 {
		t.Errorf("the fix: %d, %d hits", status, hits())
	}
	if status, body := b.mend(id, "levels", "lost-trigger."+bassID(b, id)); status != 422 || !strings.Contains(body, "no longer open") {
		t.Errorf("the same fix again: %d", status)
	}
}

// The windows are the song's own once changed, and can be given back.
func TestRules(t *testing.T) {
	b, id := ready(t)
	if status, _ := b.level(id, "/rules", url.Values{"anchor": {"-9"}, "kick-lo": {"-10"}, "kick-hi": {"-8"}, "premaster": {"-8"}}); status != 200 {
		t.Error("the windows are not taken")
	}
	song := b.load(id)
	if r := song.LevelRules(); r.Kick != -9 || r.Windows[session.Kick].Lo != -10 || r.Premaster != -8 ||
		*r.Windows[session.Hats] != *session.CommonLevels().Windows[session.Hats] {
		t.Errorf("%+v", r)
	}
	for _, bad := range []url.Values{{"anchor": {"loud"}}, {"premaster": {"-1"}}, {"hats-lo": {"-5"}, "hats-hi": {"-9"}}} {
		if status, body := b.level(id, "/rules", bad); status != 422 || !strings.Contains(body, "Nothing was changed") {
			t.Errorf("%v: %d", bad, status)
		}
	}
	b.level(id, "/rules", url.Values{"reset": {"1"}})
	if b.load(id).Levels != nil {
		t.Error("the windows are not given back")
	}
}

// A plan is shown before anything changes, applied as one edit, undone as one.
func TestPlan(t *testing.T) {
	b, id := ready(t)
	rev := b.load(id).Rev
	page := b.get("/songs/" + id + "/levels/plan?anchor=kick")
	if !strings.Contains(page, `id="plan-premaster">−6.0<`) || !strings.Contains(page, "source\tKick\t0.0\t") {
		t.Errorf("the preview: %.600s", page)
	}
	if b.load(id).Rev != rev {
		t.Error("a preview changes the song")
	}
	if status, body := b.level(id, "/plan?anchor=kick", url.Values{}); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	song := b.load(id)
	if song.Rev != rev+1 {
		t.Errorf("%d revisions for one plan", song.Rev-rev)
	}
	l, err := levels.Measure(context.Background(), b.server.Renderer, &song.Song, mix.Window{To: 8 * rate})
	if err != nil || math.Abs(float64(l.Master.Out.Peak)+6) > 0.11 || math.Abs(float64(l.Group(session.Kick).Level.Peak)+7) > 0.06 {
		t.Errorf("%v: premaster %.2f, kick %.2f", err, float64(l.Master.Out.Peak), float64(l.Group(session.Kick).Level.Peak))
	}
	if page := b.get("/songs/" + id + "/levels/plan?anchor=kick"); !strings.Contains(page, "Nothing to change") {
		t.Errorf("a second plan: %.300s", page)
	}
	b.edit(id, "/undo", url.Values{})
	if after := b.load(id); trimmed(after.Song) {
		t.Error("one undo leaves trims")
	}
	for query, want := range map[string]string{
		"anchor=click": "no stem is said to be melodic", "anchor=reference": "no finished track", "anchor=click&under=1000": "outside 1 to 40",
		"anchor=pink&threshold=x": "threshold",
	} {
		if page := b.get("/songs/" + id + "/levels/plan?" + query); !strings.Contains(strings.ToLower(page), want) {
			t.Errorf("%s: %.200s", query, page)
		}
	}
	if page := b.get("/songs/" + id + "/levels/plan?anchor=pink"); !strings.Contains(page, "The noise stands at") {
		t.Errorf("over noise: %.400s", page)
	}
	if _, csv := b.do("GET", "/songs/"+id+"/levels/plan.csv?anchor=kick", nil); !strings.HasPrefix(csv, "step,part,from dB,to dB,change dB\n") ||
		!strings.Contains(csv, "\nsource,Kick,") {
		t.Errorf("the table: %.200s", csv)
	}
}

// A plan that is carried out elsewhere: the next bounce is compared with it.
func TestPlanComesBack(t *testing.T) {
	b, id := ready(t)
	b.level(id, "/plan?anchor=kick", url.Values{"outside": {"1"}})
	song := b.load(id)
	if song.Plan == nil || len(song.Plan.Trims) != 2 || trimmed(song.Song) {
		t.Fatalf("%+v", song.Plan)
	}
	if page := b.get("/songs/" + id + "/levels"); strings.Count(page, "no new bounce") != 2 {
		t.Error("both bounces are awaited")
	}
	kick, bass := beat()
	back := func(stem string, sound audio.Buffer, db float64) {
		t.Helper()
		next := audio.New(rate, 1, sound.Frames())
		for i, v := range sound.Ch[0] {
			next.Ch[0][i] = v * float32(math.Pow(10, db/20))
		}
		body, kind := multipartOf(file{"again.wav", asWAV(next)})
		req, _ := http.NewRequest("POST", b.url+"/songs/"+id+"/stems/"+stem+"/replace", bytes.NewReader(body))
		req.Header.Set("Content-Type", kind)
		req.Header.Set("HX-Request", "true")
		res, err := b.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		io.Copy(io.Discard, res.Body)
		res.Body.Close()
		b.wait(id)
	}
	for _, trim := range song.Plan.Trims {
		if trim.Stem == kickID(b, id) {
			back(trim.Stem, kick, trim.DB)
		} else {
			back(trim.Stem, bass, trim.DB+1)
		}
	}
	page := b.get("/songs/" + id + "/levels")
	if strings.Count(page, " landed</td>") != 1 || strings.Count(page, " not yet</td>") != 1 {
		t.Errorf("landings: %s", regexp.MustCompile(`(?s)id="landings".*?</table>`).FindString(page))
	}
	b.level(id, "/plan/forget", url.Values{})
	if b.load(id).Plan != nil {
		t.Error("the plan is not closed")
	}
}

// wait waits until a song's jobs have ended.
func (b *bench) wait(id string) {
	b.Helper()
	deadline := time.Now().Add(3 * time.Minute)
	for {
		jobs, err := b.server.Store.Jobs(context.Background(), id)
		if err != nil {
			b.Fatal(err)
		}
		active := false
		for _, j := range jobs {
			active = active || j.Active()
			if j.State == "failed" {
				b.Fatalf("%+v", j)
			}
		}
		if !active {
			return
		}
		if time.Now().After(deadline) {
			b.Fatalf("still at work: %+v", jobs)
		}
		<-time.After(5 * time.Millisecond) // between two looks
	}
}

// A finished track comes in beside the stems, and the plan can match it.
func TestReference(t *testing.T) {
	b, id := ready(t)
	kick, bass := beat()
	done := audio.New(rate, 1, kick.Frames())
	for i := range done.Ch[0] {
		done.Ch[0][i] = kick.Ch[0][i] + 0.3*bass.Ch[0][i]
	}
	body, kind := multipartOf(file{"Finished.wav", asWAV(done)})
	for range 2 { // the second time it is refused, in words
		req, _ := http.NewRequest("POST", b.url+"/songs/"+id+"/references", bytes.NewReader(body))
		req.Header.Set("Content-Type", kind)
		req.Header.Set("HX-Request", "true")
		res, err := b.Do(req)
		if err != nil || res.StatusCode != 200 {
			t.Fatal(err, res.StatusCode)
		}
		io.Copy(io.Discard, res.Body)
		res.Body.Close()
		deadline := time.Now().Add(3 * time.Minute)
		for strings.Contains(b.get("/songs/"+id+"/references"), "is being measured") {
			if time.Now().After(deadline) {
				t.Fatal("it is measured for ever")
			}
			<-time.After(5 * time.Millisecond)
		}
	}
	song := b.load(id)
	if len(song.References) != 1 || song.References[0].Name != "Finished" || len(song.Stems) != 2 {
		t.Fatalf("%+v", song.References)
	}
	if page := b.get("/songs/" + id + "/references"); !strings.Contains(page, "among the finished tracks already") {
		t.Errorf("the second time: %.300s", page)
	}
	if page := b.get("/songs/" + id + "/levels/plan?anchor=reference"); !strings.Contains(page, "What levels cannot mend") {
		t.Errorf("the plan by it: %.300s", page)
	}
	b.do("POST", "/songs/"+id+"/references/"+song.References[0].ID+"/remove", url.Values{"rev": {fmt.Sprint(song.Rev)}}, "HX-Request", "true")
	if len(b.load(id).References) != 0 {
		t.Error("it is not taken out")
	}
}

// The noise is pink noise of the level asked for; a dangerous level is refused.
func TestNoise(t *testing.T) {
	b, id := ready(t)
	_, body := b.do("GET", "/songs/"+id+"/levels/noise.wav?db=-30", nil)
	src, err := codec.Open(strings.NewReader(body), int64(len(body)))
	if err != nil {
		t.Fatal(err)
	}
	x := audio.New(src.Format().Rate, 1, int(src.Format().Frames))
	if err := src.ReadAt(x, 0); err != nil {
		t.Fatal(err)
	}
	if rms := 10 * math.Log10(meter.Energy(x.Ch[0])/float64(x.Frames())); math.Abs(rms+30) > 0.05 || x.Rate != rate {
		t.Errorf("%.2f dBFS RMS at %d Hz", rms, x.Rate)
	}
	for _, bad := range []string{"", "0", "-5", "-100", "NaN"} {
		if status, _ := b.do("GET", "/songs/"+id+"/levels/noise.wav?db="+bad, nil); status != 400 {
			t.Errorf("%q answers %d", bad, status)
		}
	}
}

// On Levels the deck's Before is the song without its trims.
func TestDeckOfTrims(t *testing.T) {
	b, id := ready(t)
	b.level(id, "/gain", url.Values{"of": {kickID(b, id)}, "step": {"clip"}, "db": {"-9"}})
	page := b.get("/songs/" + id + "/levels?solo=kick")
	side := func(name string) audio.Buffer {
		t.Helper()
		m := regexp.MustCompile(`data-` + name + `="([^"]+)"`).FindStringSubmatch(page)
		if m == nil {
			t.Fatalf("no %s side", name)
		}
		_, body := b.do("GET", strings.ReplaceAll(m[1], "&amp;", "&"), nil)
		src, err := codec.Open(strings.NewReader(body), int64(len(body)))
		if err != nil {
			t.Fatal(err)
		}
		x := audio.New(rate, src.Format().Channels, int(src.Format().Frames))
		if err := src.ReadAt(x, 0); err != nil {
			t.Fatal(err)
		}
		return x
	}
	if d := float64(meter.PeakDB(side("before").Ch...) - meter.PeakDB(side("after").Ch...)); math.Abs(d-9) > 0.01 {
		t.Errorf("before is %.3f dB over after", d)
	}
	if !strings.Contains(page, `After raised <span class="n" id="offset-db">9.0</span>`) {
		t.Error("the match does not say 9 dB")
	}
}

// Levels of a song without stems says what to do; its parts do not fail.
func TestLevelsOfNothing(t *testing.T) {
	b := newBench(t)
	id := b.song()
	if page := b.get("/songs/" + id + "/levels"); !strings.Contains(page, "There are no stems yet") {
		t.Error("nobody says that there are no stems")
	}
	for path, want := range map[string]int{"/levels/sum": 409, "/levels/plan": 200, "/levels/noise.wav?db=-30": 400} {
		if status, body := b.do("GET", "/songs/"+id+path, nil, "HX-Request", "true"); status != want {
			t.Errorf("%s answers %d: %.200s", path, status, body)
		}
	}
}

// trimmed reports whether a song has any gain.
func trimmed(s session.Song) bool { return !reflect.DeepEqual(s, s.Untrimmed()) }
