package e2e

import (
	"os"
	"testing"
)

func TestLook(t *testing.T) {
	dir := os.Getenv("LOOK")
	if dir == "" {
		t.Skip()
	}
	a := &app{t: t, url: "http://127.0.0.1:8808"}
	p := a.open("/")
	if th := os.Getenv("THEME"); th != "" {
		p.js("document.cookie = 'theme=" + th + "; path=/'")
	}
	p.shot(dir + "/home.png")
	p.click(".songs a")
	p.until("intake", "document.querySelector('.stems')")
	p.shot(dir + "/intake.png")
	id := p.js("document.body.dataset.song")
	p.visit(a.url + "/songs/" + id + "/pocket")
	p.shot(dir + "/pocket.png")
	p.visit(a.url + "/songs/" + id + "/duck")
	p.until("cost", "document.querySelector('#trade')")
	p.shot(dir + "/duck0.png")
	p.edited("fit", func() { p.click("#fit") })
	p.until("cost", "document.querySelector('#trade')")
	p.shot(dir + "/duck1.png")
	p.clean()
}
