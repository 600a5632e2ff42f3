package e2e

import (
	"fmt"
	"math"
	"slices"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/session"
)

// Sections, as a hand uses them: taken as proposed, an edge dragged, moved by keys and typed, a name, a duck that rests, a
// section looped and judged, one cut and joined, all of it undone step by step; and the run sheet says where its findings
// hold.
func TestSections(t *testing.T) {
	t.Parallel()
	const rate, seconds = 44100, 40 // 20 bars at 120 bpm
	kick, bass, pad := audio.New(rate, 1, seconds*rate), audio.New(rate, 1, seconds*rate), audio.New(rate, 1, seconds*rate)
	for h := range 2 * seconds {
		for i := range rate / 4 {
			s := float64(i) / rate
			kick.Ch[0][h*rate/2+i] += float32(0.6 * math.Sin(2*math.Pi*(52*s+1.5*(1-math.Exp(-s/0.01)))) * math.Exp(-s/0.08))
		}
	}
	for i := range bass.Ch[0] {
		s := float64(i) / rate
		bass.Ch[0][i] = float32(0.25 * math.Sin(2*math.Pi*46.25*s))
		if s >= 16 { // with a rumble of its own
			pad.Ch[0][i] = float32(0.06*math.Sin(2*math.Pi*523*s)*(1-0.9*math.Mod(s, 1)) + 0.08*math.Sin(2*math.Pi*33*s))
		}
	}
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Parted", "120")
	p.choose(write(t, "Kick.wav", kick, wav.Int24), write(t, "808.wav", bass, wav.Int24), write(t, "Pad.wav", pad, wav.Int24))
	p.until("the stems", "document.querySelectorAll('.stems tbody tr[data-name]').length === 3 && !document.querySelector('#imports progress')")
	song := a.song(p)
	sections := func() []session.Section {
		t.Helper()
		s, err := a.store.Load(t.Context(), song)
		if err != nil {
			t.Fatal(err)
		}
		return s.Sections
	}
	is := func(what string, want ...session.Section) {
		t.Helper()
		if got := sections(); !slices.Equal(got, want) {
			t.Errorf("%s: %+v", what, got)
		}
	}
	measured := "document.querySelectorAll('#section-figures tbody tr').length === 2"
	p.visit(a.url + "/songs/" + song + "/log")
	p.click("#part-sections")
	p.until("what is proposed", "document.querySelector('#sections-take') && document.querySelectorAll('.section-edge.proposed').length === 2")
	p.edited("taken", func() { p.click("#sections-take") })
	is("as proposed", session.Section{Name: "Verse"}, session.Section{Name: "Drop", From: 16})
	p.until("the figures", measured)
	p.until("the hits under the target are hatched", "document.querySelector('#song-sections .clash')")

	bar := p.js(
		"(s => s.dataset.width / s.dataset.seconds * 2 * document.querySelector('#song-sections').getBoundingClientRect().width / " +
			"document.querySelector('#song-sections').viewBox.baseVal.width)(document.querySelector('#song-sections .scale'))",
	)
	var wide float64
	if _, err := fmt.Sscan(bar, &wide); err != nil {
		t.Fatal(err)
	}
	p.edited("dragged", func() { p.drag("#section-edge-1 .reach", 2.2*wide, 0) })
	is("dragged by two bars and a little", session.Section{Name: "Verse"}, session.Section{Name: "Drop", From: 20})
	p.until("the edge", "document.querySelector('#section-edge-1')?.dataset.from === '20.000000'")
	p.js("document.querySelector('#section-edge-1').focus()")
	p.edited("two arrow keys", func() { p.press(input.ArrowLeft, input.ArrowLeft) })
	is("moved by keys", session.Section{Name: "Verse"}, session.Section{Name: "Drop", From: 16})
	p.until("the field", "document.querySelector('#section-from-1')?.value === '9'")
	p.edited("typed", func() { p.typed("#section-from-1", "9.2") })
	is("typed", session.Section{Name: "Verse"}, session.Section{Name: "Drop", From: 16.5})
	p.until("the field", "document.querySelector('#section-from-1')?.value === '9.2.00'")
	p.edited("undone", p.undo)
	p.until("the field", "document.querySelector('#section-from-1')?.value === '9'")
	p.edited("named", func() { p.typed("#section-name-1", "Hook") })
	p.until("the name", "document.querySelector('#section-name-1')?.value === 'Hook' && document.querySelector('#song-sections')?.textContent.includes('Hook')")
	p.edited("resting", func() { p.typed("#section-depth-0", "0") })
	is("resting", session.Section{Name: "Verse", Shallower: 1}, session.Section{Name: "Hook", From: 16})
	p.until("it says so", "document.querySelector('#section-figures')?.textContent.includes('the ducks rest')")
	p.typed("#section-depth-0", "much")
	p.until("a number field takes none, and nothing changes", "!document.querySelector('.htmx-request')")
	p.edited("as deep again", func() { p.typed("#section-depth-0", "100") })
	p.until("the figures", measured+" && !document.querySelector('#section-figures').textContent.includes('rest')")

	p.edited("looped", func() { p.click("#section-loop-1") })
	p.until(
		"it is the judged stretch",
		"document.querySelector('#section-1.judged') && document.querySelector('#deck-data')?.textContent.includes('bars 9 to 20')",
	)
	p.fill("#section-cut-at", "13")
	p.edited("cut", func() { p.typed("#section-cut-name", "Break") })
	is("cut", session.Section{Name: "Verse"}, session.Section{Name: "Hook", From: 16}, session.Section{Name: "Break", From: 24})
	p.until("three", "document.querySelector('#section-edge-2')")
	p.js("document.querySelector('#section-edge-2').focus()")
	p.edited("joined by a key", func() { p.press(input.Delete) })
	is("joined", session.Section{Name: "Verse"}, session.Section{Name: "Hook", From: 16})

	p.click("#part-sheet")
	p.untilWithin(longPatience, "the sheet", "document.querySelector('#run-count b')")
	in := func(key string) string {
		return p.js("document.querySelector('.run-row[data-key=\"" + key + "\"] .run-in')?.textContent ?? 'not told'")
	}
	if got := p.js("document.querySelector('.run-row[data-key^=\"intake/rumble\"] .run-in')?.textContent ?? 'not told'"); got != "In Hook." {
		t.Errorf("the rumble: %q", got)
	}
	if got := in("duck/fit"); got != "Throughout the song." {
		t.Errorf("the duck: %q", got)
	}
	p.visit(a.url + "/songs/" + song + "/log?view=sections")
	p.until("after a reload", "document.querySelector('#section-name-1')?.value === 'Hook'")
	p.until("the figures", measured)
	p.edited("none", func() { p.click("#sections-clear") })
	p.until("proposed again", "document.querySelector('#sections-take')")
	p.clean("422") // what was refused
}
