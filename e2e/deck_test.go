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
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"

	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
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
	t.Parallel()
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
		before, err := r.Looped(context.Background(), &bypassed, solo, mix.Window{From: 0, To: n})
		if err != nil {
			t.Fatal(err)
		}
		after, err := r.Looped(context.Background(), &song.Song, solo, mix.Window{From: 0, To: n})
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
	p.until(
		"the new After plays",
		"document.querySelector('#deck').dataset.state === 'playing' && "+
			"document.querySelector('#deck').dataset.loaded.endsWith(document.querySelector('#deck-data').dataset.after)",
	)
	if p.js("document.querySelector('#deck-data').dataset.after") == was {
		t.Error("the deck still plays the old After")
	}
	if p.js("document.querySelector('#match').checked") != "false" {
		t.Error("the edit turned the match on again")
	}
	// nothing leaves over -1 dBFS: what is at full scale is turned down, both sides alike, and it is said
	if _, err := a.store.Edit(t.Context(), song.ID, store.AnyRevision, session.Gain{DB: 14}); err != nil {
		t.Fatal(err)
	}
	p.visit(a.url + "/songs/" + song.ID + "/duck")
	p.click("#play")
	p.until("it plays", "document.querySelector('#deck').dataset.state === 'playing'")
	var raised, turned float64
	fmt.Sscan(p.js("document.querySelector('#deck-data').dataset.offset+' '+document.querySelector('#deck').dataset.turned"), &raised, &turned)
	loudest := math.Max(float64(meter.Peak(a.side(p, "before").Ch[0])), float64(meter.Peak(a.side(p, "after").Ch[0]))*math.Pow(10, raised/20))
	if want := 1 + 20*math.Log10(loudest); want < 0.9 || math.Abs(turned-want) > 0.02 {
		t.Errorf("sides that peak at %.3f as they are matched are turned down by %.2f dB, want %.2f", loudest, turned, want)
	}
	p.until("it says so", fmt.Sprintf("document.querySelector('#deck-state').textContent.includes('turned down by %.1f dB')", turned))
	p.js("document.activeElement.blur()")
	p.press(input.BracketRight)
	p.press(input.Space)
	p.until("it stops", "document.querySelector('#deck').dataset.state === 'stopped'")
	p.clean()
}

// While the loop plays the sound follows the hand: the gain that is drawn is played on the rendered parts at once, and the
// render takes its place when the hand lets go. Nothing is stored until then.
func TestSoundFollowsTheHand(t *testing.T) { // beside others it would go by how fast they are
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	p.edited("the fit", func() { p.click("#fit") })
	p.js("localStorage.setItem('care-read', '1')")
	p.click("#play")
	p.until("the parts", "document.querySelector('#deck').dataset.parts === 'ready'")
	rev := p.rev()
	started := p.js("document.querySelector('#deck').dataset.started")
	// how long after a move of the hand its gain is set going
	p.js(`(() => {
		window.moved = []; window.late = [];
		document.addEventListener("pointermove", () => window.moved.push(performance.now()), true);
		new MutationObserver(() => window.late.push(performance.now() - window.moved.at(-1))).observe(document.querySelector("#deck"),
		  { attributeFilter: ["data-followed"] });
	})()`)
	var x, y float64
	fmt.Sscan(p.js("(r => `${r.x + r.width / 2} ${r.y + r.height / 2}`)(document.querySelector('#point-2 .knob').getBoundingClientRect())"), &x, &y)
	m := p.Mouse
	if err := m.MoveTo(proto.NewPoint(x, y)); err != nil {
		t.Fatal(err)
	}
	if err := m.Down(proto.InputMouseButtonLeft, 1); err != nil {
		t.Fatal(err)
	}
	for i := range 10 {
		if err := m.MoveTo(proto.NewPoint(x, y+float64(2*i))); err != nil {
			t.Fatal(err)
		}
		time.Sleep(60 * time.Millisecond)
	}
	p.until("it follows", "Number(document.querySelector('#deck').dataset.followed) > 3")
	if p.rev() != rev || p.js("document.querySelector('#deck').dataset.started") != started {
		t.Error("what is only drawn is stored, or the loop began anew")
	}
	var late float64
	fmt.Sscan(p.js("(l => l.sort((a, b) => a - b)[l.length >> 1])([...window.late])"), &late)
	t.Logf("the gain of a move of the hand is set going after %.0f ms (median)", late)
	if !(late < 120) {
		t.Errorf("the sound is %.0f ms behind the hand", late)
	}
	p.edited("letting go", func() {
		if err := m.Up(proto.InputMouseButtonLeft, 1); err != nil {
			t.Fatal(err)
		}
	})
	p.until(
		"the render plays",
		"(d => d.state === 'playing' && d.loaded.endsWith(document.querySelector('#deck-data').dataset.after) && d.parts === "+
			"'ready')(document.querySelector('#deck').dataset)",
	)
	p.clean()
}

// The loop is dragged in whole bars, and given back.
func TestLoop(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/pocket")
	// bars of 2 s in a song of 7 s: from within bar 2 to within bar 3
	var x, y, w float64
	fmt.Sscan(p.js("(r => `${r.x} ${r.y + r.height / 2} ${r.width}`)(document.querySelector('#deck-song .axis').getBoundingClientRect())"), &x, &y, &w)
	rev := p.rev()
	p.mouse(x+w*2.5/7, y+20, x+w*4.5/7, y+20)
	p.until("the loop", "document.querySelector('#loop-name').textContent === 'loop bars 2 to 3'")
	if p.rev() != rev || p.js("document.querySelectorAll('#pocket-strip .hit').length") != "13" {
		t.Error("what is listened to changed the song or its figures")
	}
	p.visit(a.url + "/songs/" + a.song(p) + "/pocket")
	if got := p.text("#loop-name"); got != "loop bars 2 to 3" {
		t.Errorf("the next page plays %q", got)
	}
	p.edited("judging it", func() { p.click("#judge-it") })
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
	p.edited("giving it back", func() { p.click("#loop-find") })
	if p.js("document.querySelectorAll('#pocket-strip .hit').length") != "13" {
		t.Error("the loop is not the whole song again")
	}
	p.clean()
}

// Keys, day and night, and the list of keys.
func TestShell(t *testing.T) {
	t.Parallel()
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

// A page at rest asks for no frames, and draws its playhead while it plays and where it is put.
func TestRest(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	p.until("the page is there", "document.querySelector('#duck-editor') && !document.querySelector('.htmx-request')")
	p.js("(window.frames_asked = 0, window.real_frame = window.requestAnimationFrame, 0)")
	p.js("(window.requestAnimationFrame = f => { window.frames_asked++; return window.real_frame.call(window, f); }, 0)")
	p.js("(window.rested = false, setTimeout(() => { window.rested = true; }, 500), 0)")
	p.until("half a second is over", "window.rested")
	if got := p.js("window.frames_asked < 5"); got != "true" {
		t.Errorf("at rest it asks for %s frames in half a second", p.js("window.frames_asked"))
	}
	p.js("localStorage.setItem('care-read', '1')")
	p.click("#play")
	p.until("frames while it plays", "window.frames_asked > 20")
	p.clean()
}
