package e2e

import (
	"context"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Moves on a stem, a bus and the master, by one form everywhere: put in, set by typing and by the wheel of keys, refused
// with what was typed kept out of the song, switched, taken out, undone; what is heard is what the core renders.
func TestMoves(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	id := a.song(p)
	p.visit(a.url + "/songs/" + id + "/levels")
	p.edited("a bus", func() { p.typed("#bus-name", "Low end") })
	song, _ := a.store.Load(context.Background(), id)
	bass := song.ByRole(session.Bass)[0].ID
	for _, at := range []string{bass, "bus:b1", "master"} {
		p.visit(a.url + "/songs/" + id + "/levels?open=" + at)
		p.until("its chain", "document.querySelector('.chain[data-at=\""+at+"\"]')")
		field := "[id=\"f-" + at + "-softclip1-threshold_db\"]"
		p.choice("[id=\"add-"+at+"\"]", "softclip")
		p.edited("a soft clip", func() { p.click("[id=\"add-move-" + at + "\"]") })
		p.edited("its threshold", func() { p.typed(field, "-14") })
		p.typed(field, "loud")
		p.until("the refusal", "document.querySelector('#chain-wrong')")
		if said := p.text("#chain-wrong"); !strings.Contains(said, "threshold") || !strings.Contains(said, "loud") {
			t.Errorf("%s: refused with %q", at, said)
		}
		p.choice("[id=\"add-"+at+"\"]", "midside")
		p.edited("a mid or side filter", func() { p.click("[id=\"add-move-" + at + "\"]") })
		got := p.js("[...document.querySelectorAll('.chain[data-at=\"" + at + "\"] .move b')].map(b => b.textContent).join(', ')")
		if got != "Mid or side filter, Soft clip" {
			t.Errorf("%s: the chain reads %s", at, got)
		}
	}
	song, _ = a.store.Load(context.Background(), id)
	b, _, err := a.server.Renderer.Solo(context.Background(), &song.Song, mix.SoloAll, mix.Window{To: 4 * rate})
	if err != nil {
		t.Fatal(err)
	}
	if peak := meter.PeakDB(b.Ch...); peak > -13.5 {
		t.Errorf("clipped at -14 dBFS the mix peaks at %.1f", float64(peak))
	}
	if got := p.text("#level-master-master .peak"); got != "−14.0" && got != "−13.9" && got != "−14.1" {
		t.Errorf("the page shows a premaster peak of %s", got)
	}
	p.edited("off", func() { p.click("[id=\"move-master-softclip1\"] form[action$=switch] button") })
	p.edited("out", func() { p.click("[id=\"move-master-softclip1\"] form[action$=drop] button") })
	p.edited("undo", p.undo)
	if p.js("document.querySelector('[id=\"move-master-softclip1\"]') === null") == "true" {
		t.Error("undone it is not back")
	}
	p.clean("422", "422", "422")
}

// Without a mouse: a stage opened by its digit is read from its heading, and names itself in the title; the loop is moved
// and stretched by keys, or typed; a definition describes what has focus; a refused loop says so.
func TestKeyboard(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/intake")
	p.press(input.Digit2)
	p.until("Levels", "location.pathname.endsWith('/levels') && document.activeElement?.tagName === 'H1'")
	if title := p.js("document.title"); !strings.HasPrefix(title, "Levels · ") {
		t.Errorf("the title is %q", title)
	}
	p.press(input.Digit3)
	p.until("Pocket", "document.title.startsWith('Pocket · ') && document.activeElement?.textContent.startsWith('Do kick')")
	p.js("document.querySelector('.loop-typed').open = true")
	p.fill("#loop-first", "1")
	loop := func(is string) {
		t.Helper()
		p.until(is, "document.querySelector('#loop-grip').getAttribute('aria-valuetext') === '"+is+"'")
	}
	rev := p.rev()
	p.typed("#loop-last", "2")
	loop("bars 1 to 2")
	p.js("document.querySelector('#loop-grip').focus()")
	p.press(input.ArrowRight)
	loop("bars 2 to 3")
	p.until("the focus again", "document.activeElement?.id === 'loop-grip'")
	if err := p.KeyActions().Press(input.ShiftLeft).Type(input.ArrowLeft).Do(); err != nil {
		t.Fatal(err)
	}
	loop("bar 2")
	if p.rev() != rev {
		t.Error("choosing what is heard is an edit")
	}
	p.js("document.querySelector('.loop-typed').open = true")
	p.typed("#loop-last", "nowhere")
	p.until("the refusal", "document.querySelector('#loop-wrong')")
	p.js("document.querySelector('#f-settles').focus()")
	p.until("its definition", "document.getElementById(document.activeElement.getAttribute('aria-describedby'))?.textContent.includes('settles')")
	if got := p.js("[...document.querySelectorAll('svg[role=img] [role=slider], th:not([scope])')].length"); got != "0" {
		t.Errorf("%s handles inside images, or headings of no column", got)
	}
	p.clean("422")
}

// The marks in the rail come after the page and are those of every stage; a finding that is left be is counted no more.
func TestMarks(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/log")
	p.until("the marks", "document.querySelector('#mark-pocket em') && document.querySelector('#mark-duck em') && document.querySelector('#mark-levels em')")
	before := p.text("#mark-pocket em")
	p.press(input.Digit3)
	p.until("Pocket", "document.querySelector('#finding-under')")
	p.js("document.querySelector('#finding-under .leave').open = true")
	p.fill("#finding-under [name=why]", "it is meant so")
	p.edited("leaving it be", func() { p.click("#finding-under .leave .btn") })
	if p.js("document.querySelector('#finding-under') === null") != "true" || p.text("#mark-pocket em") == before {
		t.Error("it is still told, or counted")
	}
	p.js("document.querySelector('.aside-list').open = true")
	if !strings.Contains(p.text(".aside-list"), "it is meant so") {
		t.Errorf("the reason is not told: %s", p.text(".aside-list"))
	}
	p.edited("looking again", func() { p.click(".aside-list button") })
	p.until("it again", "document.querySelector('#finding-under')")
	p.clean()
}
