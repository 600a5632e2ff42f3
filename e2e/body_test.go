package e2e

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/session"
)

// Body, as a hand uses it: a kick that steps, told; another part chosen; both schools; evened out by the finding, seen in the
// picture, off and undone; a reload keeps it.
func TestBody(t *testing.T) {
	a, p := withFight(t)
	kick, _ := fight()
	soft := audio.New(kick.Rate, 1, kick.Frames())
	for i, v := range kick.Ch[0] {
		g := float32(1)
		if int(math.Floor(2*float64(i)/float64(kick.Rate)))%2 == 1 {
			g = 0.5
		}
		soft.Ch[0][i] = v * g
	}
	id := a.song(p)
	load := func() *session.Song {
		t.Helper()
		s, err := a.store.Load(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		return &s.Song
	}
	stem := load().ByRole(session.Kick)[0].ID
	p.visit(a.url + "/songs/" + id + "/intake")
	p.edited("a kick that steps", func() {
		el, err := p.Timeout(patience).Element("form[action$='" + stem + "/replace'] input[type=file]")
		if err != nil {
			t.Fatal(err)
		}
		if err := el.SetFiles([]string{write(t, "Kick.wav", soft, wav.Int24)}); err != nil {
			t.Fatal(err)
		}
	})
	p.click("#rail a[href$=body]")
	p.until("the schools", "document.querySelector('#steady-own') && document.querySelector('#body-found')?.children.length")
	p.choice("#steady-part", "bass") // it has one note
	p.until("nothing to even out", "document.querySelector('#steady-now')?.textContent.includes('fewer than two') && !document.querySelector('#steady-own')")
	p.choice("#steady-part", "kick")
	p.until("the kick's", "document.querySelector('#steady-own') && document.querySelector('#steady-now')?.textContent.includes('hits')")
	before := p.js("document.querySelector('#spread-kick').textContent")
	p.edited("even", func() { p.click("#steady-own button[value=own]") })
	p.until("the picture", "document.querySelector('#weights .kick-before')")
	if after := p.js("document.querySelector('#spread-kick').textContent"); after == before {
		t.Errorf("the spread stays at %s", after)
	}
	if m := load().Stem(stem).Move(session.BodySteady); m == nil {
		t.Error("nothing evens it out")
	}
	p.visit(a.url + "/songs/" + id + "/body")
	p.until("what is set, after a reload", "document.querySelector('#weights .kick-before')")
	p.edited("undone", p.undo)
	if m := load().Stem(stem).Move(session.BodySteady); m != nil {
		t.Error("it is still there")
	}
	p.until("the ladders", "document.querySelector('#ladders') && document.querySelector('#on-phone.on')")
	p.click("#on-earbuds")
	p.until("another speaker", "document.querySelector('#on-earbuds.on') && document.querySelector('#speaker-says').textContent.includes('earbuds')")
	p.click("#on-phone")
	p.until("the drive", "document.querySelector('#on-phone.on') && document.querySelector('#drive-in')")
	p.edited("harmonics", func() { p.click("#drive-in") })
	p.until("a way back", "document.querySelector('#drive-out')")
	if load().ByRole(session.Bass)[0].Move(session.BodyDrive) == nil {
		t.Error("no harmonics are added")
	}
	p.typed("#body-spread", "wide")
	p.until("a sentence", "document.querySelector('#rules-wrong')")
	p.clean("422")
}
