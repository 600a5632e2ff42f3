package web

import (
	"math"
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// widePad is a pad whose lows are upside down between the channels.
func widePad() audio.Buffer {
	x := audio.New(rate, 2, 8*rate)
	for i := range x.Ch[0] {
		s := float64(i) / rate
		for k, hz := range []float64{98, 147, 196, 440, 660, 880} {
			v := 0.06 * math.Sin(2*math.Pi*hz*s+float64(k))
			x.Ch[0][i] += float32(v)
			if hz < 210 {
				v = -v
			}
			x.Ch[1][i] += float32(v)
		}
	}
	return x
}

// Width: a pad that cancels in its lows is told and cut at the lowest corner, by its finding, by hand and with all others;
// mono below, mid and side, kick and bass narrow, channels that stand apart; heard before it is made, in mono and the side
// alone on the deck; a sheet; off, undone, taken out; bad input in a sentence. Long because each way goes the same road.
func TestWidth(t *testing.T) {
	outside.Slow(t)
	b := newBench(t)
	id := b.song()
	kick, bass := beat()
	r := rand.New(rand.NewPCG(2, 2))
	late := audio.New(rate, 2, 8*rate)
	for i := range late.Ch[0] {
		late.Ch[0][i] = float32(0.05 * r.NormFloat64())
		if i >= 132 {
			late.Ch[1][i] = late.Ch[0][i-132]
		}
	}
	b.send(id, file{"Kick.wav", asWAV(kick)}, file{"808.wav", asWAV(bass)}, file{"Pad.wav", asWAV(widePad())}, file{"Texture.wav", asWAV(late)})
	pad, texture := b.load(id).Named("Pad").ID, b.load(id).Named("Texture").ID
	page := b.get("/songs/" + id + "/width?at=" + pad)
	for _, want := range []string{`id="sides"`, `id="correlated"`, `id="edge-side"`, `id="width-worst"`, "Pad: in its worst tenth its correlation is"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	rows := b.get("/songs/" + id + "/width/rows")
	for _, want := range []string{`id="finding-wide.` + pad, "Pad has its low end upside down in one channel", `id="finding-apart.` + texture,
		"comes 2.99 ms later", "167, 501, 835 Hz", "Make all safe", "mono"} {
		if !strings.Contains(rows, want) {
			t.Errorf("the rows lack %q", want)
		}
	}
	has := func(at session.At, what string) move.Params {
		t.Helper()
		chain, _ := b.load(id).Chain(at)
		if m := chain.Move(what); m != nil {
			return m.Params
		}
		return nil
	}
	if deck := b.get("/songs/" + id + "/deck/data?solo=all&try=" + url.QueryEscape("width/all")); !strings.Contains(deck, "After tries: Make all stand mono") {
		t.Errorf("%.300s", deck)
	}
	if status, body := b.edit(id, "/width/all", url.Values{}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	cut, ok := has(session.At{Stem: pad}, session.WidthSide).(*move.SideCut)
	if !ok || cut.Hz < 100 || cut.Hz > 400 {
		t.Fatalf("%+v", cut)
	}
	if rows := b.get("/songs/" + id + "/width/rows"); strings.Contains(rows, `id="finding-wide.`+pad) {
		t.Error("it is still told")
	}
	if status, body := b.edit(id, "/width/all", url.Values{}); status != 422 || !strings.Contains(body, "stand mono already") {
		t.Errorf("%d %.300s", status, body)
	}
	b.edit(id, "/undo", url.Values{})
	if has(session.At{Stem: pad}, session.WidthSide) != nil {
		t.Error("undo leaves it in")
	}
	for _, c := range []struct {
		path string
		form url.Values
		id   string
		at   session.At
		out  url.Values
	}{
		{"side", url.Values{"at": {pad}, "hz": {"180 Hz"}}, session.WidthSide, session.At{Stem: pad}, url.Values{"at": {pad}, "hz": {""}}},
		{"mono", url.Values{"at": {"master"}, "hz": {"110"}}, session.WidthMono, session.At{}, url.Values{"at": {"master"}, "hz": {""}}},
		{"level", url.Values{"at": {pad}, "mid": {"0"}, "side": {"-3"}}, session.WidthLevel, session.At{Stem: pad}, url.Values{"at": {pad}, "mid": {"0"},
			"side": {"0"}}},
		{"bands", url.Values{"at": {pad}, "over": {"4"}, "over_hz": {"2000"}, "under": {"0"}}, session.WidthOver, session.At{Stem: pad}, url.Values{"at": {pad},
			"over": {"0"}}},
		{"align", url.Values{"at": {texture}}, session.WidthAlign, session.At{Stem: texture}, url.Values{"at": {texture}, "out": {"1"}}},
	} {
		if status, body := b.edit(id, "/width/"+c.path, c.form); status != 200 || has(c.at, c.id) == nil {
			t.Fatalf("%s: %d %.300s", c.path, status, body)
		}
		if a, ok := has(c.at, c.id).(*move.Align); ok && math.Abs(a.Left-2.99) > 0.01 {
			t.Errorf("%+v", a)
		}
		if sheet := b.get("/songs/" + id + "/width/settings.txt"); !strings.Contains(sheet, "Width settings") {
			t.Errorf("%s", sheet)
		}
		if status, body := b.edit(id, "/width/"+c.path, c.out); status != 200 || has(c.at, c.id) != nil {
			t.Errorf("%s: %d %.300s", c.path, status, body)
		}
	}
	if status, _ := b.edit(id, "/width/low", url.Values{"role": {"bass"}, "width": {"narrow"}}); status != 200 ||
		b.load(id).ByRole(session.Bass)[0].Width != -0.7 {
		t.Error("the bass is not narrow")
	}
	if status, _ := b.edit(id, "/width/rules", url.Values{"correlation": {"0.3"}}); status != 200 || b.load(id).WidthRules().Correlation != 0.3 {
		t.Error("the rule is not taken")
	}
	for _, c := range []struct {
		path string
		form url.Values
		say  string
	}{
		{"side", url.Values{"at": {"none"}, "hz": {"100"}}, "no longer there"}, {"side", url.Values{"at": {pad}, "hz": {"5"}}, "out of bounds"}, {"mono",
			url.Values{"at": {pad}, "hz": {"low"}}, "corner"},
		{"level", url.Values{"at": {pad}, "mid": {"0"}, "side": {"99"}}, "outside"}, {"align", url.Values{"at": {pad}}, "neither apart"}, {"low",
			url.Values{"role": {"hats"}}, "kick or bass"},
		{"low", url.Values{"role": {"kick"}, "width": {"huge"}}, "no such width"},
		{"rules", url.Values{"correlation": {"2"}}, "a correlation of 2 is outside −1 to 0.99"},
		{"bands", url.Values{"at": {pad}, "over": {"wide"}}, "shelf"}, {"bands", url.Values{"at": {pad}, "over": {"99"}}, "outside"}, {"bands",
			url.Values{"at": {"none"}}, "no longer there"},
	} {
		if status, body := b.edit(id, "/width/"+c.path, c.form); status != 422 || !strings.Contains(strings.ToLower(body), c.say) {
			t.Errorf("%s %v: %d, no %q", c.path, c.form, status, c.say)
		}
	}
	// a pair panned against each other: what mono costs is said before, and is what is measured after
	if pair := b.get("/songs/" + id + "/width/pair?a=" + pad + "&b=" + texture + "&pan=80"); !strings.Contains(pair, "Together mono costs them") {
		t.Errorf("%.300s", pair)
	}
	if status, body := b.edit(id, "/width/pair", url.Values{"a": {pad}, "b": {texture}, "pan": {"80"}}); status != 200 || b.load(id).Stem(pad).Pan != -0.8 ||
		b.load(id).Stem(texture).Pan != 0.8 {
		t.Errorf("%d %.300s", status, body)
	}
	for _, form := range []url.Values{{"a": {pad}, "b": {pad}}, {"a": {pad}, "b": {texture}, "pan": {"far"}}} {
		if status, _ := b.edit(id, "/width/pair", form); status != 422 {
			t.Errorf("%v: %d", form, status)
		}
	}
	if status, _ := b.do("GET", "/songs/"+id+"/width/pair?pan=200", nil); status != 422 {
		t.Errorf("a pan out of bounds: %d", status)
	}
	// the deck in mono, and the side alone
	data := b.get("/songs/" + id + "/deck/data?solo=all&ear=mono")
	_, after, _ := strings.Cut(data, `data-after="`)
	address := strings.ReplaceAll(after[:strings.Index(after, `"`)], "&amp;", "&")
	if !strings.Contains(address, "ear=mono") {
		t.Fatal(address)
	}
	if a, c := b.get(address), b.get(strings.Replace(address, "ear=mono", "ear=side", 1)); len(a) < 1000 || a == c || !sidesAlike(a) || !sidesAlike(c) {
		t.Error("mono and side do not stand on both sides alike")
	}
	b.get("/songs/" + id + "/deck/data?ear=")
}

// sidesAlike reports whether both channels of a 24-bit stereo WAV are the same.
func sidesAlike(file string) bool {
	for at := 44; at+6 <= len(file); at += 6 {
		if file[at:at+3] != file[at+3:at+6] {
			return false
		}
	}
	return true
}

// Width of songs with little in them: no stems, all mono, one side alone, silence.
func TestWidthOfLittle(t *testing.T) {
	b := newBench(t)
	kick, _ := beat()
	one := audio.New(rate, 2, kick.Frames())
	copy(one.Ch[0], kick.Ch[0])
	for name, files := range map[string][]file{"empty": nil, "mono": {{"Kick.wav", asWAV(kick)}}, "one side": {{"Kick.wav", asWAV(one)}}, "silence": {{"Pad.wav",
		asWAV(audio.New(rate, 2, 3*rate))}}} {
		id := b.song()
		if files != nil {
			b.send(id, files...)
		}
		for _, part := range []string{"", "/rows"} {
			status, body := b.do("GET", "/songs/"+id+"/width"+part, nil)
			if status != 200 && !(name == "empty" && status == 409) || strings.Contains(body, "NaN") || strings.Contains(body, "Inf") {
				t.Errorf("%s%s: %d %.200s", name, part, status, body)
			}
		}
	}
}
