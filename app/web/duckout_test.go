package web

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"maps"
	"math"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// sound reads what a path sends.
func (b *bench) sound(path string) audio.Buffer {
	b.Helper()
	status, body := b.do("GET", path, nil)
	if status != 200 {
		b.Fatalf("%s answers %d: %.200s", path, status, body)
	}
	src, err := codec.Open(strings.NewReader(body), int64(len(body)))
	if err != nil {
		b.Fatal(err)
	}
	x := audio.New(src.Format().Rate, src.Format().Channels, int(src.Format().Frames))
	if err := src.ReadAt(x, 0); err != nil {
		b.Fatal(err)
	}
	return x
}

// All there is to take away comes in one archive that any other program opens: what is in it is what each address sends
// alone; while nothing was changed there is a sentence instead.
func TestTakeAll(t *testing.T) {
	b, id := ready(t)
	if status, body := b.do("GET", "/songs/"+id+"/duck/all.zip", nil); status != 404 || !strings.Contains(body, "Nothing was changed yet") {
		t.Errorf("of nothing: %d %.200s", status, body)
	}
	if status, body := b.edit(id, "/duck/fit", url.Values{"school": {"curve"}}); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	song := b.load(id)
	kick := song.ByRole(session.Kick)[0]
	if status, body := b.edit(id, "/levels/gain", url.Values{"of": {kick.ID}, "step": {"track"}, "db": {"-2"}}); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	_, body := b.do("GET", "/songs/"+id+"/duck/all.zip", nil)
	z, err := zip.NewReader(strings.NewReader(body), int64(len(body)))
	if err != nil {
		t.Fatalf("%v: %.200s", err, body)
	}
	got := map[string]string{}
	for _, f := range z.File {
		r, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		x, err := io.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		got[f.Name] = string(x)
	}
	bass := song.ByRole(session.Bass)[0]
	want := map[string]string{
		bass.Name + " ducked.wav": "ducked.wav?stem=" + bass.ID, kick.Name + " changed.wav": "ducked.wav?stem=" + kick.ID,
		song.Name + " duck curve.csv": "curve.csv", song.Name + " duck gain.mid": "gain.mid", song.Name + " duck gain.wav": "gain.wav",
		song.Name + " hits.mid": "hits.mid", song.Name + " trigger click.wav": "click.wav", song.Name + " duck settings.txt": "settings.txt",
	}
	for name, at := range want {
		if _, alone := b.do("GET", "/songs/"+id+"/duck/"+at, nil); got[name] != alone || alone == "" {
			t.Errorf("%s: %d bytes in the archive, %d alone", name, len(got[name]), len(alone))
		}
	}
	if len(got) != len(want) {
		t.Errorf("it holds %v", slices.Sorted(maps.Keys(got)))
	}
	path := filepath.Join(t.TempDir(), "all.zip")
	if err := os.WriteFile(path, []byte(body), 0o600); err != nil {
		t.Fatal(err)
	}
	var bad struct{ Bad *string }
	outside.Python(t, `
import json, sys, zipfile
json.dump({"Bad": zipfile.ZipFile(json.load(sys.stdin)).testzip()}, sys.stdout)
`, path, &bad)
	if bad.Bad != nil {
		t.Errorf("another program cannot read %s", *bad.Bad)
	}
}

// The three schools: each fitted by a click, side by side, its values set by hand, bad ones refused.
func TestSchools(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/targets", url.Values{"clearance": {"8"}, "depth": {"18"}})
	for _, k := range move.Schools {
		if status, body := b.edit(id, "/duck/fit", url.Values{"school": {k.School}}); status != 200 {
			t.Fatalf("%s: %d %.200s", k.School, status, body)
		}
		song := b.load(id)
		if d, _ := song.Duck(); d == nil || d.School != k.School {
			t.Fatalf("%s: %+v", k.School, d)
		}
	}
	page := b.get("/songs/" + id + "/duck/schools")
	for _, want := range []string{"dB at ", " to 1, knee 6 dB; attack ", "dB at the most, stereo; threshold "} {
		if !strings.Contains(page, want) {
			t.Errorf("beside each other the values lack %q", want)
		}
	}
	if strings.Count(page, "data-school=") != 3 || strings.Count(page, ">use</button>") != 2 {
		t.Errorf("side by side: %.800s", page)
	}
	b.edit(id, "/duck/fit", url.Values{"school": {"compressor"}})
	set := url.Values{
		"compressor.threshold_db": {"-22"},
		"compressor.ratio":        {"6"},
		"compressor.knee_db":      {"3"},
		"compressor.attack_ms":    {"2"},
		"compressor.hold_ms":      {"40"},
		"compressor.release_ms":   {"70"},
		"compressor.lookahead_ms": {"4"},
		"key.highpass_hz":         {""},
		"key.lowpass_hz":          {"120"},
		"key.slope_db_oct":        {"24"},
	}
	if status, body := b.edit(id, "/duck/keyed", set); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	song := b.load(id)
	d, _ := song.Duck()
	if c := d.Comp; c.Threshold != -22 || c.Ratio != 6 || c.Release != 70 || d.Key == nil || d.Key.Low != 120 || d.Key.High != 0 {
		t.Errorf("%+v %+v", d.Comp, d.Key)
	}
	for field, bad := range map[string]string{"compressor.threshold_db": "quiet", "compressor.ratio": "0.5", "compressor.attack_ms": "-1", "key.lowpass_hz": "5",
		"compressor.release_ms": "1e9"} {
		form := url.Values{}
		for k, v := range set {
			form[k] = v
		}
		form.Set(field, bad)
		if status, body := b.edit(id, "/duck/keyed", form); status != 422 || !strings.Contains(body, "What you typed is still there") {
			t.Errorf("%s %s: %d", field, bad, status)
		}
	}
	b.edit(id, "/duck/fit", url.Values{"school": {"band"}})
	set.Set("band.shape", "below")
	set.Set("band.hz", "95")
	set.Set("band.range_db", "7")
	set.Set("band.channels", "mid")
	if status, body := b.edit(id, "/duck/keyed", set); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	song = b.load(id)
	if d, _ = song.Duck(); d.Band.Shape != "below" || d.Band.Range != 7 || d.Band.Channels != "mid" {
		t.Errorf("%+v", d.Band)
	}
	if status, _ := b.edit(id, "/duck/fit", url.Values{"school": {"gate"}}); status != 422 {
		t.Errorf("an unknown school: %d", status)
	}
	if x := b.sound("/songs/" + id + "/deck/after.wav?rev=" + fmt.Sprint(song.Rev) + "&solo=key&from=0&to=44100"); x.Frames() != 44100 {
		t.Errorf("the key is %d frames long", x.Frames())
	}
}

// Everything that a duck is taken away as, against the duck itself: the gain as WAV is the ducked stem
// over the plain one, the clicks stand at the hits, the sheet names what is set.
func TestDuckGoesOut(t *testing.T) {
	b, id := ready(t)
	for path, want := range map[string]int{"gain.wav": 404, "gain.mid": 404, "settings.txt": 404, "click.wav": 200} {
		if status, _ := b.do("GET", "/songs/"+id+"/duck/"+path, nil); status != want {
			t.Errorf("%s without a duck answers %d", path, status)
		}
	}
	_, bass := beat()
	for _, school := range []string{"curve", "compressor"} {
		b.edit(id, "/duck/fit", url.Values{"school": {school}})
		gain, out := b.sound("/songs/"+id+"/duck/gain.wav"), b.sound("/songs/"+id+"/duck/ducked.wav")
		low := float32(1)
		for i, v := range bass.Ch[0] {
			low = min(low, gain.Ch[0][i])
			if math.Abs(float64(v)) > 0.05 && math.Abs(float64(out.Ch[0][i]/v-gain.Ch[0][i])) > 1e-3 {
				t.Fatalf("%s: frame %d: the stem has %g, the gain says %g", school, i, out.Ch[0][i]/v, gain.Ch[0][i])
			}
		}
		if low > 0.7 {
			t.Errorf("%s: the gain falls to %g only", school, low)
		}
		_, sheet := b.do("GET", "/songs/"+id+"/duck/settings.txt", nil)
		for _, want := range []string{"threshold", "ratio", "release", "gain reduction on the meter", "back before the next hit", "in 1/16"} {
			if school == "compressor" && want == "in 1/16" {
				continue
			}
			if !strings.Contains(sheet, want) {
				t.Errorf("%s: the sheet lacks %q:\n%s", school, want, sheet)
			}
		}
		if _, mid := b.do("GET", "/songs/"+id+"/duck/gain.mid", nil); !strings.HasPrefix(mid, "MThd") {
			t.Errorf("%s: the gain is no MIDI file", school)
		}
		if _, curve := b.do("GET", "/songs/"+id+"/duck/curve.csv", nil); strings.Count(curve, "\n") < 100 {
			t.Errorf("%s: the curve has %d rows", school, strings.Count(curve, "\n"))
		}
	}
	click := b.sound("/songs/" + id + "/duck/click.wav")
	for h := 0.25; h < 7.7; h += 0.5 {
		at := int(h * rate)
		if click.Ch[0][at-200] != 0 {
			t.Errorf("a click before the hit at %g s", h)
		}
		top := float32(0)
		for _, v := range click.Ch[0][at-100 : at+300] {
			top = max(top, v)
		}
		if top < 0.2 {
			t.Errorf("no click at %g s", h)
		}
	}
}

// A bass that was bounced with its duck comes back as planned; one bounced without, does not.
func TestDuckComesBack(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{})
	if page := b.get("/songs/" + id + "/duck/back"); strings.Contains(page, "What came back") {
		t.Error("something came back before anything went out")
	}
	song := b.load(id)
	low := song.ByRole("bass")[0].ID
	out := b.sound("/songs/" + id + "/duck/ducked.wav")
	replace := func(x audio.Buffer) string {
		body, kind := multipartOf(file{"808 again.wav", asWAV(x)})
		req, _ := http.NewRequest("POST", b.url+"/songs/"+id+"/stems/"+low+"/replace", bytes.NewReader(body))
		req.Header.Set("Content-Type", kind)
		req.Header.Set("HX-Request", "true")
		res, err := b.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		io.Copy(io.Discard, res.Body)
		res.Body.Close()
		b.wait(id)
		return b.get("/songs/" + id + "/duck/back")
	}
	page := replace(out)
	worst := page[strings.Index(page, `id="back-worst">`)+len(`id="back-worst">`):]
	worst = worst[:strings.Index(worst, "<")]
	if !strings.Contains(page, "What came back") || worst != "0.0" && worst != "0.1" && worst != "−0.1" {
		t.Errorf("a faithful bounce differs by %s dB", worst)
	}
}

// The handover is moved by its place in ms: duck and fade go with it; what cannot be is refused.
func TestHandoverMoves(t *testing.T) {
	b, id := ready(t)
	if status, body := b.edit(id, "/duck/handover", url.Values{"ms": {"120"}}); status != 422 || !strings.Contains(body, "no duck to move") {
		t.Errorf("without a duck: %d", status)
	}
	b.edit(id, "/duck/fit", url.Values{})
	song := b.load(id)
	d, _ := song.Duck()
	hold := d.Points[2].MS
	if status, body := b.edit(id, "/duck/handover", url.Values{"ms": {"150"}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	song = b.load(id)
	d, _ = song.Duck()
	fade := song.TriggerStem().Move("tail-fade")
	if d.Points[2].MS == hold || fade == nil {
		t.Errorf("the duck holds to %g ms as before %g, the fade is %v", d.Points[2].MS, hold, fade)
	}
	if f, ok := fade.Params.(*move.Fade); !ok || !(f.From < 150 && f.To > 150) {
		t.Errorf("the fade is %+v", fade.Params)
	}
	for _, bad := range []string{"soon", "5", "9000", ""} {
		if status, _ := b.edit(id, "/duck/handover", url.Values{"ms": {bad}}); status != 422 {
			t.Errorf("%q: %d", bad, status)
		}
	}
}

// Two notes of the bass, one far off the kick's octave: the duck follows them and loses less; by a click it
// is the same for all again.
func TestDuckFollowsNotes(t *testing.T) {
	b := newBench(t)
	id := b.song()
	kick, bass := beat()
	for i := range bass.Ch[0] {
		hz := 46.25
		if i/(2*rate)%2 == 1 {
			hz = 92.5
		}
		bass.Ch[0][i] = float32(0.22 * math.Sin(2*math.Pi*hz*float64(i)/rate))
	}
	if jobs := b.send(id, file{"Kick.wav", asWAV(kick)}, file{"808.wav", asWAV(bass)}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	b.edit(id, "/duck/fit", url.Values{"school": {"compressor"}})
	if status, body := b.edit(id, "/duck/per-note", url.Values{}); status != 422 || !strings.Contains(body, "a drawn curve on the bass") {
		t.Errorf("a compressor: %d", status)
	}
	b.edit(id, "/duck/fit", url.Values{"school": {"curve"}})
	if cost := b.get("/songs/" + id + "/duck/cost"); !strings.Contains(cost, `id="note-use"`) || !strings.Contains(cost, "F#2") {
		t.Fatalf("what it costs: %.600s", cost)
	}
	loss := func() float64 {
		s := b.load(id)
		st, err := pair.Measure(t.Context(), b.server.Renderer, &s.Song, mix.Window{To: 8 * rate})
		if err != nil {
			t.Fatal(err)
		}
		if float64(st.After.ClearanceP10) < 7.95 {
			t.Errorf("the worst tenth has %.2f dB", float64(st.After.ClearanceP10))
		}
		return float64(st.Readout.BassLossLow)
	}
	was := loss()
	if status, _ := b.edit(id, "/duck/per-note", url.Values{}); status != 200 {
		t.Fatal("not followed")
	}
	song := b.load(id)
	if d, _ := song.Duck(); len(d.Parts) == 0 || loss() > was-0.3 {
		t.Errorf("%d parts, %.2f dB of bass lost after %.2f", len(d.Parts), loss(), was)
	}
	if cost := b.get("/songs/" + id + "/duck/cost"); !strings.Contains(cost, `id="note-same"`) {
		t.Error("it cannot be made the same for all again")
	}
	b.edit(id, "/duck/per-note", url.Values{"same": {"1"}})
	if got := loss(); math.Abs(got-was) > 1e-9 {
		t.Errorf("the same for all loses %.2f dB, it lost %.2f", got, was)
	}
}

// address reads the address of one side from the deck's data.
func address(deck, side string) string {
	from := strings.Index(deck, `data-`+side+`="`) + len(`data-`+side+`="`)
	return strings.ReplaceAll(deck[from:from+strings.Index(deck[from:], `"`)], "&amp;", "&")
}

// A school is heard before it is chosen: After is what its fit would give, to the bit, and the song stays.
func TestHearASchool(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{"school": {"curve"}})
	rev := b.load(id).Rev
	deck := b.get("/songs/" + id + "/deck/data?solo=both&try=duck%2Fband")
	if !strings.Contains(deck, "&amp;try=duck%2Fband") || !strings.Contains(deck, "After tries: ") || b.load(id).Rev != rev {
		t.Errorf("the deck: %.600s", deck)
	}
	tried, before := b.sound(address(deck, "after")), b.sound(address(deck, "before"))
	b.edit(id, "/duck/fit", url.Values{"school": {"band"}})
	plain := b.get("/songs/" + id + "/deck/data?solo=both")
	chosen := b.sound(address(plain, "after"))
	differs := false
	for i, v := range chosen.Ch[0] {
		if tried.Ch[0][i] != v {
			t.Fatalf("frame %d: tried %g, chosen %g", i, tried.Ch[0][i], v)
		}
		differs = differs || before.Ch[0][i] != v
	}
	if !differs {
		t.Error("After is Before")
	}
	for _, path := range []string{"/deck/data?try=duck%2Fgate", "/deck/data?try=shelf%2Fx", "/deck/data?try=finding%2Fduck%2Fnone",
		"/deck/after.wav?rev=1&from=0&to=400&try=duck%2Fgate"} {
		if status, _ := b.do("GET", "/songs/"+id+path, nil); status != 422 && status != 400 {
			t.Errorf("%s: %d", path, status)
		}
	}
}

// Look-ahead is asked for, or not: an unticked box counts where the form was there, and a fit keeps to it.
func TestLookaheadIsAsked(t *testing.T) {
	b, id := ready(t)
	set := func(form url.Values) session.Targets {
		t.Helper()
		form.Set("clearance", "8")
		form.Set("depth", "18")
		if status, body := b.edit(id, "/duck/targets", form); status != 200 {
			t.Fatalf("%d %.200s", status, body)
		}
		return b.load(id).Targets
	}
	if !set(url.Values{"ahead-asked": {"1"}}).NoAhead {
		t.Error("unticked, it is still on")
	}
	if !set(url.Values{}).NoAhead {
		t.Error("a form that does not ask turns it on")
	}
	b.edit(id, "/duck/fit", url.Values{})
	song := b.load(id)
	if d, _ := song.Duck(); d.Points[0].MS < 0 {
		t.Errorf("the fit begins %g ms before the hit", -d.Points[0].MS)
	}
	if set(url.Values{"ahead-asked": {"1"}, "ahead": {"1"}}).NoAhead {
		t.Error("ticked, it is off")
	}
}
