package web

import (
	"bytes"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/move"
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
	if strings.Count(page, "data-school=") != 3 || strings.Count(page, ">use</button>") != 2 {
		t.Errorf("side by side: %.800s", page)
	}
	b.edit(id, "/duck/fit", url.Values{"school": {"compressor"}})
	set := url.Values{"threshold": {"-22"}, "ratio": {"6"}, "knee": {"3"}, "attack": {"2"}, "hold": {"40"}, "release": {"70"}, "ahead": {"4"}, "key-high": {""}, "key-low": {"120"}, "key-slope": {"24"}}
	if status, body := b.edit(id, "/duck/keyed", set); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	song := b.load(id)
	d, _ := song.Duck()
	if c := d.Comp; c.Threshold != -22 || c.Ratio != 6 || c.Release != 70 || d.Key == nil || d.Key.Low != 120 || d.Key.High != 0 {
		t.Errorf("%+v %+v", d.Comp, d.Key)
	}
	for field, bad := range map[string]string{"threshold": "quiet", "ratio": "0.5", "attack": "-1", "key-low": "5", "release": "1e9"} {
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
	set.Set("band-shape", "below")
	set.Set("band-hz", "95")
	set.Set("band-range", "7")
	set.Set("band-channels", "mid")
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
