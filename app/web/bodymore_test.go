package web

import (
	"math"
	"net/url"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// What else Body does, from the page: layers that hand over and sound on chosen beats, a tone and a boost under the kick,
// notes that fall, a glue and three bands on the mix, an attack shaped by bands and in parallel, a one-shot; each heard before
// it is made, put in, taken out; bad input refused in a sentence. Long because each way goes the same road.
func TestBodyMore(t *testing.T) {
	outside.Slow(t)
	b := newBench(t)
	id := b.song()
	kick, bass := beat()
	top := kick
	top.Ch = [][]float32{make([]float32, kick.Frames())}
	for i := 260; i < kick.Frames(); i++ {
		top.Ch[0][i] = 0.6 * kick.Ch[0][i-260]
	}
	b.send(id, file{"Kick low.wav", asWAV(kick)}, file{"Kick top.wav", asWAV(top)}, file{"808.wav", asWAV(bass)})
	for _, st := range b.load(id).Stems {
		role := session.Kick
		if st.Name == "808" {
			role = session.Bass
		}
		b.edit(id, "/stems/"+st.ID+"/role", url.Values{"role": {string(role)}})
	}
	song := b.load(id)
	stem := song.Named("Kick top").ID
	has := func(id string, at session.At) bool {
		t.Helper()
		chain, _ := b.load(song.ID).Chain(at)
		return chain.Move(id) != nil
	}
	for page, wants := range map[string][]string{
		"layers": {"Layers of the kick", "low source", "the sum of their energies under 150 Hz"}, "low": {"Under the kick", "Falling notes", "The kick weighs",
			"Its clearance moves by"},
		"glue": {"Held together", "Up and down.", "as loud as before"}, "steady?part=kick": {"in three bands", "in parallel", `id="shot-go"`},
	} {
		got := b.get("/songs/" + id + "/body/" + page)
		for _, want := range wants {
			if !strings.Contains(got, want) {
				t.Errorf("%s lacks %q", page, want)
			}
		}
	}
	first, last := b.load(id).ByRole(session.Kick)[0].ID, b.load(id).ByRole(session.Bass)[0].ID
	for _, c := range []struct {
		path     string
		form     url.Values
		try      string
		id       string
		at       session.At
		takenOut url.Values
	}{
		{"under", url.Values{"key": {"tone"}, "db": {"9"}}, "under:tone:9", session.BodySub, session.At{Stem: b.load(id).TriggerStem().ID},
			url.Values{"key": {"tone"}, "out": {"1"}}},
		{"under", url.Values{"key": {"lift"}}, "under:lift:3", session.BodyLift, session.At{Stem: b.load(id).TriggerStem().ID}, url.Values{"key": {"lift"},
			"out": {"1"}}},
		{"fall", url.Values{"from": {"release"}, "semitones": {"7"}, "ms": {"200"}, "curve": {"late"}}, "fall:" + url.Values{"from": {"release"},
			"semitones": {"7"}, "ms": {"200"}, "curve": {"late"}}.Encode(), session.BodyFall, session.At{Stem: last}, url.Values{"out": {"1"}}},
		{"glue", url.Values{"what": {"bands"}, "at": {"master"}, "depth": {"40"}}, "glue:bands:40:master", session.BodyBands, session.At{},
			url.Values{"what": {"bands"}, "at": {"master"}, "out": {"1"}}},
		{"shaping", url.Values{"part": {"kick"}, "id": {session.BodyParallel}}, "", session.BodyParallel, session.At{Stem: first}, url.Values{"part": {"kick"},
			"id": {session.BodyParallel}, "out": {"1"}}},
		{"shaping", url.Values{"part": {"kick"}, "id": {session.BodyAttackBands}}, "", session.BodyAttackBands, session.At{Stem: first},
			url.Values{"part": {"kick"}, "id": {session.BodyAttackBands}, "out": {"1"}}},
		{"beats", url.Values{"stem": {stem}, "beats": {"13"}}, "", session.BodyBeats, session.At{Stem: stem}, url.Values{"stem": {stem}, "beats": {""}}},
	} {
		if c.try != "" {
			if deck := b.get("/songs/" + id + "/deck/data?solo=all&try=" + url.QueryEscape("body/"+c.try)); !strings.Contains(deck, "After tries:") {
				t.Errorf("%s: %.200s", c.try, deck)
			}
		}
		if c.path == "beats" { // its hits lie a quarter of a second after the bars
			b.edit(id, "/settings", url.Values{"name": {"x"}, "bpm": {"120"}, "grid": {"250"}, "leader": {"kick"}})
		}
		if status, body := b.edit(id, "/body/"+c.path, c.form); status != 200 || !has(c.id, c.at) {
			t.Errorf("%s %v: %d %.200s", c.path, c.form, status, body)
			continue
		}
		if c.id == session.BodyParallel && !strings.Contains(b.get("/songs/"+id+"/body/steady?part=kick"), "dB under the sound") {
			t.Error("the copy's level is not told")
		}
		if c.id == session.BodyFall {
			if m, ok := b.load(id).Stem(last).Move(c.id).Params.(*move.Drop); !ok || m.Semitones != 7 || m.From != move.DropRelease || len(m.Notes) == 0 {
				t.Errorf("%+v", m)
			}
		}
		if sheet := b.get("/songs/" + id + "/body/settings.txt"); !strings.Contains(sheet, move.KindOf(kindOf(t, b, id, c.at, c.id)).Label) {
			t.Errorf("%s is not on the sheet", c.id)
		}
		if status, body := b.edit(id, "/body/"+c.path, c.takenOut); status != 200 || has(c.id, c.at) {
			t.Errorf("%s %v: %d %.200s", c.path, c.takenOut, status, body)
		}
	}
	for _, c := range []struct {
		path string
		form url.Values
		say  string
	}{
		{"under", url.Values{"key": {"none"}}, "nothing of that name"}, {"under", url.Values{"key": {"tone"}, "db": {"99"}}, "out of bounds"}, {"fall",
			url.Values{"semitones": {"99"}}, "outside"},
		{"glue", url.Values{"what": {"glue"}, "at": {"bus:none"}}, "no longer there"}, {"glue", url.Values{"what": {"bands"}, "at": {"master"}, "depth": {"deep"}},
			"depth"},
		{"shaping", url.Values{"part": {"kick"}, "id": {"none"}}, "no such way"}, {"beats", url.Values{"stem": {"none"}}, "no longer there"}, {"beats",
			url.Values{"stem": {stem}, "beats": {"never"}}, "no hit there"},
		{"layers", url.Values{"role": {"hats"}}, "no such layers"}, {"layers", url.Values{"role": {"snare"}}, "no such layers"},
	} {
		if status, body := b.edit(id, "/body/"+c.path, c.form); status != 422 || !strings.Contains(body, c.say) {
			t.Errorf("%s %v: %d, no %q", c.path, c.form, status, c.say)
		}
	}
	for _, q := range []string{"low?tone=loud", "low?semitones=99", "glue?depth=200"} {
		if status, _ := b.do("GET", "/songs/"+id+"/body/"+q, nil); status != 422 {
			t.Errorf("%s: %d", q, status)
		}
	}
	if shot := b.get("/songs/" + id + "/body/oneshot.wav?part=kick"); !strings.HasPrefix(shot, "RIFF") || len(shot) < 20000 {
		t.Errorf("a shot of %d bytes", len(shot))
	}
	for q, want := range map[string]int{"part=none": 404, "part=kick&hit=first": 422, "part=kick&hit=9999": 409} {
		if status, _ := b.do("GET", "/songs/"+id+"/body/oneshot.wav?"+q, nil); status != want {
			t.Errorf("%s: %d, want %d", q, status, want)
		}
	}
}

// Body of songs with little in them: no stems, one silent, one hit, no notes. Every part of the page answers, in words where
// there is nothing.
func TestBodyOfLittle(t *testing.T) {
	b := newBench(t)
	one := audio.New(rate, 1, 3*rate)
	for i := range rate / 4 {
		one.Ch[0][rate+i] = float32(0.5*math.Sin(float64(i)*0.008)) * float32(math.Exp(-float64(i)/3000))
	}
	for name, files := range map[string][]file{"empty": nil, "silent": {{"Kick.wav", asWAV(audio.New(rate, 1, 3*rate))}, {"808.wav", asWAV(audio.New(rate, 1,
		3*rate))}}, "one hit": {{"Kick.wav", asWAV(one)}}} {
		id := b.song()
		if files != nil {
			b.send(id, files...)
		}
		for _, part := range []string{"", "/steady", "/speaker", "/layers", "/low", "/glue", "/apart"} {
			status, body := b.do("GET", "/songs/"+id+"/body"+part, nil)
			if status != 200 && !(name == "empty" && status == 409) || strings.Contains(body, "NaN") || strings.Contains(body, "Inf") {
				t.Errorf("%s%s: %d %.200s", name, part, status, body)
			}
		}
	}
}

// A stem that comes back after Body planned a boost is compared with the plan: boosted so it has landed, as it was it has not.
func TestBodyBack(t *testing.T) {
	b, id := ready(t)
	kick, _ := beat()
	if status, body := b.edit(id, "/body/under", url.Values{"key": {"lift"}, "db": {"4"}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	st := b.load(id).TriggerStem()
	f := st.Move(session.BodyLift).Params.(*move.Filter)
	s, err := dsp.RBJ(dsp.Bell, f.Hz, f.Q, f.DB, rate)
	if err != nil {
		t.Fatal(err)
	}
	lifted := audio.New(rate, 1, kick.Frames())
	dsp.NewFilter([]dsp.Biquad{s}).Process(lifted.Ch[0], kick.Ch[0])
	for i := range lifted.Ch[0] {
		lifted.Ch[0][i] *= 0.6 // it would clip
		kick.Ch[0][i] *= 0.999
	}
	for _, c := range []struct {
		x   audio.Buffer
		say string
	}{{lifted, "came back as planned"}, {kick, "dB less at 50 Hz than was planned"}} {
		body, kind := multipartOf(file{"Kick.wav", asWAV(c.x)})
		b.postTo(id, "/stems/"+st.ID+"/replace", body, kind)
		if page := b.get("/songs/" + id + "/body"); !strings.Contains(page, `id="body-back"`) {
			t.Errorf("%.300s", page)
		}
		if page := b.get("/songs/" + id + "/body/back"); !strings.Contains(page, c.say) {
			t.Errorf("no %q: %s", c.say, page)
		}
		b.edit(id, "/undo", url.Values{})
	}
}

func kindOf(t *testing.T, b *bench, song string, at session.At, id string) string {
	t.Helper()
	chain, _ := b.load(song).Chain(at)
	return chain.Move(id).Params.Kind().Name
}
