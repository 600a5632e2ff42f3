package e2e

import (
	"context"
	"testing"

	"mellowthump/app/demodata"
	"mellowthump/app/store"
)

func TestZZ(t *testing.T) {
	dir := t.TempDir()
	st, err := store.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := demodata.Load(context.Background(), st); err != nil {
		t.Fatal(err)
	}
	st.Close()
	a := start(t, dir)
	p := a.open("/")
	p.click(".songs a.songname")
	p.untilWithin(longPatience, "the run sheet", "document.querySelector('#run-ticked')")
	song := a.url + "/songs/" + a.song(p) + "/"
	p.shot("/tmp/shots/sheet.png")
	for _, v := range []string{"pocket", "duck", "intake"} {
		p.visit(song + v)
		p.untilWithin(longPatience, "all", "!document.querySelector('.htmx-request') && !document.querySelector('.working')")
		p.shot("/tmp/shots/" + v + ".png")
	}
}
