package e2e

import "testing"

// What a part of the page waits for is ended when that part is gone, and asked for again by the part that took its place.
func TestWorkEndsWithItsPart(t *testing.T) {
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	p.until("what it costs", "document.querySelector('#cost svg')")
	// a request that is never answered, as one that takes long
	p.js(`(() => {
		const send = XMLHttpRequest.prototype.send, abort = XMLHttpRequest.prototype.abort;
		XMLHttpRequest.prototype.send = function () {};
		XMLHttpRequest.prototype.abort = function () { document.body.dataset.ended = "yes"; return abort.call(this); };
		htmx.trigger("#cost", "load");
		htmx.ajax("GET", document.querySelector("#cost").getAttribute("hx-get"), { source: "#cost", target: "#cost" });
		XMLHttpRequest.prototype.send = send;
		return "";
	})()`)
	if p.js("document.body.dataset.ended || ''") != "" {
		t.Fatal("it was ended before its time")
	}
	p.edited("another target", func() { p.typed("#target-clearance", "9") })
	p.until("the end of what was asked for", "document.body.dataset.ended === 'yes'")
	p.until("what it costs now", "document.querySelector('#cost svg')")
	p.clean()
}
