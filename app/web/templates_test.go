package web

import (
	"fmt"
	"net/url"
	"strings"
	"testing"
)

// A template is made of a song, a new one starts from it, and it can be taken out; what is no template is said.
func TestTemplates(t *testing.T) {
	b, id := ready(t)
	if status, _ := b.do("POST", "/songs/"+id+"/template", url.Values{"rev": {fmt.Sprint(b.load(id).Rev)}, "name": {"My night set-up"}}); status != 200 {
		t.Fatal(status)
	}
	if home := b.get("/"); !strings.Contains(home, `id="new-template"`) || !strings.Contains(home, ">My night set-up<") {
		t.Error("the list offers no template")
	}
	all, err := b.server.Store.Templates(t.Context())
	if err != nil || len(all) != 1 {
		t.Fatal(len(all), err)
	}
	if status, _ := b.do("POST", "/songs", url.Values{"name": {"Next one"}, "bpm": {"97"}, "template": {"1"}}); status != 200 {
		t.Fatal(status)
	}
	songs, err := b.server.Store.Songs(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	was, next := b.load(id), songs[0].Song
	if next.Name != "Next one" || next.BPM != 97 || len(next.Stems) != 0 || len(next.Slots) != len(was.Stems) || next.Slots[0].Role != was.Stems[0].Role {
		t.Errorf("started from it: %+v", next)
	}
	if status, body := b.do("POST", "/songs", url.Values{"name": {"None"}, "template": {"77"}}); status != 422 || !strings.Contains(body, "no longer there") {
		t.Errorf("from none: %d %.200s", status, body)
	}
	if status, _ := b.do("POST", "/templates/remove", url.Values{"template": {"1"}}); status != 200 || strings.Contains(b.get("/"), "My night set-up") {
		t.Errorf("taken out: %d", status)
	}
}
