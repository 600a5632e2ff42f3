package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"net/http"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
)

// side fetches what the deck plays on one side.
func (a *app) side(p *page, side string) audio.Buffer {
	a.t.Helper()
	res, err := http.Get(a.url + p.js("document.querySelector('#deck-data').dataset."+side))
	if err != nil {
		a.t.Fatal(err)
	}
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != 200 {
		a.t.Fatalf("%d, %v", res.StatusCode, err)
	}
	r, err := wav.NewReader(bytes.NewReader(body), int64(len(body)))
	if err != nil {
		a.t.Fatal(err)
	}
	b, err := audio.ReadAll(r)
	if err != nil {
		a.t.Fatal(err)
	}
	return b
}

// The deck plays only when asked, after a word of care; its sides are aligned, its bytes are
// the core's render, its match is the measured difference; it goes on through edits.
func TestDeck(t *testing.T) {
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	p.edited("the fit", func() { p.click("#fit") })
	if s := p.js("document.querySelector('#deck').dataset.state"); s == "playing" {
		t.Fatal("the deck plays by itself")
	}
	p.click("#play")
	p.until("the word of care", "document.querySelector('#care-dialog').open")
	p.click("#care-ok")
	p.until("it plays", "document.querySelector('#deck').dataset.state === 'playing'")
	p.until("the playhead moves", "(h => h && Number(h.getAttribute('x1')) > 20)(document.querySelector('#playhead'))")

	song, _ := a.judged(p)
	r := mix.New(a.store, 1<<28)
	n, err := r.Length(&song.Song)
	if err != nil {
		t.Fatal(err)
	}
	for _, solo := range []mix.Solo{mix.SoloKick, mix.SoloBass, mix.SoloAll, mix.SoloBoth} {
		p.click(fmt.Sprintf("#deck-data [data-solo=%s]", solo))
		p.until("the solo", fmt.Sprintf("document.querySelector('#deck-data').dataset.solo === '%s'", solo))
		bypassed := song.Bypassed()
		before, _, err := r.Heard(context.Background(), &bypassed, solo, mix.Window{From: 0, To: n})
		if err != nil {
			t.Fatal(err)
		}
		after, _, err := r.Heard(context.Background(), &song.Song, solo, mix.Window{From: 0, To: n})
		if err != nil {
			t.Fatal(err)
		}
		for side, want := range map[string]audio.Buffer{"before": before, "after": after} {
			got := a.side(p, side)
			if got.Frames() != n || len(got.Ch) != len(want.Ch) {
				t.Fatalf("%s %s: %d frames of %d channels", solo, side, got.Frames(), len(got.Ch))
			}
			for c := range want.Ch {
				for i, v := range want.Ch[c] {
					if math.Abs(float64(v-got.Ch[c][i])) > 1.0/(1<<23) { // 24 bits
						t.Fatalf("%s %s: frame %d plays %g, the core renders %g", solo, side, i, got.Ch[c][i], v)
					}
				}
			}
		}
		offset := float64(meter.IntegratedLoudness(before) - meter.IntegratedLoudness(after))
		var shownOffset float64
		fmt.Sscan(p.js("document.querySelector('#deck-data').dataset.offset"), &shownOffset)
		if math.Abs(offset-shownOffset) > 1e-3 {
			t.Errorf("%s: the match is %.4f dB, measured %.4f", solo, shownOffset, offset)
		}
	}
	p.until("it plays the last solo", "document.querySelector('#deck').dataset.state === 'playing'")

	// switching sides changes gains only: the sources, and so their alignment, stay
	started := p.js("document.querySelector('#deck').dataset.started")
	p.js("document.activeElement.blur()")
	p.press(input.KeyX)
	p.until("Before", "document.querySelector('#deck').dataset.side === 'before' && document.querySelector('#side-before').classList.contains('on')")
	p.click("#side-after")
	p.until("After", "document.querySelector('#deck').dataset.side === 'after'")
	if now := p.js("document.querySelector('#deck').dataset.started"); now != started {
		t.Errorf("switching sides started the loop anew: %s, then %s", started, now)
	}
	p.js("document.activeElement.blur()")
	p.press(input.KeyM)
	p.until("no match", "!document.querySelector('#match').checked")
	// an edit while it plays: the new After comes in, and it goes on playing
	was := p.js("document.querySelector('#deck-data').dataset.after")
	p.edited("an edit", func() { p.typed("#db-1", "-4") })
	p.until("the new After plays", "document.querySelector('#deck').dataset.state === 'playing' && document.querySelector('#deck').dataset.loaded.endsWith(document.querySelector('#deck-data').dataset.after)")
	if p.js("document.querySelector('#deck-data').dataset.after") == was {
		t.Error("the deck still plays the old After")
	}
	if p.js("document.querySelector('#match').checked") != "false" {
		t.Error("the edit turned the match on again")
	}
	p.js("document.activeElement.blur()")
	p.press(input.BracketRight)
	p.press(input.Space)
	p.until("it stops", "document.querySelector('#deck').dataset.state === 'stopped'")
	p.clean()
}

// The loop is dragged in whole bars, and given back.
func TestLoop(t *testing.T) {
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/pocket")
	// bars of 2 s in a song of 7 s: from within bar 2 to within bar 3
	var x, y, w float64
	fmt.Sscan(p.js("(r => `${r.x} ${r.y + r.height / 2} ${r.width}`)(document.querySelector('#deck-song .axis').getBoundingClientRect())"), &x, &y, &w)
	p.edited("dragging", func() { p.mouse(x+w*2.5/7, y+20, x+w*4.5/7, y+20) })
	song, err := a.store.Load(context.Background(), a.song(p))
	if err != nil || song.Loop == nil || math.Abs(song.Loop.From-2) > 1e-3 || math.Abs(song.Loop.To-6) > 1e-3 {
		t.Fatalf("the loop is %+v, %v", song.Loop, err)
	}
	if got := p.text("#loop-name"); got != "loop bars 2 to 3" {
		t.Errorf("says %q", got)
	}
	if got := p.js("document.querySelectorAll('#pocket-strip .hit').length"); got != "8" {
		t.Errorf("%s hits in the loop", got)
	}
	p.edited("giving it back", func() { p.click(".loopline [name=auto]") })
	if p.js("document.querySelectorAll('#pocket-strip .hit').length") != "13" {
		t.Error("the loop is not the whole song again")
	}
	p.clean()
}

// Keys, day and night, and the list of keys.
func TestShell(t *testing.T) {
	a, p := withFight(t)
	for _, to := range []struct {
		key   input.Key
		stage string
	}{{input.Digit3, "Pocket"}, {input.Digit4, "Duck"}, {input.Digit0, "Log"}, {input.Digit2, "Levels"}, {input.Digit1, "Intake"}} {
		stage := to.stage
		p.js("document.activeElement.blur()")
		p.press(to.key)
		p.until(stage, "document.querySelector('#rail .on').textContent.includes('"+stage+"')")
		if !strings.HasSuffix(p.js("location.pathname"), strings.ToLower(stage)) {
			t.Errorf("%s has the address %s", stage, p.js("location.pathname"))
		}
	}
	before := p.js("getComputedStyle(document.body).backgroundColor")
	p.click("#theme")
	p.until("the other theme", "getComputedStyle(document.body).backgroundColor !== '"+before+"'")
	other := p.js("getComputedStyle(document.body).backgroundColor")
	p.visit(a.url + "/songs/" + a.song(p) + "/intake")
	if got := p.js("getComputedStyle(document.body).backgroundColor"); got != other {
		t.Errorf("after a reload the ground is %s, not %s", got, other)
	}
	if err := p.Keyboard.Type('?'); err != nil {
		if err := p.KeyActions().Press(input.ShiftLeft).Type(input.Slash).Do(); err != nil {
			t.Fatal(err)
		}
	}
	p.until("the keys", "document.querySelector('#keys-dialog').open")
	p.click("#keys-dialog [data-close]")
	// keys are letters where a field has focus
	p.fill("#set-name", "fx 4")
	if p.js("document.querySelector('#rail .on').textContent.includes('Intake')") != "true" {
		t.Error("typing in a field left the stage")
	}
	p.clean()
}
