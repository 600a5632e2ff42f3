package e2e

import (
	"fmt"
	"math"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"mellowthump/core/audio/wav"
	"mellowthump/core/session"
	"mellowthump/internal/sampled"
)

// hits are the kick's, s.
func (a *app) hits(p *page) (out []float64) {
	a.t.Helper()
	song, err := a.store.Load(a.t.Context(), a.song(p))
	if err != nil {
		a.t.Fatal(err)
	}
	h, err := a.server.Renderer.Hits(&song.Song, session.KickTrigger)
	if err != nil {
		a.t.Fatal(err)
	}
	for _, at := range h {
		out = append(out, float64(at)/float64(song.Rate))
	}
	return out
}

// near is how far the nearest hit is from a time, s.
func near(hits []float64, at float64) float64 {
	d := math.Inf(1)
	for _, h := range hits {
		d = min(d, math.Abs(h-at))
	}
	return d
}

// On a sampled kick with ghost notes: a click on a hit opens its menu, a click on a gap puts a hit in where the sound
// starts, a mark is dragged or moved by keys, and sliders show what they would count before they are let go.
func TestHitsByHand(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Hand", "120")
	var kicks, basses []sampled.Note
	var truth, ghosts []float64
	for at := 0.5; at < 15; at += 0.5 {
		velocity := 112
		if k := int(2 * at); k%4 == 3 {
			velocity = 24
			ghosts = append(ghosts, at)
		} else {
			truth = append(truth, at)
		}
		kicks = append(kicks, sampled.Note{At: at, End: at + 0.3, Key: 36, Velocity: velocity, Channel: sampled.Drums})
	}
	for at := 0.0; at < 15; at += 1 {
		basses = append(basses, sampled.Note{At: at, End: at + 0.9, Key: 33, Velocity: 100})
	}
	kick, bass := sampled.Play(t, map[int]int{sampled.Drums: 0}, kicks, 16), sampled.Play(t, map[int]int{0: 38}, basses, 16)
	p.choose(write(t, "kick.wav", kick, wav.Int24), write(t, "bass.wav", bass, wav.Int24))
	p.until("both stems", "document.querySelectorAll('.stems tbody tr[data-name]').length === 2")
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	p.until("the line", "document.querySelectorAll('#hitline .hitline-mark').length > 4")
	was := a.hits(p)
	if len(was) != len(truth) {
		t.Fatalf("%d hits are found of %d, with %d ghosts", len(was), len(truth), len(ghosts))
	}
	place := func(at float64) (x, y float64) { // of a time on the line
		t.Helper()
		p.js("document.querySelector('#hitline').scrollIntoView({block: 'center'})")
		fmt.Sscan(p.js(fmt.Sprintf(`(() => {
			const s = document.querySelector("#hitline .timescale").dataset, r = document.querySelector("#hitline").getBoundingClientRect();
			const x = Number(s.left) + (%g - s.from) / (s.to - s.from) * (s.right - s.left);
			return (r.x + x * r.width / s.width) + " " + (r.y + r.height * 0.75);
		})()`, at)), &x, &y)
		return x, y
	}
	click := func(at float64) {
		t.Helper()
		x, y := place(at)
		p.mouse(x, y, x, y)
	}
	loop := p.js("document.querySelector('#hitline .timescale').dataset.from")
	var from float64
	fmt.Sscan(loop, &from)
	hit := was[0]
	for _, h := range was {
		if h > from+1 && h < from+2 {
			hit = h
		}
	}
	click(hit)
	p.until("the menu", "document.querySelector('.hitmenu').matches(':popover-open') && document.querySelector('#hit-one')")
	p.edited("leaving it out", func() { p.click("#hit-one") })
	if now := a.hits(p); len(now) != len(was)-1 || near(now, hit) < 0.1 {
		t.Errorf("%d hits of %d; the nearest is %g s away", len(now), len(was), near(now, hit))
	}
	p.until("its mark", "document.querySelectorAll('#hitline .hitline-mark.out').length === 1")
	p.edited("undo", p.undo)
	p.until("the line", "document.querySelectorAll('#hitline .hitline-mark').length > 4")

	ghost := ghosts[0]
	for _, g := range ghosts {
		if g > from+1 && g < from+4 {
			ghost = g
		}
	}
	// a ghost that is doubtful has its mark on the upper half: a click beside it, under the line, is one on a gap
	click(ghost + 0.008)
	p.until("a hit of its own", "document.querySelectorAll('#hitline .hitline-mark.added').length === 1")
	if now := a.hits(p); len(now) != len(was)+1 || near(now, ghost) > 0.012 {
		t.Errorf("%d hits after %d; the nearest to the ghost is %.1f ms away", len(now), len(was), 1000*near(now, ghost))
	}
	at := func() float64 {
		var v float64
		fmt.Sscan(p.js("document.querySelector('#hitline .added').dataset.at"), &v)
		return v
	}
	first := at()
	rev := p.rev()
	p.js("document.querySelector('#hitline .added').focus()")
	p.press(input.ArrowRight, input.ArrowRight, input.ArrowRight)
	p.until("moved by keys", "document.querySelector('#rev').value !== '"+rev+"' && document.querySelector('#hitline .added')")
	if by := at() - first; math.Abs(by-0.003) > 2e-4 {
		t.Errorf("three keys moved it by %g s", by)
	}
	p.until("nothing under way", "!document.querySelector('.htmx-request')")
	x, y := place(at())
	x2, _ := place(at() + 0.2)
	moved := at() + 0.2
	p.edited("a drag", func() { p.mouse(x, y-40, x2, y-40) })
	p.until("the line", "document.querySelector('#hitline .added')")
	if math.Abs(at()-moved) > 0.03 {
		t.Errorf("dragged to %g s it is at %g", moved, at())
	}
	p.edited("undo", p.undo)

	// sliders count while they move, and store when they are let go
	p.until("the sliders", "document.querySelector('#quiet')")
	rev = p.rev()
	count := func() int {
		var n int
		fmt.Sscan(p.text("#hit-count-song"), &n)
		return n
	}
	before := count()
	p.js("(q => { q.value = 40; q.dispatchEvent(new Event('input', {bubbles: true})) })(document.querySelector('#quiet'))")
	p.until("a count", fmt.Sprintf("Number(document.querySelector('#hit-count-song').textContent) > %d", before))
	if p.rev() != rev || len(a.hits(p)) != before {
		t.Error("a slider that is not let go stored something")
	}
	live := count()
	p.edited("letting go", func() {
		p.js("document.querySelector('#quiet').dispatchEvent(new Event('change', {bubbles: true}))")
	})
	if now := len(a.hits(p)); now != live {
		t.Errorf("%d were counted, %d are stored", live, now)
	}

	// zoom draws it wider, keeps its place, and the playhead runs on it
	p.until("the line", "document.querySelector('#zoom-in')")
	p.click("#zoom-in")
	p.until("wider", "document.querySelector('#hitline-scroll').scrollWidth > 1.9 * document.querySelector('#hitline-scroll').clientWidth")
	p.js("localStorage.setItem('care-read', '1')")
	p.click("#play")
	p.until("a playhead that moves", "(h => h && !h.hasAttribute('hidden') && Number(h.getAttribute('x1')) > 20)(document.querySelector('#hitline .playhead'))")
	p.until("the hit that sounds", "document.querySelector('.plot .hit.sounds')")
	p.click("#play")
	p.clean()
}

// Strips stay readable with many hits: no cell is narrower than its number; of very many the worst are drawn.
func TestManyHits(t *testing.T) {
	t.Parallel()
	for _, n := range []int{46, 400} {
		a := start(t, t.TempDir())
		p := a.open("/")
		p.newSong("Many", "120")
		var kicks, basses []sampled.Note
		step := 0.26
		for k := range n {
			kicks = append(kicks, sampled.Note{At: 0.1 + float64(k)*step, End: 0.3 + float64(k)*step, Key: 36, Velocity: 100, Channel: sampled.Drums})
		}
		seconds := 0.5 + float64(n)*step
		for at := 0.0; at < seconds-1; at += 1 {
			basses = append(basses, sampled.Note{At: at, End: at + 0.9, Key: 33, Velocity: 100})
		}
		p.choose(
			write(t, "kick.wav", sampled.Play(t, map[int]int{sampled.Drums: 0}, kicks, seconds), wav.Int24),
			write(t, "bass.wav", sampled.Play(t, map[int]int{0: 38}, basses, seconds), wav.Int24),
		)
		p.until("both stems", "document.querySelectorAll('.stems tbody tr[data-name]').length === 2")
		p.visit(a.url + "/songs/" + a.song(p) + "/duck")
		p.js(
			fmt.Sprintf(
				"htmx.ajax('POST', location.pathname.replace('duck', 'loop'), {target: '#sheet', values: {from: 0, to: %g, rev: "+
					"document.querySelector('#rev').value}}).catch(() => {})",
				seconds,
			),
		)
		p.until("all of them", fmt.Sprintf("document.querySelectorAll('#duck-strip .hit').length >= %d", min(n, 112)-2))
		for _, stage := range []string{"duck", "pocket"} {
			p.visit(a.url + "/songs/" + a.song(p) + "/" + stage)
			p.until("the strip", "document.querySelector('.plot .hit')")
			if got := p.js(fmt.Sprintf("(s => Math.max(0, ...[...s.querySelectorAll('.clearance')].map(c => c.getBoundingClientRect().width - "+
				"c.closest('.hit').querySelector('.touch').getBoundingClientRect().width)))(document.querySelector('#%s-strip'))", stage)); got != "0" {
				t.Errorf("%d hits on %s: numbers are wider than their cells by %s px", n, stage, got)
			}
		}
		p.clean()
	}
}
