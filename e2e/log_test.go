package e2e

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
)

// A take with name and note; the program is stopped and started, the browser closed: all is
// there, and the take can be gone back to.
func TestTakesAndRestart(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	id := a.song(p)
	p.visit(a.url + "/songs/" + id + "/duck")
	p.edited("the fit", func() { p.click("#fit") })
	fitted := strings.Join(a.duckOf(p), " ")
	p.js("document.activeElement.blur()")
	p.press(input.KeyS)
	p.until("the dialog", "document.querySelector('#take-dialog').open")
	p.fill("#take-name", "first fit")
	p.fill("#take-note", "808 breathes, kick speaks")
	p.click("#take-dialog .fill")
	p.until("the dialog closes", "!document.querySelector('#take-dialog').open")
	p.edited("another duck", func() { p.typed("#db-1", "-2") })
	changed := strings.Join(a.duckOf(p), " ")
	if changed == fitted {
		t.Fatal("nothing was changed")
	}
	p.clean()
	if err := p.Close(); err != nil {
		t.Fatal(err)
	}

	a.down()
	a.up()
	q := a.open("/")
	q.visit(a.url + "/songs/" + id + "/intake")
	q.until("the stems", "document.querySelectorAll('.stems tbody tr[data-name]').length === 2")
	if got := strings.Join(a.duckOf(q), " "); got != changed {
		t.Errorf("after the restart the duck is %s, not %s", got, changed)
	}
	q.click("#rail a[href$=log]")
	q.click("#part-takes")
	q.until("the take", "document.querySelector('.takes')?.textContent.includes('first fit')")
	if q.js("document.querySelector('.takes').textContent.includes('808 breathes, kick speaks')") != "true" {
		t.Error("the note is lost")
	}
	q.edited("going back", func() { q.click(".takes button") })
	if got := strings.Join(a.duckOf(q), " "); got != fitted {
		t.Errorf("back at the take the duck is %s, not %s", got, fitted)
	}
	q.edited("undo", func() { q.click("#undo") })
	if got := strings.Join(a.duckOf(q), " "); got != changed {
		t.Errorf("undone, the duck is %s, not %s", got, changed)
	}
	q.clean()
}

// Takes stand side by side by figures, by moves and by sound; their words are changed later, one is kept at the top; they are
// searched, and the log goes out.
func TestTakesSideBySide(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	id := a.song(p)
	at := a.url + "/songs/" + id
	save := func(name, note string) {
		p.js("document.activeElement.blur()")
		p.press(input.KeyS)
		p.until("the dialog", "document.querySelector('#take-dialog').open")
		p.fill("#take-name", name)
		p.fill("#take-note", note)
		p.click("#take-dialog .fill")
		p.until("the dialog closes", "!document.querySelector('#take-dialog').open")
	}
	p.visit(at + "/duck")
	save("as it came", "nothing yet")
	p.edited("the fit", func() { p.click("#fit") })
	save("ducked", "the kick speaks")
	p.edited("another duck", func() { p.typed("#db-1", "-3") })
	p.visit(at + "/log?view=takes")
	p.click("[data-take] input") // the newer one
	p.click("#beside-now")
	p.click("[data-take]:nth-child(2) input")
	p.click("#beside-go")
	p.until("the figures", "document.querySelector('#beside-table')")
	if got := p.js("[...document.querySelectorAll('#beside-table thead th')].map(h => h.textContent).join('|')"); got != "|as it came|ducked|now" {
		t.Errorf("side by side: %s", got)
	}
	if got := p.js("[...document.querySelectorAll('.differ')].map(d => d.textContent.replace(/\\s+/g, ' ').trim()).join(' / ')"); !strings.Contains(got, "Sub") ||
		!strings.Contains(got, "added") ||
		strings.Count(got, "/") != 1 {
		t.Errorf("by moves: %s", got)
	}
	// the worst tenth is what each take's own number says
	beside := p.js("[...document.querySelectorAll('#beside-table tbody tr')].find(r => r.textContent.includes('worst tenth')).querySelector('td.n').textContent")
	if own := p.text("[data-take]:nth-child(2) td.n"); own != strings.TrimSpace(beside) {
		t.Errorf("the worst tenth is %s in its take and %s beside", own, beside)
	}
	p.js("localStorage.setItem('care-read', '1')")
	p.click("[data-try^='log/takes:']")
	p.until("the deck plays the two", "document.querySelector('#trying')?.textContent.includes('ducked')")
	if of := p.js("new URL(document.querySelector('#deck-data').dataset.before, location).searchParams.get('of')"); !strings.HasPrefix(of, "on:log/takes:") {
		t.Errorf("Before is %q", of)
	}
	two := p.js("[...document.querySelectorAll('#beside h3 a.linkish')].map(a => new URL(a.href).searchParams.get('blind')).at(0)")
	p.click("#beside h3 a.linkish") // blind: Compare with these two chosen
	p.until(
		"the two",
		"document.querySelector('#blind-a')?.value.startsWith('"+strings.Replace(two, "-", "|') && document.querySelector('#blind-b').value.startsWith('", 1)+"|')",
	)
	if got := p.js("['a', 'b'].map(k => document.querySelector('#blind-' + k).selectedOptions[0].textContent).join(' / ')"); got != "the take “as it came” / "+
		"the take “ducked”" {
		t.Errorf("blind between %s", got)
	}
	p.visit(at + "/log?view=takes")
	p.click("[data-take]:nth-child(2) .take-words summary")
	p.fill("[data-take]:nth-child(2) .take-words [name=name]", "as it was brought")
	p.click("[data-take]:nth-child(2) .take-words [name=pinned]")
	p.click("[data-take]:nth-child(2) .take-words button")
	p.until("other words, at the top", "document.querySelector('[data-take] b').textContent === 'as it was brought'")
	p.visit(at + "/log?view=takes&q=speaks")
	p.until("the one that says so", "document.querySelectorAll('[data-take]').length === 1")
	p.visit(at + "/log?view=changes&q=duck")
	p.until("the changes", "document.querySelector('.history li')")
	if got := p.js("[...document.querySelectorAll('.history li span:first-child')].every(s => /duck/i.test(s.textContent))"); got != "true" {
		t.Errorf("found: %s", p.text(".history"))
	}
	for form, want := range map[string]string{"csv": "take,", "json": `"name": "ducked"`, "html": "<h2>Takes</h2>"} {
		res, err := http.Get(at + "/log/export/" + form)
		if err != nil {
			t.Fatal(err)
		}
		body, err := io.ReadAll(res.Body)
		res.Body.Close()
		if err != nil || res.StatusCode != http.StatusOK || !strings.Contains(string(body), want) || !strings.Contains(string(body), "the kick speaks") {
			t.Errorf("%s: %d, %.200s, %v", form, res.StatusCode, body, err)
		}
	}
	p.clean()
}
