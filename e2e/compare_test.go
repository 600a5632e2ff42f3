package e2e

import (
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/dsp"
	"mellowthump/core/session"
)

// Compare, as a hand uses it: a finished track is added, the song is seen above it, another amount asked, matched and taken out again.
func TestCompare(t *testing.T) {
	a, p := withFight(t)
	kick, bass := fight()
	ref := audio.New(kick.Rate, 1, kick.Frames())
	for i := range ref.Ch[0] {
		ref.Ch[0][i] = 0.8*kick.Ch[0][i] + bass.Ch[0][i]
	}
	s, err := dsp.RBJ(dsp.LowShelf, 80, 0.7, -9, float64(kick.Rate))
	if err != nil {
		t.Fatal(err)
	}
	dsp.NewFilter([]dsp.Biquad{s}).Process(ref.Ch[0], ref.Ch[0])
	p.click("#rail a[href$=compare]")
	p.until("no track yet", "document.querySelector('#no-reference') && document.querySelector('#reference-file')")
	el, err := p.Timeout(patience).Element("#reference-file")
	if err != nil {
		t.Fatal(err)
	}
	if err := el.SetFiles([]string{write(t, "Finished.wav", ref, wav.Int24)}); err != nil {
		t.Fatal(err)
	}
	p.until("the song above it", "document.querySelector('#against') && document.querySelector('#match-in')")
	p.typed("#match-amount", "80")
	p.until("another amount", "document.querySelector('#match-amount')?.value === '80' && document.querySelector('#match-in')")
	p.visit(p.js("location.href"))
	p.until("after a reload", "document.querySelector('#against') && document.querySelector('#match-in')")
	p.edited("matched", func() { p.click("#match-in") })
	p.until("a way back", "document.querySelector('#match-out')")
	n := 0
	song, err := a.store.Load(t.Context(), a.song(p))
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range song.Master.Moves {
		if session.OfCompare(m) {
			n++
		}
	}
	if n == 0 || n > 5 {
		t.Errorf("%d filters on the master", n)
	}
	p.edited("taken out", func() { p.click("#match-out") })
	p.until("what is proposed", "document.querySelector('#match-in')")
	p.clean()
}
