package e2e

import "testing"

// Print, as a hand uses it: a school is chosen, what would be is heard, it is solved, another loudness is asked by arrow keys
// on the curve, who made the limiter work is told, and the premaster is left untouched again.
func TestPrint(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.js("localStorage.setItem('care-read', '1')")
	p.click("#rail a[href$=print]")
	p.until("the premaster", "document.querySelector('#printhits') && document.querySelector('#print-lead')?.textContent.includes('untouched')")
	p.js("document.querySelector('#school-limit').click()")
	p.fill("#print-lufs", "-12")
	p.click("#print-hear")
	p.until("it is heard", "document.querySelector('#trying') && document.querySelector('#deck').dataset.state === 'playing'")
	p.click("#try-end")
	p.until("the song again", "!document.querySelector('#trying')")
	p.js("document.querySelector('#school-limit').click()")
	p.fill("#print-lufs", "-12")
	p.edited("solved", func() { p.click("#print-solve") })
	p.until("who and what it costs", "document.querySelector('#who-table, #who-none') && document.querySelector('#cost-knob')")
	printed := func() bool {
		song, err := a.store.Load(t.Context(), a.song(p))
		if err != nil {
			t.Fatal(err)
		}
		return song.Song.Printed()
	}
	if !printed() {
		t.Error("nothing is on the master")
	}
	p.js("document.querySelector('#cost-knob').focus()")
	p.js("document.querySelector('#cost-knob').dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowLeft', bubbles: true}))")
	p.until("half a decibel less", "document.querySelector('#print-lufs').value === '-12.5'")
	p.edited("another loudness", func() {
		p.js("document.querySelector('#cost-knob').dispatchEvent(new KeyboardEvent('keydown', {key: 'Enter', bubbles: true}))")
	})
	p.until("it is asked", "document.querySelector('#print-lufs').value === '-12.5' && document.querySelector('#cost-knob')")
	p.js("document.querySelector('#school-none').click()")
	p.edited("untouched", func() { p.click("#print-solve") })
	if printed() {
		t.Error("it stays on")
	}
	p.clean()
}
