package web

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// shownNumber reads a figure as a page shows it.
func shownNumber(text string) float64 {
	v, err := strconv.ParseFloat(strings.Replace(text, "−", "-", 1), 64)
	if err != nil {
		return math.NaN()
	}
	return v
}

// rumbling is a bell that carries rumble, and hats.
func rumbling() (bell, hats audio.Buffer) {
	r := rand.New(rand.NewPCG(5, 5))
	bell, hats = audio.New(rate, 1, 8*rate), audio.New(rate, 1, 8*rate)
	last := 0.0
	for i := range bell.Ch[0] {
		t := float64(i) / rate
		since := math.Mod(t, 0.5)
		bell.Ch[0][i] = float32(0.15*math.Sin(2*math.Pi*880*t)*math.Exp(-since/0.4) + 0.02*math.Sin(2*math.Pi*41*t))
		n := r.NormFloat64()
		hats.Ch[0][i] = float32(0.05 * (n - last) * math.Exp(-math.Mod(t, 0.25)/0.03))
		last = n
	}
	return bell, hats
}

// Room: what the rest puts under kick and bass, what may go unheard of it, cut in one step, by hand, heard before and
// taken away; bad input is refused in a sentence.
// Long because it is one evening with a stage.
func TestRoom(t *testing.T) {
	b, id := ready(t)
	bell, hats := rumbling()
	if jobs := b.send(id, file{"Bell.wav", asWAV(bell)}, file{"Hats.wav", asWAV(hats)}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	stem := func(name string) *session.Stem {
		song := b.load(id)
		return song.Named(name)
	}
	under := func() float64 {
		page := b.get("/songs/" + id + "/room")
		m := regexp.MustCompile(`id="cellar-under">([−0-9.]+)<`).FindStringSubmatch(page)
		if m == nil {
			t.Fatalf("%.600s", page)
		}
		return shownNumber(m[1])
	}
	before := under()
	if status, _ := b.edit(id, "/room/rules", url.Values{"cellar": {fmt.Sprint(math.Round(before) + 6)}, "slope": {"24"}, "playback": {"83"}}); status != 200 {
		t.Fatal("the rules are not taken")
	}
	cuts := b.get("/songs/" + id + "/room/cuts")
	corner := regexp.MustCompile(`id="low-` + stem("Bell").ID + `" value="" placeholder="(\d+)"`).FindStringSubmatch(cuts)
	if corner == nil || shownNumber(corner[1]) < 63 || shownNumber(corner[1]) > 500 {
		t.Fatalf("the bell's corner: %v", corner)
	}
	for _, want := range []string{`id="edge-` + stem("Bell").ID + `-low"`, `id="finding-cellar"`, `id="finding-unheard-low.` + stem("Bell").ID + `"`,
		"Bell rumbles at 40 Hz", `id="cellar-parts"`} {
		if !strings.Contains(cuts, want) {
			t.Errorf("the rows lack %q", want)
		}
	}
	if strings.Contains(cuts, `id="room-`+stem("Kick").ID+`"`) || strings.Contains(cuts, `id="room-`+stem("808").ID+`"`) {
		t.Error("kick or bass is to be cut")
	}
	// heard before it is made, and what it takes away alone
	deck := b.get("/songs/" + id + "/deck/data?try=room%2Fall&solo=all")
	if !strings.Contains(deck, "After tries: Cut all unheard: ") {
		t.Errorf("it cannot be heard first: %.400s", deck)
	}
	if status, body := b.edit(id, "/room/all", url.Values{}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	song := b.load(id)
	f, ok := song.Named("Bell").Moves.Move(session.RoomLow).Params.(*move.Filter)
	if !ok || f.Hz > shownNumber(corner[1]) || f.Hz < 63 || f.Slope != 24 || !strings.HasPrefix(song.Undo, "Cut all unheard: ") {
		t.Errorf("%+v; undo %q", f, song.Undo)
	}
	if after := under(); after < before+1 {
		t.Errorf("the rest is %.1f dB under them, %.1f before", after, before)
	}
	if status, body := b.edit(id, "/room/all", url.Values{}); status != 422 || !strings.Contains(body, "othing more can go unheard") {
		t.Errorf("twice: %d", status)
	}
	w := fmt.Sprintf("?rev=%d&solo=all&from=0&to=%d", b.load(id).Rev, 2*rate)
	was, is := b.sound("/songs/"+id+"/deck/before.wav"+w+"&of=stage:room"), b.sound("/songs/"+id+"/deck/after.wav"+w)
	gone := b.sound("/songs/" + id + "/deck/after.wav" + w + "&of=stage:room&taken=1")
	differ := audio.New(rate, 1, len(gone.Ch[0])) // what is gone in magnitude is no more than what differs, phase and all
	for i := range differ.Ch[0] {
		differ.Ch[0][i] = was.Ch[0][i] - is.Ch[0][i]
	}
	if a, b := meter.Energy(gone.Ch[0]), meter.Energy(differ.Ch[0]); !(a > 0) || a > b {
		t.Errorf("what is taken away has an energy of %g, what differs %g", a, b)
	}
	if deck := b.get("/songs/" + id + "/deck/data?solo=all&against=stage&taken=1"); !strings.Contains(deck, `id="taken" checked`) {
		t.Error("the deck does not say so")
	}
	// by hand, out again, refused
	set := func(stem, side, hz string) (int, string) {
		return b.edit(id, "/room/cut", url.Values{"stem": {stem}, "side": {side}, "hz": {hz}})
	}
	hat := stem("Hats").ID
	if status, _ := set(hat, "high", "9,5 kHz"); status == 200 {
		t.Error("9,5 kHz is taken for a corner")
	}
	if status, _ := set(hat, "high", "9500"); status != 200 || stem("Hats").RoomCut(session.RoomHigh) != 9500 {
		t.Errorf("by hand: %d", status)
	}
	if cuts := b.get("/songs/" + id + "/room/cuts"); !strings.Contains(cuts, `id="high-`+hat+`" value="9500"`) ||
		!strings.Contains(cuts, `class="edge set" id="edge-`+hat+`-high"`) {
		t.Error("the cut is not shown")
	}
	if status, _ := set(hat, "high", ""); status != 200 || stem("Hats").Move(session.RoomHigh) != nil {
		t.Errorf("out again: %d", status)
	}
	for name, bad := range map[string][3]string{
		"no number": {hat, "low", "deep"}, "zero": {hat, "low", "0"}, "too low": {hat, "low", "5"}, "too high": {hat, "low", "5000"},
		"a high cut too low": {hat, "high", "100"}, "nobody": {"nobody", "low", "100"},
	} {
		if status, body := set(bad[0], bad[1], bad[2]); status != 422 || !strings.Contains(body, "Nothing was changed") {
			t.Errorf("%s: %d", name, status)
		}
	}
	for name, bad := range map[string]url.Values{
		"asked": {"cellar": {"much"}, "slope": {"24"}, "playback": {"83"}}, "slope": {"cellar": {"18"}, "slope": {"6"},
			"playback": {"83"}}, "loud": {"cellar": {"18"}, "slope": {"24"}, "playback": {"150"}},
	} {
		if status, body := b.edit(id, "/room/rules", bad); status != 422 || !strings.Contains(body, "What you typed is still there") {
			t.Errorf("%s: %d", name, status)
		}
	}
	// what is open is put aside with a reason, and taken back
	if status, _ := set(stem("Bell").ID, "low", ""); status != 200 { // its rumble is there again
		t.Errorf("the bell's cut out again: %d", status)
	}
	b.edit(id, "/room/rules", url.Values{"cellar": {"60"}, "slope": {"24"}, "playback": {"83"}})
	if status, body := b.edit(id, "/findings/dismiss", url.Values{"stage": {"room"}, "finding": {"cellar"}, "why": {"meant so"}}); status != 200 {
		t.Errorf("%d %.200s", status, body)
	}
	if cuts := b.get("/songs/" + id + "/room/cuts"); strings.Contains(cuts, `id="finding-cellar"`) || !strings.Contains(cuts, "meant so") ||
		!strings.Contains(cuts, `id="mark-room" hx-swap-oob`) {
		t.Error("what was put aside is still open, or is not listed")
	}
	b.edit(id, "/findings/reopen", url.Values{"stage": {"room"}, "finding": {"cellar"}})
	if cuts := b.get("/songs/" + id + "/room/cuts"); !strings.Contains(cuts, `id="finding-cellar"`) {
		t.Error("what was taken back is not open")
	}
}

// Without stems, without a bass, in silence and with one stem alone Room says what is missing.
func TestRoomWithLittle(t *testing.T) {
	b := newBench(t)
	song := b.song()
	if page := b.get("/songs/" + song + "/room"); !strings.Contains(page, "There are no stems yet") {
		t.Errorf("empty: %.300s", page)
	}
	for _, part := range []string{"cuts", "key", "pair", "voice"} {
		if status, body := b.do("GET", "/songs/"+song+"/room/"+part, nil); status != 409 || !strings.Contains(body, "There are no stems yet") {
			t.Errorf("empty, %s: %d %.200s", part, status, body)
		}
	}
	for path, form := range map[string]url.Values{"all": {}, "roll": {"role": {"kick"}, "school": {"fixed"}}, "dip": {"by": {"a"}, "of": {"b"}},
		"voice": {"by": {"a"}}, "complement": {"up": {"kick"}, "db": {"2"}}} {
		if status, body := b.edit(song, "/room/"+path, form); status != 422 || !strings.Contains(body, "There are no stems yet") {
			t.Errorf("empty, posting to %s: %d %.200s", path, status, body)
		}
	}
	bell, _ := rumbling()
	b.send(song, file{"Bell.wav", asWAV(bell)})
	for _, part := range []string{"key", "pair", "voice"} {
		if status, body := b.do("GET", "/songs/"+song+"/room/"+part, nil); status != 200 {
			t.Errorf("one stem, %s: %d %.200s", part, status, body)
		}
	}
	if page := b.get("/songs/" + song + "/room"); !strings.Contains(page, "there is nothing to set against each other") {
		t.Errorf("one stem: %.300s", page)
	}
	if cuts := b.get("/songs/" + song + "/room/cuts"); !strings.Contains(cuts, `id="room-rows"`) || strings.Contains(cuts, "finding-cellar") {
		t.Errorf("one stem: %.300s", cuts)
	}
	b.send(song, file{"Nothing.wav", asWAV(audio.New(rate, 2, 4*rate))})
	if cuts := b.get("/songs/" + song + "/room/cuts"); strings.Count(cuts, `class="edge`) != 4 {
		t.Errorf("with silence: %.300s", cuts)
	}
}

// Under the key the schools stand beside each other and are taken; who covers whom is chosen, heard, dipped, taken out.
func TestRoomKeyAndPairs(t *testing.T) {
	outside.Slow(t)
	b, id := ready(t)
	bell, hats := rumbling()
	over := audio.New(rate, 1, bell.Frames()) // plays what the bell plays, a little louder
	for i, v := range bell.Ch[0] {
		over.Ch[0][i] = 1.35 * v
	}
	b.send(id, file{"Bell.wav", asWAV(bell)}, file{"Hats.wav", asWAV(hats)}, file{"Organ.wav", asWAV(over)})
	b.edit(id, "/settings", url.Values{"name": {"Keyed"}, "bpm": {"120"}, "key": {"F minor"}, "felt": {""}})
	page := b.get("/songs/" + id + "/room/key")
	for _, want := range []string{`id="roll-kick-fixed"`, `id="roll-kick-key"`, `id="roll-bass-key"`, `id="roll-bass-fundamental"`, ">21.2<"} {
		if !strings.Contains(page, want) {
			t.Errorf("under the key lacks %q", want)
		}
	}
	if deck := b.get("/songs/" + id + "/deck/data?try=room%2Froll%3Abass%3Akey&solo=bass"); !strings.Contains(
		deck,
		"After tries: Roll the bass off under 21.2 Hz",
	) {
		t.Errorf("%.300s", deck)
	}
	if status, _ := b.edit(id, "/room/roll", url.Values{"role": {"bass"}, "school": {"key"}}); status != 200 {
		t.Fatalf("%d", status)
	}
	song := b.load(id)
	if got := song.ByRole(session.Bass)[0].RoomCut(session.RoomLow); got != 21.2 {
		t.Errorf("the bass is cut at %g Hz", got)
	}
	if page := b.get("/songs/" + id + "/room/key"); strings.Count(page, `<span class="soft">on</span>`) != 1 {
		t.Error("what is on is not said")
	}
	if status, _ := b.edit(id, "/room/roll", url.Values{"role": {"bass"}, "school": {"guess"}}); status != 422 {
		t.Errorf("no school: %d", status)
	}
	of, by := song.Named("Bell").ID, song.Named("Organ").ID
	page = b.get("/songs/" + id + "/room/pair?by=" + by + "&of=" + of)
	if !strings.Contains(page, "of Bell would be heard if Organ were gone") || !strings.Contains(page, `id="pair-dip"`) {
		t.Fatalf("%.600s", page)
	}
	if page := b.get("/songs/" + id + "/room/pair?by=" + by + "&of=" + by); !strings.Contains(page, `id="pair-none"`) {
		t.Error("a stem covers itself")
	}
	if page := b.get("/songs/" + id + "/room/pair?by=" + song.Named("Kick").ID + "&of=" + song.Named("Hats").ID); !strings.Contains(
		page,
		"it would not be heard better without",
	) &&
		!strings.Contains(page, "would be heard if") {
		t.Errorf("kick over hats: %.300s", page)
	}
	pair := url.Values{"by": {by}, "of": {of}}
	if status, body := b.edit(id, "/room/dip", pair); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	m := b.load(id).Stem(by).Move(session.RoomFor + of)
	if f, ok := m.Params.(*move.Filter); !ok || f.DB >= 0 || f.DB < -6 || f.Hz < 400 || f.Hz > 1500 {
		t.Errorf("%+v", m)
	}
	if page := b.get("/songs/" + id + "/room/pair?by=" + by + "&of=" + of); !strings.Contains(page, `id="pair-out"`) &&
		!strings.Contains(page, "it would not be heard") {
		t.Error("the dip is not said to be there")
	}
	if status, _ := b.edit(id, "/room/dip", url.Values{"by": {by}, "of": {of}, "out": {"1"}}); status != 200 ||
		b.load(id).Stem(by).Move(session.RoomFor+of) != nil {
		t.Errorf("out: %d", status)
	}
	pair.Set("mid", "1")
	if status, _ := b.edit(id, "/room/dip", pair); status != 200 {
		t.Errorf("mid: %d", status)
	}
	if f, ok := b.load(id).Stem(by).Move(session.RoomFor + of).Params.(*move.MidSide); !ok || f.Channels != "mid" {
		t.Error("it is not on the middle alone")
	}
	if status, _ := b.edit(id, "/room/dip", url.Values{"by": {by}, "of": {"nobody"}}); status != 422 {
		t.Errorf("nobody: %d", status)
	}
	b.edit(id, "/undo", url.Values{})
	if b.load(id).Stem(by).Move(session.RoomFor+of) != nil {
		t.Error("undo leaves the dip")
	}
	// kick up, bass down, their peak where it was; bad lifts refused; out again
	peak := func() float64 {
		song := b.load(id)
		l, err := b.server.Renderer.Loudness(context.Background(), &song.Song, mix.SoloBoth, mix.Window{To: 4 * rate})
		if err != nil {
			t.Fatal(err)
		}
		return float64(l.Peak)
	}
	b.edit(id, "/loop", url.Values{"from": {"0"}, "to": {"4"}})
	before := peak()
	if status, body := b.edit(id, "/room/complement", url.Values{"up": {"kick"}, "db": {"1"}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	if after := peak(); after > before+0.06 {
		t.Errorf("the peak of both is %.2f dBFS, %.2f before", after, before)
	}
	song = b.load(id)
	kick := song.ByRole(session.Kick)[0].Move(session.RoomLift).Params.(*move.Filter)
	bass := song.ByRole(session.Bass)[0].Move(session.RoomLift).Params.(*move.Filter)
	if kick.DB != 1 || bass.DB > -1 || bass.DB < -6 || kick.Hz != bass.Hz {
		t.Errorf("%+v and %+v", kick, bass)
	}
	for _, bad := range []url.Values{{"up": {"kick"}, "db": {"9"}}, {"up": {"kick"}, "db": {"much"}}, {"up": {"hats"}, "db": {"2"}}} {
		if status, body := b.edit(id, "/room/complement", bad); status != 422 || !strings.Contains(body, "complement-wrong") {
			t.Errorf("%v: %d", bad, status)
		}
	}
	if status, _ := b.edit(id, "/room/complement", url.Values{"out": {"1"}}); status != 200 || b.load(id).ByRole(session.Kick)[0].Move(session.RoomLift) != nil {
		t.Errorf("out: %d", status)
	}
}

// Space for a voice: what is covered of speech at a level, the dip that lets it through, bad levels refused.
func TestRoomVoice(t *testing.T) {
	outside.Slow(t)
	b, id := ready(t)
	bell, _ := rumbling()
	r := rand.New(rand.NewPCG(1, 9))
	wash := audio.New(rate, 2, 8*rate)
	for c := range wash.Ch {
		for i := range wash.Ch[c] {
			wash.Ch[c][i] = float32(0.2 * r.NormFloat64())
		}
	}
	b.send(id, file{"Bell.wav", asWAV(bell)}, file{"Wash.wav", asWAV(wash)})
	by := b.load(id).Named("Wash").ID
	share := func(level string) float64 {
		m := regexp.MustCompile(`and (\d+) % in 1–4 kHz`).
			FindStringSubmatch(strings.ReplaceAll(strings.ReplaceAll(b.get("/songs/"+id+"/room/voice?level="+level), "\u202f", " "), "\u00a0", " "))
		if m == nil {
			t.Fatal("the share is not said")
		}
		return shownNumber(m[1])
	}
	if soft, loud := share("-40"), share("-1"); soft < 90 || loud >= soft {
		t.Errorf("of a soft voice %.0f %% are covered, of a loud one %.0f", soft, loud)
	}
	if status, body := b.do("GET", "/songs/"+id+"/room/voice?level=loud", nil); status != 422 || !strings.Contains(body, `id="voice-wrong"`) ||
		!strings.Contains(body, `value="loud"`) {
		t.Errorf("a bad level: %d", status)
	}
	form := url.Values{"by": {by}, "level": {"-20"}, "mid": {"1"}}
	if status, body := b.edit(id, "/room/voice", form); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	if f, ok := b.load(id).Stem(by).Move("room-for-voice").Params.(*move.MidSide); !ok || f.DB >= 0 || f.DB < -6 {
		t.Error("the dip is not there")
	}
	if status, _ := b.edit(id, "/room/voice", url.Values{"by": {by}, "out": {"1"}}); status != 200 || b.load(id).Stem(by).Move("room-for-voice") != nil {
		t.Errorf("out: %d", status)
	}
	for _, bad := range []url.Values{{"by": {"nobody"}, "level": {"-20"}}, {"by": {by}, "level": {"9"}}} {
		if status, _ := b.edit(id, "/room/voice", bad); status != 422 {
			t.Errorf("%v: %d", bad, status)
		}
	}
}
