package e2e

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"

	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/duck"
	"mellowthump/core/facts"
	"mellowthump/core/midi"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// download fetches what a link on the page leads to.
func (a *app) download(p *page, selector string) []byte {
	a.t.Helper()
	res, err := http.Get(p.js("document.querySelector('" + selector + "').href"))
	if err != nil {
		a.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != 200 {
		a.t.Fatalf("%s: %d, %v", selector, res.StatusCode, err)
	}
	return b
}

func (a *app) duckOf(p *page) (points []string) {
	a.t.Helper()
	song, err := a.store.Load(context.Background(), a.song(p))
	if err != nil {
		a.t.Fatal(err)
	}
	d, _ := song.Duck()
	if d == nil {
		return nil
	}
	for _, pt := range d.Points {
		points = append(points, fmt.Sprintf("%g/%g", pt.MS, pt.DB))
	}
	return points
}

// readouts checks the page's readouts against the core's own.
func (a *app) readouts(p *page, what string) {
	a.t.Helper()
	_, st := a.judged(p)
	want := map[string]string{
		"#d-clearance": shown(
			st.After.ClearanceMedian,
			1,
		), "#d-clearance-p10": shown(st.After.ClearanceP10, 1), "#d-clearance-p10-before": shown(st.Before.ClearanceP10, 1),
	}
	if st.Readout != nil {
		want["#d-loss"] = shown(st.Readout.BassLoss, 2)
		want["#d-depth"] = shown(st.Readout.Depth, 1)
		want["#d-back"] = fmt.Sprintf("%d of %d", st.Readout.Back, st.Readout.Of)
	}
	for sel, w := range want {
		if got := p.text(sel); got != w {
			a.t.Errorf("%s: %s reads %q, the core has %q", what, sel, got, w)
		}
	}
}

// Fit, drag, arrow keys, typing, note values, adding, removing, undo; every readout follows
// from a real render; what is taken away measures as the page says.
func TestDuck(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.click("#rail a[href$=duck]")
	p.until("the Duck", "document.querySelector('#duck-editor')")
	a.readouts(p, "untouched")

	p.edited("the fit", func() { p.js("document.body.focus()"); p.press(input.KeyF) })
	a.readouts(p, "fitted")
	p.until("what it costs", "document.querySelector('#trade')")
	_, st := a.judged(p)
	if float64(st.After.ClearanceP10) < 8 {
		t.Errorf("fitted, the worst tenth has %.2f dB", st.After.ClearanceP10)
	}
	if got := p.text("#whole-p10"); got != shown(st.After.ClearanceP10, 1) {
		t.Errorf("the whole song reads %q, the core has %.2f", got, st.After.ClearanceP10)
	}

	// the exported stem, judged by the core from the file alone
	file := a.download(p, "a[href*=\"ducked.wav\"]")
	r, err := wav.NewReader(bytes.NewReader(file), int64(len(file)))
	if err != nil {
		t.Fatal(err)
	}
	kick, _ := fight()
	c, err := duck.Clear(context.Background(), audio.Memory{Buffer: kick}, r, duck.Options{Targets: session.DefaultTargets()})
	if err != nil {
		t.Fatal(err)
	}
	if r.Format().BitDepth != 24 || math.Abs(float64(c.Before.ClearanceP10-st.After.ClearanceP10)) > 0.02 || c.Duck.Needed {
		t.Errorf("the exported stem: %d bits, worst tenth %.3f dB, the page's %.3f", r.Format().BitDepth, c.Before.ClearanceP10, st.After.ClearanceP10)
	}
	if csv := string(a.download(p, "a[href$=\"curve.csv\"]")); !strings.HasPrefix(csv, "ms,db\n") || strings.Count(csv, "\n") < 50 {
		t.Errorf("the curve reads %.80q", csv)
	}

	// a curve of four points, to be edited
	if _, err := a.store.Edit(context.Background(), a.song(p), store.AnyRevision, editFunc(func(song *session.Song) (string, error) {
		song.SetDuck(&move.Duck{School: move.CurveSchool, Trigger: session.KickTrigger, Points: []move.Point{{MS: -6}, {DB: -8}, {MS: 100, DB: -8}, {MS: 140}}},
			false, "")
		return "Draw four points", song.Validate()
	})); err != nil {
		t.Fatal(err)
	}
	p.visit(p.js("location.href"))

	// arrow keys on a point: 1 ms right, 0.5 dB deeper; Shift finer
	fitted := a.duckOf(p)
	p.edited("arrow keys", func() {
		p.js("document.querySelector('#point-2').focus()")
		p.press(input.ArrowRight)
		p.press(input.ArrowUp)
	})
	var ms, db, ms0, db0 float64
	fmt.Sscanf(fitted[2], "%g/%g", &ms0, &db0)
	fmt.Sscanf(a.duckOf(p)[2], "%g/%g", &ms, &db)
	if math.Abs(ms-ms0-1) > 1e-6 || math.Abs(db-db0+0.5) > 1e-6 {
		t.Errorf("by keys the point went from %s to %s", fitted[2], a.duckOf(p)[2])
	}
	if p.js("document.activeElement.id") != "point-2" {
		t.Errorf("the focus went to %s", p.js("document.activeElement.outerHTML.slice(0, 60)"))
	}
	a.readouts(p, "after keys")

	// dragging a point: it lands where the pointer lets go
	p.edited("dragging", func() { p.drag("#point-1 .knob", 12, -9) })
	fmt.Sscanf(a.duckOf(p)[1], "%g/%g", &ms, &db)
	if ms < 1 || ms > 12 || db >= db0 {
		t.Errorf("dragged right and deeper the point stands at %s", a.duckOf(p)[1])
	}
	a.readouts(p, "after dragging")

	// typing: ms, then a note value that follows the tempo
	p.edited("typing", func() { p.typed("#db-1", "-6") })
	p.edited("typing a note", func() { p.typed("#at-3", "1/8t") })
	if got := a.duckOf(p); got[1][strings.Index(got[1], "/"):] != "/-6" || !strings.HasPrefix(got[3], "166.6") {
		t.Errorf("typed, the points are %v", got)
	}
	a.readouts(p, "after typing")

	// what cannot be is said, kept in the field, and changes nothing
	before := a.duckOf(p)
	p.typed("#db-1", "loud")
	p.until("a sentence", "document.querySelector('#points-wrong')")
	if got := p.js("document.querySelector('#db-1').value"); got != "loud" || fmt.Sprint(a.duckOf(p)) != fmt.Sprint(before) {
		t.Errorf("the field holds %q, the points are %v", got, a.duckOf(p))
	}
	p.edited("putting it right", func() { p.typed("#db-1", "-7") })

	p.edited("adding", func() { p.click("#add-point") })
	if len(a.duckOf(p)) != 5 {
		t.Errorf("%v", a.duckOf(p))
	}
	p.edited("removing", func() { p.js("document.querySelector('#point-2').focus()"); p.press(input.Delete) })
	if len(a.duckOf(p)) != 4 {
		t.Errorf("%v", a.duckOf(p))
	}
	p.edited("undo", func() { p.undo() })
	p.edited("undo", func() { p.undo() })
	if got := fmt.Sprint(a.duckOf(p)); !strings.Contains(got, "/-7") {
		t.Errorf("undone to %s", got)
	}
	p.edited("redo", func() { p.click("#redo") })
	if len(a.duckOf(p)) != 5 {
		t.Errorf("redone to %v", a.duckOf(p))
	}
	p.edited("off", func() { p.click("#duck-switch") })
	a.readouts(p, "off")
	p.clean("422")
}

// The cap and the far-down bass: the fit says what it can and cannot do.
func TestFitSays(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	p.edited("the cap", func() { p.typed("#target-depth", "1") })
	p.edited("the fit", func() { p.click("#fit") })
	if got := p.text("#fit-why"); !strings.Contains(got, "cannot be reached") || !strings.Contains(got, "cap of 1.0 dB stops it") {
		t.Errorf("says %q", got)
	}
	p.edited("the target", func() { p.typed("#target-clearance", "0") })
	p.edited("the fit", func() { p.click("#fit") })
	if len(a.duckOf(p)) != 0 {
		t.Errorf("a duck that is not needed stays: %v", a.duckOf(p))
	}
	p.click("#fit")
	p.until("a sentence", "document.querySelector('#fit-said')?.textContent.includes('No duck needed')")
	p.clean("422")
}

// Two tabs: the one that is behind is told, and nothing is overwritten.
func TestTwoTabs(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	other := a.open("/songs/" + a.song(p) + "/duck")
	p.edited("the first tab", func() { p.click("#draw-duck") })
	was := a.duckOf(p)
	other.click("#draw-duck")
	other.until("a word about the other tab", "document.querySelector('#notice').textContent.includes('another tab')")
	if fmt.Sprint(a.duckOf(p)) != fmt.Sprint(was) {
		t.Error("the second tab overwrote the first")
	}
	p.clean()
	other.clean("409")
}

// press types keys, as soon as the scripts that hear them have run.
func (p *page) press(keys ...input.Key) {
	p.t.Helper()
	p.until("the page is whole", "document.readyState === 'complete'")
	for _, k := range keys {
		if err := p.Keyboard.Type(k); err != nil {
			p.t.Fatal(err)
		}
	}
}

func (p *page) undo() {
	p.t.Helper()
	p.js("document.activeElement.blur()")
	if err := p.KeyActions().Press(input.ControlLeft).Type(input.KeyZ).Do(); err != nil {
		p.t.Fatal(err)
	}
}

// typed types into a field and presses Enter.
func (p *page) typed(selector, text string) {
	p.t.Helper()
	p.on("typing into", selector, func(el *rod.Element) error {
		if err := el.SelectAllText(); err != nil {
			return err
		}
		return p.InsertText(text) // fill would send a change of its own, and Enter a second one
	})
	p.press(input.Enter)
}

// drag moves the pointer from the middle of an element by some pixels, step by step.
func (p *page) drag(selector string, dx, dy float64) {
	p.t.Helper()
	var x, y float64
	fmt.Sscan(p.js("(r => `${r.x + r.width / 2} ${r.y + r.height / 2}`)(document.querySelector('"+selector+"').getBoundingClientRect())"), &x, &y)
	p.mouse(x, y, x+dx, y+dy)
}

// mouse presses at one place and lets go at another, step by step.
func (p *page) mouse(x, y, x2, y2 float64) {
	p.t.Helper()
	move := func(x, y float64) {
		if err := p.Mouse.MoveTo(proto.NewPoint(x, y)); err != nil {
			p.t.Fatal(err)
		}
	}
	move(x, y)
	if err := p.Mouse.Down(proto.InputMouseButtonLeft, 1); err != nil {
		p.t.Fatal(err)
	}
	for i := 1.0; i <= 6; i++ {
		move(x+(x2-x)*i/6, y+(y2-y)*i/6)
	}
	if err := p.Mouse.Up(proto.InputMouseButtonLeft, 1); err != nil {
		p.t.Fatal(err)
	}
}

// choice chooses an option of a select by its value.
func (p *page) choice(selector, value string) {
	p.t.Helper()
	p.js("(s => { s.value = '" + value + "'; s.dispatchEvent(new Event('change', {bubbles: true})); return 1 })(document.querySelector('" + selector + "'))")
}

// The keyed schools: fitted by a click, a value typed, the readouts the core's own, the key heard, the
// other schools beside; undone.
func TestDuckSchools(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	p.edited("the compressor", func() { p.click("#school-compressor") })
	p.until("its values", "document.querySelector('#k-threshold')")
	a.readouts(p, "after the fit")
	p.edited("another threshold", func() { p.typed("#k-threshold", "-12") })
	a.readouts(p, "after the threshold")
	p.until("the three schools", "document.querySelectorAll('#schools-table tr[data-school]').length === 3")
	p.click("#deck-data [data-solo=key]")
	p.until("the key", "document.querySelector('#deck-data').dataset.solo === 'key'")
	p.edited("the band dip", func() { p.click("#school-band") })
	p.until("its band", "document.querySelector('#k-shape')")
	fitted := p.js("document.querySelector('#k-shape').value")
	other := map[string]string{"bell": "below", "below": "bell"}[fitted]
	p.edited("the other shape", func() { p.choice("#k-shape", other) })
	a.readouts(p, "as "+other)
	p.js("document.activeElement.blur()")
	p.edited("undo", func() { p.click("#undo") })
	if got := p.js("document.querySelector('#k-shape').value"); got != fitted {
		t.Errorf("after the undo the band is %s, %s was fitted", got, fitted)
	}
	p.fill("#k-range", "deep")
	p.press(input.Enter)
	p.until("a sentence", "document.querySelector('#keyed-wrong')")
	if got := p.js("document.querySelector('#k-range').value"); got != "deep" {
		t.Errorf("the field holds %q", got)
	}
	p.clean("422")
}

// The target dragged along its trade-off, and moved by keys, fits anew; a hit is looped alone.
func TestTradeOff(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	p.edited("the fit", func() { p.click("#fit") })
	p.until("what it costs", "document.querySelector('#trade-knob')")
	asked := func() float64 {
		song, err := a.store.Load(context.Background(), a.song(p))
		if err != nil {
			t.Fatal(err)
		}
		return song.Targets.Clearance
	}
	p.js("document.querySelector('#trade-knob').scrollIntoView({block: 'center'})")
	p.edited("dragging", func() { p.drag("#trade-knob .knob", 24, 0) })
	if got := asked(); got <= 8.5 || got > 12 {
		t.Errorf("after the drag %g dB are asked", got)
	}
	a.readouts(p, "after the drag")
	was := asked()
	p.until("the knob again", "document.querySelector('#trade-knob')")
	p.edited("a key", func() {
		p.js("document.querySelector('#trade-knob').focus()")
		p.press(input.ArrowLeft)
	})
	if got := asked(); got != was-0.5 {
		t.Errorf("a key to the left asks %g dB after %g", got, was)
	}
	p.js("localStorage.setItem('care-read', '1')")
	rev := p.rev()
	for i := range 3 { // the list stays, and is stepped through while one plays
		p.click(fmt.Sprintf(".worst [data-alone]:nth-of-type(%d)", i+1))
		p.until(
			"it is marked",
			fmt.Sprintf("document.querySelectorAll('.worst .now').length === 1 && document.querySelectorAll('.worst [data-alone]')[%d].classList.contains('now')", i),
		)
		p.until(
			"it plays",
			"(d => d.state === 'playing' && d.loaded.endsWith(document.querySelector('#deck-data').dataset.after))(document.querySelector('#deck').dataset)",
		)
	}
	if song, _ := a.store.Load(context.Background(), a.song(p)); song.Loop != nil || p.rev() != rev {
		t.Errorf("listening changed the song: the loop is %+v", song.Loop)
	}
	p.click("#loop-back")
	p.until("the judged stretch", "!document.querySelector('#loop-back') && !document.querySelector('.worst .now')")
	p.click("#play")
	p.clean()
}

// Triggers by hand: a hit left out and given back, a grid, a part that ducks to it.
func TestTriggers(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	hits := func() string { return p.js("document.querySelectorAll('#duck-strip .hit').length") }
	was := hits()
	p.edited("a hit left out", func() {
		p.fill("#hit-at", "0.75 s")
		p.click("#hit-remove")
	})
	if hits() == was {
		t.Errorf("still %s hits", hits())
	}
	p.edited("given back", func() { p.click("#hit-reset") })
	if hits() != was {
		t.Errorf("%s hits of %s", hits(), was)
	}
	p.edited("a grid", func() {
		p.js("document.querySelector('#add-trigger').closest('details').open = true")
		p.fill("#trigger-grid", "1/8")
		p.click("#add-trigger")
	})
	if got := p.js("document.querySelectorAll('#matrix thead th').length"); got != "4" {
		t.Errorf("%s columns", got)
	}
	p.fill("#hit-at", "never")
	p.click("#hit-add")
	p.until("a sentence", "document.querySelector('#trigger-wrong')")
	p.clean("422")
}

// The handover dragged later takes the duck and the kick's tail with it; a key moves it finely.
func TestHandoverDrag(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	p.edited("the fit", func() { p.click("#fit") })
	_, was := a.judged(p)
	p.edited("dragging the handover", func() { p.drag("#handover-grip .knob", 60, 0) })
	song, now := a.judged(p)
	if !(now.After.HandoverMedian > was.After.HandoverMedian+5) {
		t.Errorf("the handover goes from %.0f to %.0f ms", float64(was.After.HandoverMedian), float64(now.After.HandoverMedian))
	}
	if song.TriggerStem().Move("tail-fade") == nil {
		t.Error("the kick's tail has no fade")
	}
	a.readouts(p, "after the drag")
	p.edited("a key", func() {
		p.js("document.querySelector('#handover-grip').focus()")
		p.press(input.ArrowLeft)
	})
	p.js("document.activeElement.blur()")
	p.edited("undo", func() { p.click("#undo") })
	p.edited("undo", func() { p.click("#undo") })
	if _, back := a.judged(p); back.After.HandoverMedian != was.After.HandoverMedian {
		t.Errorf("two undos later it stands at %.0f ms, it was at %.0f", float64(back.After.HandoverMedian), float64(was.After.HandoverMedian))
	}
	p.clean()
}

// The ducked bass is taken away and dropped back on its own row: what came back is what was planned. A
// bounce without the duck is told apart.
func TestDuckOutAndBackIn(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	song := a.song(p)
	p.visit(a.url + "/songs/" + song + "/duck")
	p.edited("the fit", func() { p.click("#fit") })
	file := filepath.Join(t.TempDir(), "Sub bounced.wav")
	if err := os.WriteFile(file, a.download(p, "a[href*=\"ducked.wav\"]"), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, link := range []string{"gain.mid", "gain.wav", "hits.mid", "click.wav", "settings.txt", "curve.csv"} {
		if b := a.download(p, "a[href$=\""+link+"\"]"); len(b) < 40 {
			t.Errorf("%s has %d bytes", link, len(b))
		}
	}
	drop := func(path string) {
		p.visit(a.url + "/songs/" + song + "/intake")
		el, err := p.Timeout(patience).Element("tr[data-name=Sub] .replace-file")
		if err != nil {
			t.Fatal(err)
		}
		p.edited("the bounce", func() {
			if err := el.SetFiles([]string{path}); err != nil {
				t.Fatal(err)
			}
		})
		p.visit(a.url + "/songs/" + song + "/duck")
		p.until("what came back", "document.querySelector('#back-worst')")
	}
	worst := func() float64 {
		var v float64
		fmt.Sscan(strings.Replace(p.text("#back-worst"), "−", "-", 1), &v)
		return v
	}
	drop(file)
	if got := worst(); math.Abs(got) > 0.15 {
		t.Errorf("a faithful bounce differs by %.1f dB", got)
	}
	_, bass := fight()
	for c := range bass.Ch { // the same file would be refused
		for i := range bass.Ch[c] {
			bass.Ch[c][i] *= 0.98
		}
	}
	p.visit(a.url + "/songs/" + song + "/duck")
	p.edited("undo", func() { p.click("#undo") })
	drop(write(t, "Sub plain.wav", bass, wav.Float32))
	if got := worst(); got < 2 {
		t.Errorf("a bounce without the duck differs by %.1f dB", got)
	}
	p.clean()
}

// Where the bass leads the fit lowers the kick's tail; the readouts are the core's own. Another school is
// heard before it is chosen.
func TestDuckWhereTheBassLeads(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	song := a.song(p)
	p.visit(a.url + "/songs/" + song + "/duck")
	p.edited("the fit", func() { p.click("#fit") })
	p.until("the schools", "document.querySelector('#schools-table [data-try=\"duck/band\"]')")
	p.js("localStorage.setItem('care-read', '1')")
	p.click("#schools-table [data-try='duck/band']")
	p.until("it is tried", "document.querySelector('#trying') && document.querySelector('#deck').dataset.loaded.includes('try=duck%2Fband')")
	p.click("#trying button")
	p.until("the song as it is", "!document.querySelector('#trying') && !document.querySelector('#deck').dataset.loaded.includes('try=')")
	p.click("#play")

	p.visit(a.url + "/songs/" + song + "/pocket")
	p.edited("the bass leads", func() { p.click("#bass-leads") })
	p.visit(a.url + "/songs/" + song + "/duck")
	p.edited("a high target", func() { p.typed("#target-clearance", "30") })
	p.edited("the fit", func() { p.click("#fit") })
	now, st := a.judged(p)
	if d, _ := now.Duck(); d == nil || d.Points[0].MS < 0 || now.TriggerStem().Moves == nil {
		t.Fatalf("the kick has no duck: %+v", d)
	}
	b := now.ByRole(session.Bass)[0]
	known, err := a.store.Facts(context.Background(), b.Audio)
	if err != nil {
		t.Fatal(err)
	}
	lead, err := st.Pair.Meter.MeasureLead(st.Pair.Bass, facts.Line(known, nil), st.After)
	if err != nil {
		t.Fatal(err)
	}
	led, err := st.Without.Meter.MeasureLead(st.Without.Bass, facts.Line(known, nil), st.Before)
	if err != nil {
		t.Fatal(err)
	}
	for sel, want := range map[string]string{"#d-lead": shown(lead.Median, 1), "#d-lead-p10": shown(lead.P10, 1), "#d-lead-p10-before": shown(led.P10, 1),
		"#d-loss": shown(st.Readout.BassLoss, 2), "#d-depth": shown(st.Readout.Depth, 1)} {
		if got := p.text(sel); got != want {
			t.Errorf("%s reads %q, the core has %q", sel, got, want)
		}
	}
	if lead.P10 <= led.P10 {
		t.Errorf("the bass leads by %.1f dB after %.1f", float64(lead.P10), float64(led.P10))
	}
	p.clean()
}

// Trigger problems: a snare that bleeds into the kick's file ducks the bass where no kick is; it is named,
// and the filter that is proposed stops it. A kick that goes to another bus than its trigger is taken at is
// a finding that leads to where it is mended.
func TestTriggerProblems(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Cross Current", "120")
	kick, bass := fight()
	snare := audio.New(rate, 1, kick.Frames())
	for h := 0.5; h < 6.5; h++ {
		for i := range rate / 12 {
			s := float64(i) / rate
			v := float32(0.3 * math.Sin(2*math.Pi*420*s) * math.Exp(-s/0.03))
			snare.Ch[0][int(h*rate)+i] += v
			kick.Ch[0][int(h*rate)+i] += v / 1.5
		}
	}
	p.choose(write(t, "Kick.wav", kick, wav.Int24), write(t, "Sub.wav", bass, wav.Float32), write(t, "Snare.wav", snare, wav.Int24))
	p.until("three stems", "document.querySelectorAll('.stems tbody tr[data-name]').length === 3 && !document.querySelector('#imports progress')")
	var notes []midi.Note // the kick's own hits are known: what bleeds is not among them
	for h := range 13 {
		at := 0.25 + 0.5*float64(h)
		notes = append(notes, midi.Note{Start: at, End: at + 0.1, Key: 36})
	}
	file := filepath.Join(t.TempDir(), "Kick.mid")
	out, err := os.Create(file)
	if err == nil {
		err = midi.Write(out, notes, 120)
		out.Close()
	}
	if err != nil {
		t.Fatal(err)
	}
	p.choose(file)
	p.until("the notes", "document.querySelector('tr[data-name=Kick]').textContent.includes('MIDI') && !document.querySelector('#imports progress')")
	song := a.song(p)
	p.visit(a.url + "/songs/" + song + "/duck")
	p.edited("the compressor", func() { p.click("#school-compressor") })
	p.edited("a low threshold", func() { p.typed("#k-threshold", "-30") })
	p.until("the false triggers", "document.querySelector('#false-triggers')?.textContent.includes('Snare plays')")
	p.edited("the filter", func() { p.click("#false-triggers button") })
	p.until("the schools again", "document.querySelector('#schools-table') && !document.querySelector('#false-triggers')")
	if low := p.js("document.querySelector('#k-key-low').value"); low == "" {
		t.Error("the key has no low-pass")
	}

	p.visit(a.url + "/songs/" + song + "/levels")
	now, err := a.store.Load(context.Background(), song)
	if err != nil {
		t.Fatal(err)
	}
	id := now.TriggerStem().ID
	if _, err := a.store.Edit(context.Background(), song, now.Rev, editFunc(func(s *session.Song) (string, error) {
		s.Buses = []session.Bus{{ID: "b1", Name: "Drums"}, {ID: "b2", Name: "Low"}}
		s.Stem(id).Bus = "b2"
		s.Trigger(session.KickTrigger).At = "b1"
		return "Route the kick elsewhere", s.Validate()
	})); err != nil {
		t.Fatal(err)
	}
	p.visit(a.url + "/songs/" + song + "/duck")
	p.until("the lost trigger", "document.querySelector('#trigger-lost')?.textContent.includes('taken at Drums')")
	p.click("#trigger-lost a")
	p.until("Levels", "document.querySelector('#rail .on').textContent.includes('Levels') && document.querySelector('#sheet').textContent.includes('trigger')")
	p.clean()
}

// editFunc is an edit made of a function.
type editFunc func(*session.Song) (string, error)

func (f editFunc) Apply(s *session.Song) (string, error) { return f(s) }

// The bass ducks to a second trigger besides, in a shape of its own; the release follows the gap by one choice. What is asked
// for, the schools, what there is to take away and a plan's buttons stand above the fold at 1280 x 800.
func TestReleaseAndShapes(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	song := a.song(p)
	p.visit(a.url + "/songs/" + song + "/duck")
	p.edited("the fit", func() { p.click("#fit") })
	p.until("the schools", "document.querySelectorAll('#schools-table tr[data-school]').length === 3")
	fold := func(selectors ...string) {
		t.Helper()
		for _, s := range selectors {
			if p.js("String(document.querySelector('"+s+"').getBoundingClientRect().bottom <= document.querySelector('#deck').getBoundingClientRect().top)") != "true" {
				t.Errorf("%s stands under the fold", s)
			}
		}
	}
	fold("#target-follow", "#schools-table", "#take-all", "#settings-sheet", "#d-clearance-p10", "#d-mix-freed")
	p.edited("the release by the gap", func() { p.click("#target-follow") })
	p.until("the choice", "document.querySelector('#target-follow').checked && document.querySelector('#points [name=follow]')")

	p.js("document.querySelector('#trigger-grid').closest('details').open = true")
	p.fill("#trigger-grid", "1/2")
	p.edited("a grid", func() { p.click("#add-trigger") })
	bass := strings.TrimPrefix(p.js("document.querySelector('#matrix [id^=cell-][id$=-t1]').id"), "cell-")
	p.edited("a depth", func() { p.typed("#cell-"+bass, "3") })
	p.until("its shape", "document.querySelector('#back-"+bass+"')")
	p.edited("a shape", func() { p.typed("#end-"+bass, "1/8") })
	p.until("the note value", "document.querySelector('#end-"+bass+"').value === '1/8'")
	p.edited("its release", func() { p.click("#follow-" + bass) })
	p.until("the tick", "document.querySelector('#follow-"+bass+"').checked")
	p.js("document.querySelector('#rise-parts') && (document.querySelector('#rise-parts').open = true)")
	rev := p.rev()
	p.typed("#back-"+bass, "soon")
	p.until("a sentence", "document.querySelector('#shape-wrong')?.textContent.includes('Nothing was changed')")
	if p.rev() != rev {
		t.Error("a bad time changed the song")
	}
	p.undo()
	p.until("the tick gone", "!document.querySelector('#follow-"+bass+"').checked")

	p.visit(a.url + "/songs/" + song + "/levels")
	p.click("#preview")
	p.until("a plan", "document.querySelector('#apply-plan')")
	fold("#apply-plan")
	p.clean("422")
}

// The aim stands in the top line of every stage: chosen once, all go by it, also after a reload; undo takes it back.
func TestAim(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	song := a.url + "/songs/" + a.song(p) + "/"
	p.visit(song + "pocket")
	lead := "document.querySelector('.lead').textContent"
	p.until("a clearance is asked", lead+".includes('asked') && document.querySelector('#aim').value === ''")
	p.edited("the aim", func() { p.choice("#aim", "clear") })
	p.until("Pocket goes by what is hidden", lead+".includes('hides') && !"+lead+".includes('asked')")
	p.visit(song + "duck")
	p.until("Duck too", "document.querySelector('#aim').value === 'clear' && document.querySelector('#d-hidden') && "+lead+".includes('at most 5 %')")
	shown := p.js("document.querySelector('#d-hidden').textContent")
	s, st := a.judged(p)
	h, err := pair.HiddenIn(t.Context(), mix.New(a.store, 1<<28), st.Pair, s.RoomRules().Playback)
	if want := fmt.Sprintf("%.0f", float64(h.P90)); err != nil || shown != want {
		t.Errorf("%s %% are hidden by the page, %s by the core, %v", shown, want, err)
	}
	p.edited("undone", p.undo)
	p.until("apart again", "document.querySelector('#aim').value === ''")
	p.clean()
}
