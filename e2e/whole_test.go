package e2e

import (
	"testing"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/proto"
)

// What a part of the page waits for is ended when that part is gone, and asked for again by the part that took its place.
func TestWorkEndsWithItsPart(t *testing.T) {
	t.Parallel()
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

// An edit that takes longer than a moment says so, and can be cancelled: the song is as it was, and the page works on.
func TestLongEditsCanBeCancelled(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	rev := p.rev()
	release := make(chan struct{})
	router := p.HijackRequests()
	if err := router.Add("*/songs/"+a.song(p)+"/duck/fit", "", func(h *rod.Hijack) { // a fit that does not end
		<-release
		h.ContinueRequest(&proto.FetchContinueRequest{})
	}); err != nil {
		t.Fatal(err)
	}
	go router.Run()
	p.click("#fit")
	p.until("it says that it works", "!document.querySelector('#busy').hidden && document.querySelector('#busy-says').textContent.startsWith('working')")
	p.click("#busy-cancel")
	p.until("the page as it is", "document.querySelector('#busy').hidden && document.querySelector('#fit') && !document.querySelector('.htmx-request')")
	if p.rev() != rev {
		t.Error("the song changed")
	}
	close(release)
	if err := router.Stop(); err != nil {
		t.Fatal(err)
	}
	p.edited("a fit after it", func() { p.click("#fit") })
	p.clean()
}
