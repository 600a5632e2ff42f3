package e2e

import (
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"
)

// A take with name and note; the program is stopped and started, the browser closed: all is
// there, and the take can be gone back to.
func TestTakesAndRestart(t *testing.T) {
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
