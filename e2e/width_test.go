package e2e

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Width, as a hand uses it: a pad that cancels is looked at, its corner dragged and moved by a key, all made safe and undone,
// mono on the deck.
func TestWidth(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	pad := audio.New(44100, 2, 7*44100)
	for i := range pad.Ch[0] {
		s := float64(i) / 44100
		for k, hz := range []float64{98, 147, 196, 440, 660} {
			v := float32(0.06 * math.Sin(2*math.Pi*hz*s+float64(k)))
			pad.Ch[0][i] += v
			if hz < 210 {
				v = -v
			}
			pad.Ch[1][i] += v
		}
	}
	p.choose(write(t, "Pad.wav", pad, wav.Int24))
	p.until("the pad", "document.querySelectorAll('.stems tbody tr[data-name]').length === 3 && !document.querySelector('#imports progress')")
	id := a.song(p)
	corner := func(name string) float64 {
		t.Helper()
		s, err := a.store.Load(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if m := s.Named(name).Move(session.WidthSide); m != nil {
			return m.Params.(*move.SideCut).Hz
		}
		return 0
	}
	p.click("#rail a[href$=width]")
	p.until("the rows", "document.querySelector('#all-safe:not([disabled])') && document.querySelector('#width-found .finding')")
	p.click("#width-all a[href*='at=s3']")
	p.until("the pad between its channels", "document.querySelector('.lead')?.textContent.startsWith('Pad') && document.querySelector('#edge-side')")
	p.edited("a key on the bracket", func() {
		p.js("document.querySelector('#edge-side').focus()")
		p.js("document.querySelector('#edge-side').dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowRight', bubbles: true}))")
	})
	first := corner("Pad")
	if first < 100 {
		t.Errorf("by key: %g Hz", first)
	}
	p.until("the bracket, set", "document.querySelector('#edge-side.set')")
	p.edited("the bracket dragged", func() {
		p.drag("#edge-side .reach", 40, 0)
	})
	if now := corner("Pad"); now < first*1.2 || now > first*2 {
		t.Errorf("dragged from %g to %g Hz", first, now)
	}
	p.typed("#low-side", "")
	p.until("no corner", "!document.querySelector('#edge-side.set') && document.querySelector('#all-safe:not([disabled])')")
	p.edited("all safe", func() { p.click("#all-safe") })
	if corner("Pad") == 0 {
		t.Error("the pad is not cut")
	}
	p.until("nothing to mend", "document.querySelector('#all-safe[disabled]') && document.querySelector('#width-found .ok')")
	p.edited("undone", p.undo)
	if corner("Pad") != 0 {
		t.Error("undo leaves it cut")
	}
	p.until("the rows again", "document.querySelector('#width-all')")
	p.typed("#low-side", "5")
	p.until("a sentence", "document.querySelector('#side-wrong')?.textContent.includes('out of bounds')")
	p.until("the rows once more", "document.querySelector('#width-all')")
	p.choice("#ear", "mono")
	p.until("mono on the deck", "document.querySelector('#deck-data').dataset.after.includes('ear=mono')")
	p.click("#rail a[href$=duck]")
	p.until(
		"and on another stage",
		"document.querySelector('#fit') && document.querySelector('#ear')?.value === 'mono' && "+
			"document.querySelector('#deck-data').dataset.after.includes('ear=mono')",
	)
	p.clean("422")
}
