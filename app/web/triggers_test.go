package web

import (
	"bytes"
	"context"
	"io"
	"math"
	"mime/multipart"
	"net/http"
	"net/url"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/field"
	"mellowthump/core/midi"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Any stem or bus ducks to any trigger by its own depth: rendered, shown in the matrix, taken out again;
// what gives the hits cannot duck to itself.
func TestMatrix(t *testing.T) {
	b, id := ready(t)
	pad := audio.New(rate, 1, 8*rate)
	for i := range pad.Ch[0] {
		pad.Ch[0][i] = float32(0.1 * math.Sin(2*math.Pi*400*float64(i)/rate))
	}
	snare := audio.New(rate, 1, 8*rate)
	for h := 0.5; h < 7.7; h++ {
		for i := range rate / 10 {
			snare.Ch[0][int(h*rate)+i] = float32(0.5 * math.Sin(2*math.Pi*190*float64(i)/rate) * math.Exp(-float64(i)/2000))
		}
	}
	if jobs := b.send(id, file{"Pad.wav", asWAV(pad)}, file{"Snare.wav", asWAV(snare)}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	stem := func(name string) *session.Stem {
		song := b.load(id)
		for i := range song.Stems {
			if song.Stems[i].Name == name {
				return &song.Stems[i]
			}
		}
		t.Fatalf("no %s", name)
		return nil
	}
	both := url.Values{"stem": {stem("Kick").ID, stem("Snare").ID}}
	if status, body := b.edit(id, "/duck/trigger", both); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	hits := func(trigger string) int {
		song := b.load(id)
		h, err := b.server.Renderer.Hits(&song.Song, trigger)
		if err != nil {
			t.Fatal(err)
		}
		return len(h)
	}
	if k, s := hits(session.KickTrigger), hits("t1"); k != 15 || s != 15+8 {
		t.Errorf("%d hits of the kick, %d of kick and snare", k, s)
	}
	if status, _ := b.edit(id, "/duck/trigger", url.Values{"grid": {"1/8"}}); status != 200 || hits("t2") != 32 {
		t.Errorf("an eighth-note grid over 8 s at 120 bpm has %d hits", hits("t2"))
	}
	if status, body := b.edit(id, "/duck/cell", url.Values{"part": {stem("Pad").ID}, "trigger": {"t1"}, "depth": {"5"}}); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	song := b.load(id)
	w := mix.Window{From: 0, To: 8 * rate}
	out, _, err := b.server.Renderer.Stem(context.Background(), &song.Song, song.Stem(stem("Pad").ID), w)
	if err != nil {
		t.Fatal(err)
	}
	at := int((0.5 + 0.02) * rate) // behind a snare
	top := float32(0)
	for _, v := range out.Ch[0][at : at+200] {
		top = max(top, v)
	}
	if db := 20 * math.Log10(float64(top)/0.1); math.Abs(db+5) > 0.3 {
		t.Errorf("behind the snare the pad is at %.2f dB", db)
	}
	if page := b.get("/songs/" + id + "/duck"); !strings.Contains(page, `id="cell-`+stem("Pad").ID+`-t1" value="5"`) {
		t.Error("the matrix does not show it")
	}
	if got := b.sound("/songs/" + id + "/duck/ducked.wav?stem=" + stem("Pad").ID); math.Abs(float64(got.Ch[0][at]-out.Ch[0][at])) > 1e-6 {
		t.Error("the ducked pad cannot be taken away")
	}
	if page := b.get("/songs/" + id + "/duck"); !strings.Contains(page, "ducked.wav?stem="+stem("Pad").ID) {
		t.Error("it is not offered")
	}
	// it ducks to a second trigger beside the first, by its own depth
	b.edit(id, "/duck/cell", url.Values{"part": {stem("Pad").ID}, "trigger": {"t2"}, "depth": {"1.5"}})
	if page := b.get("/songs/" + id + "/duck"); !strings.Contains(page, `id="cell-`+stem("Pad").ID+`-t1" value="5"`) ||
		!strings.Contains(page, `id="cell-`+stem("Pad").ID+`-t2" value="1.5"`) {
		t.Error("the matrix does not show both")
	}
	if page := b.get("/songs/" + id + "/duck"); !regexp.MustCompile(`id="frees-`+stem("Pad").ID+`">[−0-9.]+<`).MatchString(page) ||
		!strings.Contains(page, `id="frees-`+stem("808").ID+`"><`) {
		t.Error("it does not say what the pad's ducks free")
	}
	b.edit(id, "/duck/cell", url.Values{"part": {stem("Pad").ID}, "trigger": {"t2"}, "depth": {""}})
	// a bus's duck lowers what goes through it
	b.level(id, "/bus", url.Values{"name": {"Music"}})
	b.level(id, "/stem/"+stem("Pad").ID, url.Values{"bus": {"b1"}, "pan": {"0"}, "width": {"100"}})
	b.edit(id, "/duck/cell", url.Values{"part": {"bus:b1"}, "trigger": {session.KickTrigger}, "depth": {"3"}})
	song = b.load(id)
	if song.Bus("b1").Moves == nil {
		t.Fatal("the bus does not duck")
	}
	mixed, _, err := b.server.Renderer.Solo(context.Background(), &song.Song, mix.SoloBus("b1"), w)
	if err != nil {
		t.Fatal(err)
	}
	at = int((0.25 + 0.02) * rate) // behind a kick, which both ducks know
	top = 0
	for _, v := range mixed.Ch[0][at : at+200] {
		top = max(top, v)
	}
	if db := 20 * math.Log10(float64(top)/0.1); math.Abs(db+8) > 0.3 {
		t.Errorf("behind the kick the bus is at %.2f dB, want -8", db)
	}
	for name, form := range map[string]url.Values{
		"itself":     {"part": {stem("Kick").ID}, "trigger": {session.KickTrigger}, "depth": {"3"}},
		"no depth":   {"part": {stem("Pad").ID}, "trigger": {"t1"}, "depth": {"deep"}},
		"no trigger": {"part": {stem("Pad").ID}, "trigger": {"t9"}, "depth": {"3"}},
		"no part":    {"part": {"nobody"}, "trigger": {"t1"}, "depth": {"3"}},
		"the bass":   {"part": {stem("808").ID}, "trigger": {session.KickTrigger}, "depth": {"3"}},
	} {
		if status, body := b.edit(id, "/duck/cell", form); status != 422 || !strings.Contains(body, "Nothing was changed") {
			t.Errorf("%s: %d", name, status)
		}
	}
	if status, body := b.edit(id, "/duck/trigger/t1/remove", url.Values{}); status != 422 || !strings.Contains(body, "still ducks to it") {
		t.Errorf("a trigger in use goes: %d", status)
	}
	b.edit(id, "/duck/cell", url.Values{"part": {stem("Pad").ID}, "trigger": {"t1"}, "depth": {""}})
	if m, _ := stem("Pad").DuckMove(); m != nil {
		t.Error("the pad still ducks")
	}
	if status, _ := b.edit(id, "/duck/trigger/t1/remove", url.Values{}); status != 200 || len(b.load(id).Triggers) != 2 {
		t.Errorf("a free trigger stays: %d", status)
	}
	for _, bad := range []url.Values{{}, {"grid": {"often"}}, {"grid": {"-1/2"}}, {"stem": {"nobody"}}} {
		if status, _ := b.edit(id, "/duck/trigger", bad); status != 422 {
			t.Errorf("%v: %d", bad, status)
		}
	}
}

// The bass ducks to the kick by its own duck and to other triggers besides; where both fall, the lower gain counts. A part's
// duck has a shape of its own.
func TestBassDucksToSeveral(t *testing.T) {
	b, id := ready(t)
	stem := func(name string) *session.Stem {
		song := b.load(id)
		for i := range song.Stems {
			if song.Stems[i].Name == name {
				return &song.Stems[i]
			}
		}
		t.Fatalf("no %s", name)
		return nil
	}
	bass := stem("808").ID
	b.edit(id, "/duck/trigger", url.Values{"grid": {"1/4"}})
	b.edit(id, "/duck/add", url.Values{}) // a drawn one, to the kick
	if status, body := b.edit(id, "/duck/cell", url.Values{"part": {bass}, "trigger": {"t1"}, "depth": {"3"}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	gains := func() []float32 {
		song := b.load(id)
		g, err := b.server.Renderer.Gain(context.Background(), &song.Song, song.Stem(bass), mix.Window{To: 4 * rate})
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	song := b.load(id)
	own, _ := song.Duck()
	other, err := session.DuckTo(song.Stem(bass).Moves, "t1").Params.(*move.Duck).AtTempo(song.BPM)
	if err != nil || own.Trigger != session.KickTrigger || other.Depth() != -3 {
		t.Fatalf("%+v and %+v, %v", own, other, err)
	}
	check := func(shape *move.Duck) {
		t.Helper()
		song := b.load(id)
		kick, _ := b.server.Renderer.Hits(&song.Song, session.KickTrigger)
		grid, _ := b.server.Renderer.Hits(&song.Song, "t1")
		g := gains()
		own, _ := song.Duck()
		for n := rate / 2; n < 3*rate; n += 37 {
			want := 0.0
			for _, h := range kick {
				want = math.Min(want, own.GainDB(1000*float64(n-h)/rate))
			}
			for _, h := range grid {
				want = math.Min(want, shape.GainDB(1000*float64(n-h)/rate))
			}
			if got := 20 * math.Log10(float64(g[n])); math.Abs(got-want) > 0.02 {
				t.Fatalf("at %.4f s the gain is %.3f dB, want %.3f", float64(n)/rate, got, want)
			}
		}
	}
	check(other)
	page := b.get("/songs/" + id + "/duck")
	if !strings.Contains(page, `id="cell-`+bass+`-t1" value="3"`) || !strings.Contains(page, `id="begins-`+bass+`-t1"`) ||
		strings.Contains(page, `id="cell-`+bass+`-kick"`) {
		t.Error("the matrix does not show both ducks of the bass")
	}
	form := url.Values{"part": {bass}, "trigger": {"t1"}, "begins": {"-2"}, "down": {"1"}, "back": {"1/32"}, "end": {"150"}}
	if status, body := b.edit(id, "/duck/shape", form); status != 200 || !strings.Contains(body, `id="back-`+bass+`-t1" value="1/32"`) {
		t.Fatalf("%d %.300s", status, body)
	}
	song = b.load(id)
	shaped, _ := session.DuckTo(song.Stem(bass).Moves, "t1").Params.(*move.Duck).AtTempo(song.BPM)
	note, _ := field.NoteMS("1/32", song.BPM)
	if s := shaped.Shape(); s.Begins.MS != -2 || s.Back.MS != note || s.End.MS != 150 || shaped.Depth() != -3 {
		t.Errorf("%+v", shaped)
	}
	check(shaped)
	for name, bad := range map[string]url.Values{
		"held before it is down": {"begins": {"0"}, "down": {"20"}, "back": {"10"}, "end": {"90"}},
		"no number":              {"begins": {"0"}, "down": {"soon"}, "back": {"30"}, "end": {"90"}},
		"its own":                {"begins": {"0"}, "down": {"3"}, "back": {"30"}, "end": {"90"}, "trigger": {session.KickTrigger}},
	} {
		bad.Set("part", bass)
		if bad.Get("trigger") == "" {
			bad.Set("trigger", "t1")
		}
		if status, body := b.edit(id, "/duck/shape", bad); status != 422 || !strings.Contains(body, "Nothing was changed") {
			t.Errorf("%s: %d", name, status)
		}
	}
	// its own duck anew leaves the other; moved to the other's trigger it takes that one's place
	b.edit(id, "/duck/fit", url.Values{"school": {move.CurveSchool}})
	if d := session.DuckTo(b.load(id).Stem(bass).Moves, "t1"); d == nil || d.Params.(*move.Duck).Depth() != -3 {
		t.Error("a fit took the duck to the grid away")
	}
	b.edit(id, "/duck/main-trigger", url.Values{"trigger": {"t1"}})
	song = b.load(id)
	ducks := 0
	for _, m := range song.Stem(bass).Moves {
		if _, ok := m.Params.(*move.Duck); ok {
			ducks++
		}
	}
	if ducks != 1 || song.DuckTrigger() != "t1" {
		t.Errorf("%d ducks, the bass's own to %s", ducks, song.DuckTrigger())
	}
}

// The release follows the gap: as a choice for a fit and of a drawn curve, drawn for the closest hit, on the sheet.
func TestReleaseByTheGap(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/hit", url.Values{"at": {"2.37 s"}, "do": {"add"}}) // 120 ms behind one
	t2 := url.Values{"clearance": {"8"}, "depth": {"14"}, "ahead": {"1"}, "ahead-asked": {"1"}, "follow": {"1"}}
	if status, body := b.edit(id, "/duck/targets", t2); status != 200 || !strings.Contains(body, `id="target-follow" value="1" checked`) {
		t.Fatalf("%d %.300s", status, body)
	}
	b.edit(id, "/duck/fit", url.Values{"school": {move.CurveSchool}})
	song := b.load(id)
	d, _ := song.Duck()
	if d == nil || !d.Follow || !song.Targets.Follow {
		t.Fatalf("%+v", d)
	}
	points := url.Values{
		"at-0":   {"-3"},
		"db-0":   {"0"},
		"at-1":   {"0"},
		"db-1":   {"-9"},
		"at-2":   {"60"},
		"db-2":   {"-9"},
		"at-3":   {"220"},
		"db-3":   {"0"},
		"follow": {"1"},
	}
	status, page := b.edit(id, "/duck/points", points)
	if status != 200 || !strings.Contains(page, "gain-closest") || !regexp.MustCompile(`the closest hits, 1[12]\d ms apart`).MatchString(page) {
		t.Errorf("%d: the page does not show it", status)
	}
	if sheet := b.get("/songs/" + id + "/duck/settings.txt"); !strings.Contains(sheet, "Its release follows the gap to the next hit") ||
		!strings.Contains(sheet, "points after 60.0 ms") {
		t.Errorf("%s", sheet)
	}
	song = b.load(id)
	g, err := b.server.Renderer.Gain(context.Background(), &song.Song, song.ByRole(session.Bass)[0], mix.Window{To: 4 * rate})
	if err != nil {
		t.Fatal(err)
	}
	hits, _ := b.server.Renderer.Hits(&song.Song, session.KickTrigger)
	for i := 1; i < len(hits) && hits[i] < 3*rate; i++ {
		if gap := 1000 * float64(hits[i]-hits[i-1]) / rate; gap < 220 {
			if db := 20 * math.Log10(float64(g[hits[i]-rate*35/10000])); db < -0.6 {
				t.Errorf("before the hit at %.3f s, %.0f ms behind one, the bass is still down by %.2f dB", float64(hits[i])/rate, gap, db)
			}
		}
	}
	t2.Del("follow") // a drawn curve goes along with the choice
	_, page = b.edit(id, "/duck/targets", t2)
	song = b.load(id)
	if d, _ := song.Duck(); d.Follow || song.Targets.Follow || song.Undo != "One release for all hits" || strings.Contains(page, "gain-closest") {
		t.Errorf("one release for all: %+v, undo %q", d, song.Undo)
	}
}

// Hits are put in and left out by hand, and given back; the figures follow.
func TestHitsByHand(t *testing.T) {
	b, id := ready(t)
	shown := func() int { return strings.Count(b.get("/songs/"+id+"/pocket"), `class="hit `) } // on the sheet; the deck marks them too
	was := shown()
	do := func(what, at string) int {
		status, _ := b.edit(id, "/duck/hit", url.Values{"do": {what}, "at": {at}})
		return status
	}
	marked := func() int { return strings.Count(b.get("/songs/"+id+"/pocket"), `class="hitmark"`) }
	onDeck := marked()
	if do("remove", "0.75 s") != 200 || shown() != was-1 || marked() != onDeck-1 {
		t.Errorf("left out: %d hits of %d", shown(), was)
	}
	if do("add", "1.1.20") != 200 || shown() != was { // 0.1 s at 120 bpm
		t.Errorf("put in: %d hits of %d", shown(), was)
	}
	song := b.load(id)
	hits, err := b.server.Renderer.Hits(&song.Song, session.KickTrigger)
	if err != nil || len(hits) != 15 || math.Abs(float64(hits[0])/rate-0.1) > 1e-3 {
		t.Errorf("%v, %v", hits, err)
	}
	for _, bad := range []string{"", "soon", "1.9", "-3 s", "99999999 s"} {
		if do("add", bad) != 422 {
			t.Errorf("%q is taken", bad)
		}
	}
	if do("reset", "") != 200 || shown() != was || len(b.load(id).Trigger(session.KickTrigger).Added) != 0 {
		t.Error("they are not given back")
	}
	if do("post", "") != 200 || !b.load(id).Trigger(session.KickTrigger).Post {
		t.Error("the trigger is not taken behind the fader")
	}
}

// A trigger is made of a bus, or of a MIDI file; the bass's own duck may be given to it; what a bus carried
// stays when the bus goes.
func TestMoreTriggers(t *testing.T) {
	b, id := ready(t)
	song := b.load(id)
	kick, low := song.TriggerStem().ID, song.ByRole("bass")[0].ID
	b.level(id, "/bus", url.Values{"name": {"Drums"}})
	b.level(id, "/stem/"+kick, url.Values{"bus": {"b1"}, "pan": {"0"}, "width": {"100"}})
	if status, body := b.edit(id, "/duck/trigger", url.Values{"bus": {"b1"}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	hits := func(trigger string) []int {
		s := b.load(id)
		h, err := b.server.Renderer.Hits(&s.Song, trigger)
		if err != nil {
			t.Fatal(err)
		}
		return h
	}
	if got := hits("t1"); len(got) != 15 {
		t.Errorf("the bus gives %d hits", len(got))
	}
	// a MIDI file
	upload := func(name string, body []byte) int {
		var out bytes.Buffer
		m := multipart.NewWriter(&out)
		m.WriteField("rev", strconv.FormatInt(b.load(id).Rev, 10))
		part, _ := m.CreateFormFile("midi", name)
		part.Write(body)
		m.Close()
		req, _ := http.NewRequest("POST", b.url+"/songs/"+id+"/duck/trigger", &out)
		req.Header.Set("Content-Type", m.FormDataContentType())
		req.Header.Set("HX-Request", "true")
		res, err := b.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		io.Copy(io.Discard, res.Body)
		return res.StatusCode
	}
	var notes bytes.Buffer
	if err := midi.Write(&notes, []midi.Note{{Start: 1, End: 1.1, Key: 36}, {Start: 2.5, End: 2.6, Key: 36}}, 120); err != nil {
		t.Fatal(err)
	}
	if status := upload("ghost.mid", notes.Bytes()); status != 200 {
		t.Fatalf("a MIDI file: %d", status)
	}
	if got := hits("t2"); len(got) != 2 || math.Abs(float64(got[1])/rate-2.5) > 2e-3 {
		t.Errorf("the file gives %v", got)
	}
	if status := upload("song.mid", []byte("this is no MIDI file")); status != 422 {
		t.Errorf("what is no MIDI file: %d", status)
	}
	// the bass's own duck at those two hits alone
	if status, body := b.edit(id, "/duck/main-trigger", url.Values{"trigger": {"t2"}}); status != 422 || !strings.Contains(body, "no duck yet") {
		t.Errorf("without a duck: %d", status)
	}
	b.edit(id, "/duck/fit", url.Values{})
	if status, _ := b.edit(id, "/duck/main-trigger", url.Values{"trigger": {"t2"}}); status != 200 {
		t.Fatal("not given to it")
	}
	gain := b.sound("/songs/" + id + "/duck/gain.wav").Ch[0]
	if gain[int(2.51*rate)] > 0.9 || gain[int(0.26*rate)] != 1 || gain[int(1.01*rate)] > 0.9 {
		t.Errorf("the gain is %g at the second note, %g at a kick", gain[int(2.51*rate)], gain[int(0.26*rate)])
	}
	if status, _ := b.edit(id, "/duck/fit", url.Values{"school": {"compressor"}}); status != 200 {
		t.Fatal("no fit")
	}
	song = b.load(id)
	if d, _ := song.Duck(); d == nil || d.Trigger != "t2" {
		t.Errorf("after a fit it ducks to %+v", d)
	}
	b.edit(id, "/duck/main-trigger", url.Values{"trigger": {session.KickTrigger}})
	if status, _ := b.edit(id, "/duck/trigger", url.Values{"stem": {low}}); status != 200 {
		t.Fatal("no trigger of the bass")
	}
	if status, body := b.edit(id, "/duck/main-trigger", url.Values{"trigger": {"t3"}}); status != 422 || !strings.Contains(body, "cannot duck to it") {
		t.Errorf("the bass ducks to itself: %d", status)
	}
	if status, _ := b.level(id, "/bus/b1/remove", url.Values{}); status != 200 || len(hits("t1")) != 15 {
		t.Errorf("the bus goes: %d, %d hits", status, len(hits("t1")))
	}
}

// What is written down names the trigger that was chosen, where it is heard, and what the whole mix gains.
func TestSheetNamesTheTrigger(t *testing.T) {
	b, id := ready(t)
	sheet := func() string { _, text := b.do("GET", "/songs/"+id+"/duck/settings.txt", nil); return text }
	b.edit(id, "/duck/fit", url.Values{"school": {"compressor"}})
	if text := sheet(); !strings.Contains(text, "key input      Kick, before its fader") || !strings.Contains(text, "the whole mix may rise by") {
		t.Errorf("the sheet:\n%s", text)
	}
	b.edit(id, "/duck/hit", url.Values{"do": {"post"}})
	if text := sheet(); !strings.Contains(text, "Kick, behind its fader") {
		t.Errorf("behind the fader:\n%s", text)
	}
	b.edit(id, "/duck/trigger", url.Values{"grid": {"1/4"}})
	b.edit(id, "/duck/main-trigger", url.Values{"trigger": {"t1"}})
	if text := sheet(); !strings.Contains(text, "to every 1/4") || !strings.Contains(text, "every 1/4, as the trigger clicks") {
		t.Errorf("on a grid:\n%s", text)
	}
}
