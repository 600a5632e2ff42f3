package e2e

import (
	"path/filepath"
	"testing"
)

func TestZZ(t *testing.T) {
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Trial", "")
	files, _ := filepath.Glob("/tmp/tr/117/stems/*")
	p.choose(files...)
	p.until("in", "document.querySelectorAll('.stems tbody tr[data-name]').length >= 8 && !document.querySelector('#imports progress')")
	song := a.song(p)
	p.visit(a.url + "/songs/" + song + "/log")
	p.click("#part-sections")
	p.until("what is proposed", "document.querySelector('#sections-take')")
	p.edited("taken", func() { p.click("#sections-take") })
	p.until("figures", "document.querySelector('#section-figures')")
	p.shot("/tmp/shots/sections.png")
}
