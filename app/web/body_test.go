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

// Body: a kick whose hits step is told with the worst by bar and beat, evened out by either school from the page, heard before it
// is made, written on a sheet, off, undone and taken out; what is asked is changed; bad input is refused in a sentence.
func TestBody(t *testing.T) {
	outside.Slow(t)
	b := newBench(t)
	id := b.song()
	kick, bass := beat()
	stepping := audio.New(rate, 1, kick.Frames())
	for i, v := range kick.Ch[0] {
		db := []float64{0, -5, -1, -7}[int(math.Floor(float64(i)/rate*2))%4]
		stepping.Ch[0][i] = v * float32(dsp.Gain(db))
	}
	b.send(id, file{"Kick.wav", asWAV(stepping)}, file{"808.wav", asWAV(bass)})
	page := b.get("/songs/" + id + "/body")
	for _, want := range []string{`id="weights"`, "Kick steps by", `id="spread-kick"`, `id="body-others"`} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	rows := b.get("/songs/" + id + "/body/steady?part=kick")
	for _, want := range []string{`id="steady-own"`, `id="steady-compressor"`, "Kick: its hits step by", `id="finding-uneven.kick"`,
		"The furthest off is the one at", "Even them out", "of the way"} {
		if !strings.Contains(rows, want) {
			t.Errorf("the schools lack %q", want)
		}
	}
	if deck := b.get("/songs/" + id + "/deck/data?solo=kick&try=" + url.QueryEscape("body/steady:kick:own")); !strings.Contains(
		deck,
		"After tries: Even out Kick",
	) {
		t.Errorf("%.300s", deck)
	}
	steady := func() move.Params {
		m := b.load(id).ByRole(session.Kick)[0].Move(session.BodySteady)
		if m == nil {
			return nil
		}
		return m.Params
	}
	if status, body := b.edit(id, "/body/steady", url.Values{"part": {"kick"}, "school": {"compressor"}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	if c, ok := steady().(*move.Compress); !ok || c.Attack != 30 {
		t.Errorf("%+v", steady())
	}
	if status, _ := b.edit(id, "/body/steady", url.Values{"part": {"kick"}, "school": {"own"}}); status != 200 {
		t.Fatal("own gains are not taken")
	}
	if g, ok := steady().(*move.Gains); !ok || len(g.Steps) < 8 {
		t.Errorf("%+v", steady())
	}
	if page := b.get("/songs/" + id + "/body"); !strings.Contains(page, "Kick is even") || !strings.Contains(page, `class="kick-before"`) ||
		!strings.Contains(page, `id="body-settings"`) {
		t.Error("it is not even, or what it was is not drawn")
	}
	if rows := b.get("/songs/" + id + "/body/steady?part=kick"); !strings.Contains(rows, `id="steady-out"`) || strings.Contains(rows, `id="finding-uneven.kick"`) {
		t.Error("it cannot be taken out, or is told again")
	}
	if sheet := b.get("/songs/" + id + "/body/settings.txt"); !strings.Contains(sheet, "Own gains") || !strings.Contains(sheet, "so that all weigh the same") {
		t.Errorf("%s", sheet)
	}
	if zip := b.get("/songs/" + id + "/duck/all.zip"); !strings.Contains(zip, "Body settings.txt") || strings.Contains(zip, "Room settings.txt") {
		t.Error("the archive does not hold the sheets that there are")
	}
	if status, _ := b.edit(id, "/body/steady", url.Values{"part": {"kick"}, "out": {"1"}}); status != 200 || steady() != nil {
		t.Error("it is still there")
	}
	b.edit(id, "/undo", url.Values{})
	if steady() == nil {
		t.Error("undo does not bring it back")
	}
	if status, _ := b.edit(id, "/body/rules", url.Values{"spread": {"12"}, "attack": {"5"}}); status != 200 || b.load(id).BodyRules().Spread != 12 {
		t.Error("what is asked is not taken")
	}
	for path, bad := range map[string]url.Values{
		"/body/rules": {"spread": {"none"}}, "/body/attack": {"part": {"kick"}, "attack": {"much"}, "sustain": {"0"}}, "/body/steady": {"part": {"kick"},
			"school": {"magic"}},
	} {
		if status, body := b.edit(id, path, bad); status != 422 || !strings.Contains(body, `role="alert"`) {
			t.Errorf("%s: %d", path, status)
		}
	}
	if status, _ := b.edit(id, "/body/rules", url.Values{"spread": {"90"}, "attack": {"6"}}); status != 422 {
		t.Errorf("90 dB: %d", status)
	}
	if status, body := b.edit(id, "/body/attack", url.Values{"part": {"kick"}, "attack": {"3"}, "sustain": {"-4"}}); status != 200 {
		t.Errorf("%d %.300s", status, body)
	}
	if a, ok := b.load(id).ByRole(session.Kick)[0].Move(session.BodyAttack).Params.(*move.Attack); !ok || a.Attack != 3 || a.Sustain != -4 {
		t.Error("it is not shaped")
	}
	if status, _ := b.edit(id, "/body/attack", url.Values{"part": {"kick"}, "attack": {"0"}, "sustain": {"0"}}); status != 200 ||
		b.load(id).ByRole(session.Kick)[0].Move(session.BodyAttack) != nil {
		t.Error("it is still shaped")
	}
	if status, _ := b.edit(id, "/body/attack", url.Values{"part": {"kick"}, "attack": {"40"}, "sustain": {"0"}}); status != 422 {
		t.Errorf("40 dB: %d", status)
	}
	if status, _ := b.edit(id, "/body/steady", url.Values{"part": {"nobody"}, "school": {"own"}}); status != 422 {
		t.Errorf("nobody: %d", status)
	}
	if status, _ := b.do("GET", "/songs/"+id+"/body/steady?part=nobody", nil); status != 404 {
		t.Errorf("nobody's schools: %d", status)
	}
}

// The bass on small speakers: what is heard, the least drive, heard before it is made, put in, told no more, taken out;
// nothing to hear is said.
func TestBodySpeaker(t *testing.T) {
	outside.Slow(t)
	b, id := ready(t)
	page := b.get("/songs/" + id + "/body/speaker")
	for _, want := range []string{`id="speaker-says"`, "On a phone", `id="ladders"`, `id="drive-in"`, "dB of drive over 120 Hz", `class="on"`} {
		if !strings.Contains(page, want) {
			t.Errorf("the speaker lacks %q: %.800s", want, page)
		}
	}
	if page := b.get("/songs/" + id + "/body/speaker?on=earbuds"); !strings.Contains(page, "On earbuds") {
		t.Error("another speaker is not shown")
	}
	if rows := b.get("/songs/" + id + "/body/steady"); !strings.Contains(rows, `id="finding-unheard.phone"`) {
		t.Error("unheard notes are not told")
	}
	if deck := b.get("/songs/" + id + "/deck/data?solo=all&try=" + url.QueryEscape("body/drive:phone")); !strings.Contains(
		deck,
		"After tries: Add harmonics to the bass",
	) {
		t.Errorf("%.300s", deck)
	}
	if status, body := b.edit(id, "/body/drive", url.Values{"on": {"phone"}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	m := b.load(id).ByRole(session.Bass)[0].Move(session.BodyDrive)
	if d, ok := m.Params.(*move.Drive); !ok || d.Drive <= 0 || d.Over != 120 {
		t.Errorf("%+v", m)
	}
	if page := b.get("/songs/" + id + "/body/speaker"); !strings.Contains(page, `id="drive-out"`) || strings.Contains(page, `id="drive-in"`) {
		t.Error("what is in is not said")
	}
	if rows := b.get("/songs/" + id + "/body/steady"); strings.Contains(rows, `id="finding-unheard.phone"`) {
		t.Error("it is told again")
	}
	if status, _ := b.edit(id, "/body/drive", url.Values{"out": {"1"}}); status != 200 || b.load(id).ByRole(session.Bass)[0].Move(session.BodyDrive) != nil {
		t.Error("it is still there")
	}
	empty := b.song()
	if status, body := b.edit(empty, "/body/drive", url.Values{"on": {"phone"}}); status != 422 {
		t.Errorf("no bass: %d %.300s", status, body)
	}
}

// Little to weigh: no stems, silence, one hit, no kick.
func TestBodyWithLittle(t *testing.T) {
	b := newBench(t)
	id := b.song()
	if page := b.get("/songs/" + id + "/body"); !strings.Contains(page, "Go to Intake") {
		t.Error("an empty song does not say where to begin")
	}
	if status, _ := b.do("GET", "/songs/"+id+"/body/steady", nil); status != 409 {
		t.Errorf("no stems: %d", status)
	}
	silent, one := audio.New(rate, 1, 2*rate), audio.New(rate, 1, 2*rate)
	for i := range rate / 2 {
		s := float64(i) / rate
		one.Ch[0][rate/2+i] = float32(0.7 * math.Sin(2*math.Pi*52*s) * math.Exp(-s/0.1))
	}
	b.send(id, file{"Pad.wav", asWAV(silent)})
	if page := b.get("/songs/" + id + "/body"); !strings.Contains(page, "There are no hits and no notes to weigh here") {
		t.Error("silence is not said")
	}
	if rows := b.get("/songs/" + id + "/body/steady"); !strings.Contains(rows, "fewer than two hits or notes here") {
		t.Errorf("%.500s", rows)
	}
	b.send(id, file{"Kick.wav", asWAV(one)})
	b.get("/songs/" + id + "/body")
	if rows := b.get("/songs/" + id + "/body/steady?part=kick"); !strings.Contains(rows, "fewer than two hits or notes here") ||
		!strings.Contains(rows, "Nothing to mend here") {
		t.Errorf("%.800s", rows)
	}
	if status, body := b.edit(id, "/body/steady", url.Values{"part": {"kick"}, "school": {"own"}}); status != 422 ||
		!strings.Contains(body, "fewer than two hits") {
		t.Errorf("one hit: %d", status)
	}
}
