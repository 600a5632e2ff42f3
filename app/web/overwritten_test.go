package web

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"testing"
)

// Two tabs: what the second sends over what it never saw is not done, and says so: a take's words, a song's name, a template, a print.
func TestNobodyIsOverwritten(t *testing.T) {
	b, id := ready(t)
	if status, body := b.edit(id, "/takes", url.Values{"name": {"first"}, "note": {"as it came"}}); status >= 400 {
		t.Fatalf("%d %.300s", status, body)
	}
	page := b.get("/songs/" + id + "/log?view=takes")
	at := regexp.MustCompile(`hx-post="/songs/` + id + `/takes/(\d+)" .*?name="seen" value="(\w+)"`).FindStringSubmatch(page)
	if at == nil {
		t.Fatalf("no form for a take's words: %s", page)
	}
	take := "/songs/" + id + "/takes/" + at[1]
	set := func(seen, note string) (int, string) {
		return b.do(
			"POST",
			take,
			url.Values{"seen": {seen}, "name": {"first"}, "note": {note}},
			"HX-Request",
			"true",
			"HX-Current-URL",
			b.url+"/songs/"+id+"/log?view=takes",
		)
	}
	if status, body := set(at[2], "softer kick"); status != 200 || !strings.Contains(body, "softer kick") {
		t.Errorf("one tab: %d %.300s", status, body)
	}
	for _, seen := range []string{at[2], ""} {
		if status, body := set(seen, "as it was"); status != 409 || !strings.Contains(body, "in another tab meanwhile") {
			t.Errorf("the other tab: %d %.300s", status, body)
		}
	}
	if takes, err := b.server.Store.Takes(t.Context(), id); err != nil || takes[0].Note != "softer kick" {
		t.Errorf("%+v, %v", takes, err)
	}

	was := b.load(id)
	if status, body := b.do("POST", "/songs/"+id+"/rename", url.Values{"was": {was.Name}, "name": {"Ebb"}}); status >= 400 {
		t.Errorf("%d %.300s", status, body)
	}
	if status, body := b.do("POST", "/songs/"+id+"/rename", url.Values{"was": {was.Name}, "name": {"Flood"}}); status != 409 ||
		!strings.Contains(body, "the name “Ebb”") ||
		b.load(id).Name != "Ebb" {
		t.Errorf("a name over a name: %d %.300s", status, body)
	}
	stale := url.Values{"rev": {fmt.Sprint(was.Rev)}, "name": {"Mine"}, "what": {"mix"}, "form": {"wav32"}}
	for _, path := range []string{"/template", "/print/goes"} {
		if status, body := b.do("POST", "/songs/"+id+path, stale, "HX-Request", "true", "HX-Current-URL", b.url+"/songs/"+id+"/print"); status != 409 ||
			!strings.Contains(body, "another tab") {
			t.Errorf("%s of what was not seen: %d %.300s", path, status, body)
		}
	}
	if jobs, err := b.server.Store.Jobs(t.Context(), id); err != nil || len(jobs) != 0 {
		t.Errorf("%+v, %v", jobs, err)
	}
}
