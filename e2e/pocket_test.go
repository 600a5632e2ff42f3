package e2e

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/pair"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
)

// judged is the core's own judgement of a song over its whole length, which is its loop here.
func (a *app) judged(p *page) (*store.Song, *pair.State) {
	a.t.Helper()
	ctx := context.Background()
	song, err := a.store.Load(ctx, a.song(p))
	if err != nil {
		a.t.Fatal(err)
	}
	r := mix.New(a.store, 1<<28) // nothing of the program's own cache
	n, err := r.Length(&song.Song)
	if err != nil {
		a.t.Fatal(err)
	}
	state, err := pair.Measure(ctx, r, &song.Song, mix.Window{From: 0, To: n})
	if err != nil {
		a.t.Fatal(err)
	}
	return song, state
}

func shown(f meter.Figure, decimals int) string {
	if !f.Valid() {
		return "–"
	}
	return figure.Signed(float64(f), decimals)
}

// Every figure of the Pocket is the core's own; each hit is drawn; one sentence judges.
func TestPocket(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.click("#rail a[href$=pocket]")
	p.until("the Pocket", "document.querySelector('#pocket-figures')")
	song, st := a.judged(p)
	f := st.After
	hidden, err := pair.HiddenIn(t.Context(), mix.New(a.store, 1<<28), st.Pair, song.RoomRules().Playback)
	if err != nil {
		t.Fatal(err)
	}
	for sel, want := range map[string]string{
		"#f-clearance": shown(f.ClearanceMedian, 1), "#f-clearance-p10": shown(f.ClearanceP10, 1), "#f-overlap": shown(f.OverlapMedian, 0),
		"#f-handover": shown(f.HandoverMedian, 0) + " ms", "#f-phase": shown(f.PhaseSumMedian, 2), "#f-cost": shown(f.PeakCostMedian, 2),
		"#f-hidden":        fmt.Sprintf("%.0f", float64(hidden.P90)),
		"#pocket-sentence": hidden.Says("Kick", "Sub") + pocket.Sentence(f, song.Targets.Clearance, "Kick", "Sub"),
	} {
		if got := p.text(sel); got != want {
			t.Errorf("%s reads %q, the core has %q", sel, got, want)
		}
	}
	if got := p.js("document.querySelectorAll('#pocket-strip .hit').length"); got != "13" || len(f.Hits) != 13 {
		t.Errorf("%s hits are drawn, the core has %d", got, len(f.Hits))
	}
	if got := p.js("[...document.querySelectorAll('#pocket-strip .clearance')].map(e => e.textContent).join(' ')"); got != clearances(f) {
		t.Errorf("the strip reads\n%s, the core has\n%s", got, clearances(f))
	}
	// the address is real: reload and back
	p.visit(p.js("location.href"))
	p.until("the Pocket again", "document.querySelector('#pocket-figures')")
	p.click("#rail a[href$=intake]")
	p.until("Intake", "document.querySelector('.stems')")
	if err := p.NavigateBack(); err != nil {
		t.Fatal(err)
	}
	p.until("back at the Pocket", "document.querySelector('#pocket-figures') && document.querySelector('#rail .on').textContent.includes('Pocket')")
	// a click on a hit centres the loop on it
	rev := p.rev()
	p.js("document.querySelector('[data-centre]').click()")
	p.until("centred", "document.querySelector('#loop-name') && document.querySelector('#deck').dataset.state !== 'playing'")
	if p.rev() != rev {
		t.Error("centring is an edit")
	}
	p.clean()
}

func clearances(f meter.HitFigures) string {
	s := ""
	for i, h := range f.Hits {
		if i > 0 {
			s += " "
		}
		s += shown(h.Clearance, 1)
	}
	return s
}

// The Pocket's advice: the bass nudged as the curve says comes to the phase sum it promised; who
// leads; the kick at another pitch; a move taken out again.
func TestPocketAdvice(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	id := a.song(p)
	p.visit(a.url + "/songs/" + id + "/pocket")
	p.until("the options", "document.querySelectorAll('#kick-options .option').length === 11")
	p.until("the places", "document.querySelector('#places')")
	p.edited("a nudge", func() { p.typed("#nudge-ms", "4.2") })
	f, _ := a.judged(p)
	if f.Stem(f.ByRole("bass")[0].ID).Nudged() != 4.2 {
		t.Errorf("nudged by %g ms", f.ByRole("bass")[0].Nudged())
	}
	_, st := a.judged(p)
	if got, want := p.text("#f-phase"), shown(st.After.PhaseSumMedian, 2); got != want {
		t.Errorf("the phase sum reads %s, the core has %s", got, want)
	}
	p.until("the options again", "document.querySelector('#options-table tr[data-semitones=\"3\"] button')")
	p.edited("the kick tuned", func() {
		p.js("document.querySelector('#options-table').closest('details').open = true")
		p.click("#options-table tr[data-semitones=\"3\"] button")
	})
	if p.js("document.querySelector('aside').textContent.includes('300 cents')") != "true" {
		t.Errorf("the chain reads %s", p.text("aside"))
	}
	p.edited("the kick as it was", func() {
		p.js("document.querySelector('[id^=move-][id$=tune-kick] form[action$=drop] button').click()")
	})
	p.edited("the bass leads", func() { p.click("#bass-leads") })
	p.until("its figures", "document.querySelector('#f-lead')")
	p.js("document.activeElement.blur()")
	p.edited("undo", func() { p.click("#undo") })
	if p.js("document.querySelector('#kick-leads').classList.contains('on')") != "true" {
		t.Error("the undo leaves the bass leading")
	}
	p.clean()
}

// The table of the bass's notes is the core's own: time, cents off, clearance on each; detuned as typed, the
// whole line reads in tune; each note by its own error, too.
func TestNoteTable(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Slack Water", "120")
	kick, _ := fight()
	bass := audio.New(rate, 1, kick.Frames())
	phase := 0.0
	for i := range bass.Ch[0] {
		hz := 43.654 * math.Pow(2, 17./1200)
		if i/(2*rate)%2 == 1 {
			hz = 51.913 * math.Pow(2, 9./1200)
		}
		phase += 2 * math.Pi * hz / rate
		bass.Ch[0][i] = float32(0.3 * (math.Sin(phase) + 0.3*math.Sin(2*phase)))
	}
	p.choose(write(t, "Kick.wav", kick, wav.Int24), write(t, "Sub.wav", bass, wav.Int24))
	p.until("both stems", "document.querySelectorAll('.stems tbody tr[data-name]').length === 2 && !document.querySelector('#imports progress')")
	p.visit(a.url + "/songs/" + a.song(p) + "/pocket")
	table := func() string {
		return p.js("[...document.querySelectorAll('#line-notes tbody tr')].map(r => [...r.cells].map(c => c.textContent).join(' ')).join('; ')")
	}
	cores := func() string {
		song, st := a.judged(p)
		b := song.ByRole(session.Bass)[0]
		known, err := a.store.Facts(context.Background(), b.Audio)
		if err != nil {
			t.Fatal(err)
		}
		var rows []string
		for _, n := range pocket.Notes(bench.TuneLine(facts.Line(known, b.MIDI), b), st.After.Hits, 0, 7) {
			rows = append(rows, fmt.Sprintf("%s %s %.0f %% %s c %s", n.Note, figure.Signed(n.Hz, 1), 100*n.Share, figure.Signed(n.Cents, 0), shown(n.Clearance, 1)))
		}
		return strings.Join(rows, "; ")
	}
	same := func(what string) {
		t.Helper()
		if got, want := table(), cores(); got != want {
			t.Errorf("%s the table reads\n%s, the core has\n%s", what, got, want)
		}
	}
	same("untouched")
	if got := table(); !strings.Contains(got, "F1 44.1") || !strings.Contains(got, " 17 c") || !strings.Contains(got, "9 c") {
		t.Errorf("the table reads %s", got)
	}
	p.edited("the detune", func() { p.typed("#detune-cents", "-17") })
	same("detuned")
	if got := table(); !strings.Contains(got, " 0 c") || !strings.Contains(got, "−8 c") {
		t.Errorf("detuned by 17 cents the table reads %s", got)
	}
	p.edited("each note", func() { p.click("#detune-each") })
	same("each note tuned")
	if got := table(); strings.Count(got, " 0 c") != 2 {
		t.Errorf("each note tuned, the table reads %s", got)
	}
	p.edited("undo", func() { p.click("#undo") })
	p.typed("#detune-cents", "flat")
	p.until("a sentence", "document.querySelector('#pocket-wrong')")
	p.clean("422")
}
