package e2e

import (
	"testing"

	"mellowthump/app/store"
	"mellowthump/core/session"

	"github.com/go-rod/rod/lib/input"
)

// A field that has focus keeps it over a swap, with what is chosen in it and what was typed meanwhile: -1 never becomes
// -10, and no key is lost. A field that is entered is chosen whole.
func TestFieldsOverASwap(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/levels")
	const whole = "document.activeElement.selectionStart === 0 && document.activeElement.selectionEnd === document.activeElement.value.length"
	first := p.js("document.querySelector('#ledger input.gain').id")
	p.click("#" + first)
	p.until("the field chosen by a click", whole)
	insert := func(text string) {
		t.Helper()
		if err := p.InsertText(text); err != nil {
			t.Fatal(err)
		}
	}
	// answers take their time
	p.js(
		`(() => { const send = XMLHttpRequest.prototype.send; XMLHttpRequest.prototype.send = function (b) { setTimeout(() => send.call(this, b), 400) }; ` +
			`return "" })()`,
	)

	// chosen whole, and left so by the swap
	insert("-2")
	next := ""
	p.edited("the first field", func() {
		p.press(input.Tab)
		if next = p.js("document.activeElement.id"); next == first {
			t.Fatal("the focus did not move")
		}
	})
	p.until("the swap", "document.getElementById('"+first+"').defaultValue !== '0'")
	p.until("the next field, chosen whole", "document.activeElement.id === '"+next+"' && "+whole)
	p.edited("the next field", func() { insert("-1"); p.press(input.Enter) })
	if got := p.js("document.getElementById('" + next + "').value"); got != "−1" && got != "-1" {
		t.Errorf("-1 became %q", got)
	}

	// begun before the answer, ended after it
	p.click("#" + first)
	insert("-3")
	p.edited("the first field again", func() {
		p.press(input.Tab)
		insert("-")
	})
	p.until(
		"what was begun, the caret behind it",
		"document.activeElement.id === '"+next+"' && document.activeElement.value === '-' && document.activeElement.selectionStart === 1",
	)
	p.edited("the next field again", func() { insert("4"); p.press(input.Enter) })
	if got := p.js("document.getElementById('" + next + "').value"); got != "−4" && got != "-4" {
		t.Errorf("-4 in two halves became %q", got)
	}
	p.clean()
}

// What was typed while the program was away, or was refused for another tab, is not stored: the page says so, and its fields show what is.
func TestFieldsShowWhatIsStored(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	song := a.song(p)
	p.visit(a.url + "/songs/" + song + "/levels")
	field := "#" + p.js("document.querySelector('#ledger input.gain').id")
	p.edited("a gain", func() { p.typed(field, "-2") })
	p.until("the gain as it is stored", "document.querySelector('"+field+"').value.replace('−', '-') === '-2'")

	a.down()
	p.typed(field, "-7")
	p.until("a word of it", "document.querySelector('#notice').textContent.includes('does not answer')")
	a.up()
	p.until(
		"the field as it is stored",
		"document.querySelector('#notice').textContent.includes('is back') && document.querySelector('"+field+"').value.replace('−', '-') === '-2'",
	)
	p.edited("the same once more", func() { p.typed(field, "-3") })

	bpm := 97.0
	if _, err := a.store.Edit(t.Context(), song, store.AnyRevision, session.Settings{BPM: &bpm}); err != nil {
		t.Fatal(err)
	}
	p.typed(field, "-9")
	p.until(
		"a refusal, and the field as it is stored",
		"document.querySelector('#notice').textContent.includes('another tab') && document.querySelector('"+field+"').value.replace('−', '-') === '-3'",
	)
	p.clean("ERR_CONNECTION", "Failed to load", "htmx:sendError", "htmx:afterRequest", "The error", "409")
}
