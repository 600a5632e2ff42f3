package e2e

import (
	"context"
	"math"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/figure"
	"mellowthump/core/levels"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// ledger measures a page's song by the core, over the whole of it.
func (a *app) ledger(p *page) *levels.Ledger {
	a.t.Helper()
	song, err := a.store.Load(context.Background(), a.song(p))
	if err != nil {
		a.t.Fatal(err)
	}
	l, err := levels.Measure(context.Background(), a.server.Renderer, &song.Song, mix.Window{To: 7 * rate})
	if err != nil {
		a.t.Fatal(err)
	}
	return l
}

// A user's way through Levels: trims typed and stepped by keys, a bus, a lock, the plan seen and
// applied, undone at once; every figure on the page is the core's own.
func TestLevels(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/levels")
	song, _ := a.store.Load(context.Background(), a.song(p))
	kick, bass := song.Stems[0].ID, song.Stems[1].ID
	if song.Stems[0].Role != session.Kick {
		kick, bass = bass, kick
	}
	figures := func() {
		t.Helper()
		l := a.ledger(p)
		for _, row := range l.Rows {
			track := row.Levels.Steps[session.TrackStep]
			sel := "#level-stem-" + row.Stem.ID
			if got, want := p.text(sel+" .peak"), figure.Signed(float64(track.Peak), 1); got != want {
				t.Errorf("%s peaks at %s on the page, %s in the core", row.Stem.Name, got, want)
			}
			if got, want := p.text(sel+" .lufs"), figure.Signed(float64(track.Integrated()), 1); got != want {
				t.Errorf("%s has %s LUFS on the page, %s in the core", row.Stem.Name, got, want)
			}
		}
		if got, want := p.text("#level-master-master .peak"), figure.Signed(float64(l.Master.Out.Peak), 1); got != want {
			t.Errorf("the premaster peaks at %s on the page, %s in the core", got, want)
		}
	}
	p.click("#scope-song") // bars of 2 s in 7 s: the loop is the whole song already, the address says so
	p.until("the whole song", "document.querySelector('#scope-song').classList.contains('on') && location.search.includes('scope=song')")
	figures()
	p.edited("a clip gain", func() { p.typed("#g-"+kick+"-clip", "-4.5") })
	figures()
	if p.js("document.activeElement.id") != "g-"+kick+"-clip" {
		t.Errorf("the field lost its focus to %s", p.js("document.activeElement.id || document.activeElement.tagName"))
	}
	p.edited("two steps by keys", func() { p.press(input.ArrowUp, input.ArrowUp) })
	if got := p.js("document.querySelector('#g-" + kick + "-clip').value"); got != "-3.5" {
		t.Errorf("two steps up from -4.5 read %s", got)
	}
	figures()

	// a bus, the bass into it, its fader
	p.edited("a new bus", func() { p.typed("#bus-name", "Low end") })
	p.click("#level-stem-" + bass + " .who a")
	p.until("the details", "document.querySelector('#d-bus')")
	p.edited("the bass to the bus", func() { p.choice("#d-bus", "b1") })
	if got := p.js("document.querySelector('#level-bus-b1 + #level-stem-" + bass + "') !== null"); got != "true" {
		t.Error("the bass is not listed under its bus")
	}
	p.until("the details stay open", "document.querySelector('#detail')")
	p.edited("a lock", func() { p.click("#d-lock-source") })
	p.edited("the bus's fader", func() { p.typed("#g-b1-bus", "-2") })
	figures()
	p.until("the running sum", "document.querySelectorAll('#sum-table tbody tr').length === 2")
	if got, want := p.js("document.querySelector('#sum-table tbody tr:last-child td.n').textContent"), p.text("#level-master-master .peak"); got != want {
		t.Errorf("the running sum ends at %s, the premaster is at %s", got, want)
	}

	// the plan: seen, applied, undone
	before := p.rev()
	p.click("#preview")
	p.until("the plan", "document.querySelector('#plan-trims')")
	if p.rev() != before {
		t.Error("the preview changed the song")
	}
	p.edited("the plan", func() { p.click("#apply-plan") })
	figures()
	l := a.ledger(p)
	if math.Abs(float64(l.Master.Out.Peak)+6) > 0.06 || math.Abs(float64(l.Group(session.Kick).Level.Peak)+7) > 0.06 {
		t.Errorf("after the plan the premaster peaks at %.2f, the kick at %.2f", float64(l.Master.Out.Peak), float64(l.Group(session.Kick).Level.Peak))
	}
	if st := l.Song.Stem(bass); st.Source != 0 || st.Clip == 0 {
		t.Errorf("the bass's source is locked; its trims are %+.1f at the source and %+.1f at the clip", st.Source, st.Clip)
	}
	p.click("#preview")
	p.until("nothing more", "document.querySelector('#plan-says')?.textContent.includes('Nothing to change')")
	p.js("document.activeElement.blur()")
	p.edited("undo", func() { p.click("#undo") })
	if got := p.js("document.querySelector('#g-" + kick + "-clip').value"); got != "-3.5" {
		t.Errorf("after the undo the clip's gain reads %s", got)
	}

	// what is typed wrongly stays, the sound too
	p.fill("#g-"+kick+"-clip", "much")
	p.press(input.Enter)
	p.until("a sentence", "document.querySelector('#gain-wrong')")
	if got := p.js("document.querySelector('#g-" + kick + "-clip').value"); got != "much" {
		t.Errorf("the field holds %q", got)
	}
	p.visit(p.js("location.href"))
	figures()
	if got := p.js("location.search"); got != "?open="+bass+"&scope=song" {
		t.Errorf("the address after a reload ends in %s", got)
	}
	p.clean("422")
}

// Before and after on Levels: the bytes of both sides, matched and not; a bus alone; the noise.
func TestHearLevels(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/levels")
	song, _ := a.store.Load(context.Background(), a.song(p))
	kick := song.TriggerStem().ID
	p.edited("a trim", func() { p.typed("#g-"+kick+"-clip", "-6") })
	p.click("#deck-data [data-solo=kick]")
	p.until("the kick alone", "document.querySelector('#deck-data').dataset.solo === 'kick'")
	if got := p.text("#offset-db"); got != "6.0" {
		t.Errorf("the match says %s dB for a trim of 6", got)
	}
	after := a.side(p, "after")
	now, _ := a.store.Load(context.Background(), a.song(p))
	want, _, err := a.server.Renderer.Heard(context.Background(), &now.Song, mix.SoloKick, mix.Window{To: 7 * rate})
	if err != nil {
		t.Fatal(err)
	}
	for c := range want.Ch {
		for i, v := range want.Ch[c] {
			if d := math.Abs(float64(after.Ch[c][i] - v)); d > 1.0/(1<<23) {
				t.Fatalf("After is %.1f steps of 24 bits off the core's render at frame %d", d*(1<<23), i)
			}
		}
	}
	p.js("localStorage.setItem('care-read', '1')")
	p.click("#play")
	p.until("it plays", "document.querySelector('#deck').dataset.state === 'playing'")
	p.edited("a bus", func() { p.typed("#bus-name", "Hits") })
	p.choice("#solo-bus", "bus:b1")
	p.until("the bus alone", "document.querySelector('#deck-data').dataset.solo === 'bus:b1'")

	p.click("#anchor-pink")
	p.until("the other anchor", "location.search.includes('anchor=pink')")
	p.click("#preview")
	p.until("the plan", "document.querySelector('#noise')")
	p.click("#noise")
	p.until("the noise sounds", "document.querySelector('#deck').dataset.noise === 'playing'")
	p.click("#noise")
	p.until("and stops", "document.querySelector('#deck').dataset.noise === ''")
	p.click("#play")
	p.clean()
}

// The plan taken elsewhere and its bounce dropped on the old stem.
func TestLevelsComeBack(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	id := a.song(p)
	p.visit(a.url + "/songs/" + id + "/levels")
	p.click("#preview")
	p.until("the plan", "document.querySelector('#plan-outside')")
	p.edited("taking it elsewhere", func() { p.click("#plan-outside") })
	p.until("two bounces are awaited", "document.querySelectorAll('#landings tbody tr').length === 2")
	song, _ := a.store.Load(context.Background(), id)
	trim := song.Plan.Trims[0]
	kick, bass := fight()
	sound := map[session.Role]audio.Buffer{session.Kick: kick, session.Bass: bass}[song.Stem(trim.Stem).Role]
	next := audio.New(rate, len(sound.Ch), sound.Frames())
	for c := range sound.Ch {
		for i, v := range sound.Ch[c] {
			next.Ch[c][i] = v * float32(math.Pow(10, trim.DB/20))
		}
	}
	p.visit(a.url + "/songs/" + id + "/intake")
	el, err := p.Timeout(patience).Element("#stem-" + trim.Stem + " .replace-file")
	if err != nil {
		t.Fatal(err)
	}
	if err := el.SetFiles([]string{write(t, "bounced.wav", next, wav.Int24)}); err != nil {
		t.Fatal(err)
	}
	p.until("the old figures", "document.querySelector('#stem-"+trim.Stem+" .was')")
	p.visit(a.url + "/songs/" + id + "/levels")
	if got := p.js("[...document.querySelectorAll('#landings .ok')].map(e => e.textContent.trim().split(/\\s+/).pop()).join()"); got != "landed" {
		t.Errorf("it came back as %q: %s", got, p.text("#landings"))
	}
	p.clean()
}
