package web

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"mellowthump/internal/outside"
)

// What no page sends is refused in a sentence, and nothing is changed: rows of nothing, choices too long, an apply of nothing,
// a finding of no stage, takes that are not there.
func TestLogRefuses(t *testing.T) {
	b, id := ready(t)
	at := "/songs/" + id
	rev := b.load(id).Rev
	long := strings.Repeat("x", 500)
	for _, c := range []struct {
		method, path string
		form         url.Values
		status       int
		says         string
	}{
		{"GET", fmt.Sprintf("%s/log/rows?from=x&of=%d", at, rev), nil, 400, "none of this sheet"},
		{"GET", fmt.Sprintf("%s/log/rows?from=0&of=%d&on=%s", at, rev, long), nil, 400, "none of this sheet"},
		{"GET", fmt.Sprintf("%s/log/rows?from=0&of=%d", at, rev+7), nil, 200, "changed meanwhile"},
		{"POST", at + "/log/apply", url.Values{}, 422, "Nothing is ticked"},
		{"POST", at + "/log/leave", url.Values{"finding": {"nowhere/x/y"}}, 422, "none of this sheet"},
		{"POST", at + "/log/leave", url.Values{}, 422, "none of this sheet"},
		{"POST", at + "/log/reopen", url.Values{"stage": {"room"}, "finding": {"none"}}, 422, "not put aside"},
		{"POST", at + "/log/apply/77/cancel", url.Values{}, 404, "no such song"},
		{"POST", at + "/takes/77", url.Values{"name": {"a name"}}, 404, "no such song"},
		{"POST", at + "/takes/77", url.Values{"name": {"  "}}, 422, "needs a name"},
		{"GET", at + "/log?view=takes&take=77", nil, 200, "no longer there"},
		{"GET", at + "/log?view=takes&take=1&take=2&take=3&take=4&take=5", nil, 200, "at most 4"},
		{"GET", at + "/log/export/pdf", nil, 404, "html, csv or json"},
		{"GET", at + "/log/habits", nil, 200, "3 other songs with a take"},
		{"GET", at + "/deck/data?try=" + url.QueryEscape("log/takes:now:1"), nil, 422, "no longer there"},
	} {
		if c.form != nil {
			c.form.Set("rev", fmt.Sprint(rev))
		}
		status, body := b.do(c.method, c.path, c.form)
		if status != c.status || !strings.Contains(body, c.says) {
			t.Errorf("%s %.60s: %d, wanted %d %q: %.300s", c.method, c.path, status, c.status, c.says, body)
		}
	}
	if now := b.load(id).Rev; now != rev {
		t.Errorf("something was changed: revision %d, was %d", now, rev)
	}
}

// The rows come in parts, each once, and end; the deck hears a row against the song without it.
func TestRunSheetRows(t *testing.T) {
	outside.Slow(t)
	b, id := ready(t)
	rev := b.load(id).Rev
	seen, from := map[string]bool{}, 0
	for parts := 0; ; parts++ {
		body := b.get(fmt.Sprintf("/songs/%s/log/rows?from=%d&of=%d", id, from, rev))
		for _, row := range strings.Split(body, `data-key="`)[1:] {
			key, _, _ := strings.Cut(row, `"`)
			if seen[key] {
				t.Errorf("%s comes twice", key)
			}
			seen[key] = true
		}
		if !strings.Contains(body, `id="run-more"`) {
			if !strings.Contains(body, `id="run-ticked"`) {
				t.Errorf("the end: %.500s", body)
			}
			break
		}
		_, rest, _ := strings.Cut(body, "log/rows?from=")
		fmt.Sscanf(rest, "%d", &from)
		if parts > 200 {
			t.Fatal("it does not end")
		}
	}
	if !seen["duck/fit"] {
		t.Fatalf("rows: %v", seen)
	}
	if status, body := b.do("GET", "/songs/"+id+"/deck/data?try="+url.QueryEscape("log/duck/fit"), nil); status != 200 ||
		!strings.Contains(body, "After tries: Fit") {
		t.Errorf("hearing the fit: %d %.300s", status, body)
	}
	if status, body := b.do("GET", "/songs/"+id+"/deck/data?try="+url.QueryEscape("log/duck/none"), nil); status != 422 ||
		!strings.Contains(body, "no longer on the sheet") {
		t.Errorf("hearing what is not there: %d %.300s", status, body)
	}
}
