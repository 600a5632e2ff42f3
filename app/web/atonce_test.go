package web

import (
	"context"
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"testing"
)

// While one song is being fitted, two others are edited: no edit waits for the fit.
func TestEditsBesideAFit(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/targets", url.Values{"clearance": {"30"}, "depth": {"4"}}) // out of reach: every way is tried
	others := []string{b.song(), b.song()}
	fitted := make(chan bool)
	go func() {
		b.edit(id, "/duck/fit", url.Values{"school": {"curve"}})
		close(fitted)
	}()
	edits := 0
	for {
		select {
		case <-fitted:
			if edits < 3 { // one that waited for the fit would be the only one
				t.Errorf("during the fits %d edits were made", edits)
			}
			return
		default:
		}
		other := others[edits%2]
		edits++
		if status, body := b.edit(other, "/settings", url.Values{"name": {fmt.Sprint("Song ", edits)}, "bpm": {"120"}, "key": {""}, "felt": {""}}); status != 200 {
			t.Fatalf("an edit answers %d %.200s", status, body)
		}
	}
}

// A tab that saw another revision neither undoes, redoes nor saves a take, as it edits nothing; what it is told is a
// sentence.
func TestStaleTabs(t *testing.T) {
	b, id := ready(t)
	old := fmt.Sprint(b.load(id).Rev)
	b.edit(id, "/settings", url.Values{"name": {"Newer"}, "bpm": {"120"}, "key": {""}, "felt": {""}})
	rev := b.load(id).Rev
	for path, form := range map[string]url.Values{
		"/undo": {}, "/redo": {}, "/takes": {"name": {"stale"}}, "/duck/fit": {}, "/moves/add": {"at": {"master"}, "kind": {"filter"}},
		"/findings/dismiss": {"stage": {"pocket"}, "finding": {"under"}}, "/levels/plan": {},
	} {
		for _, seen := range []string{old, ""} {
			form.Set("rev", seen)
			status, body := b.do("POST", "/songs/"+id+path, form, "HX-Request", "true", "HX-Current-URL", b.url+"/songs/"+id+"/duck")
			if status != 409 || !strings.Contains(body, "in another tab") || b.load(id).Rev != rev {
				t.Errorf("%s having seen %q: %d %.200s", path, seen, status, body)
			}
		}
	}
	if takes, err := b.server.Store.Takes(context.Background(), id); err != nil || len(takes) != 0 {
		t.Errorf("%d takes are saved, %v", len(takes), err)
	}
}

// What is refused late is told in a sentence, and no half a file goes out.
func TestLateRefusals(t *testing.T) {
	b, id := ready(t)
	for path, want := range map[string]string{
		"/levels/plan.csv?under=999":                "There is no plan to write down",
		"/levels/plan.csv?anchor=reference":         "There is no plan to write down",
		"/duck/settings.txt":                        "There is no duck to take away yet",
		"/duck/gain.wav":                            "There is no duck to take away yet",
		"/deck/data?try=duck%2Fgate":                "There is no such school",
		"/levels/noise.wav?db=6":                    "The noise is played at a level",
		"/deck/after.wav?rev=99999&from=0&to=44100": "There is no such song",
		"/deck/middle.wav?rev=1&from=0&to=44100":    "The deck has two sides",
	} {
		status, body := b.do("GET", "/songs/"+id+path, nil)
		if status < 400 || status >= 500 || !strings.Contains(body, want) {
			t.Errorf("%s: %d %.300s", path, status, body)
		}
	}
}

// What is worked out says what it does and how far it is, at whatever address it was asked; when it is over nothing is said.
func TestWorkIsTold(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/targets", url.Values{"clearance": {"30"}, "depth": {"6"}}) // out of reach: every way is tried
	kick := b.load(id).Stems[0].ID
	if status, body := b.do("GET", "/songs/"+id+"/working/stems/"+kick+"/role", nil); status != 204 || body != "" {
		t.Errorf("where nobody works: %d %q", status, body)
	}
	fitted := make(chan bool)
	go func() {
		for _, school := range []string{"curve", "compressor"} {
			b.edit(id, "/duck/fit", url.Values{"school": {school}})
		}
		close(fitted)
	}()
	told := map[string]bool{}
	percent := regexp.MustCompile(`^(.+), \d+ % …$`)
	for done := false; !done; {
		select {
		case <-fitted:
			done = true
		default:
		}
		if _, body := b.do("GET", "/songs/"+id+"/working/duck/fit", nil); percent.MatchString(body) {
			told[percent.FindStringSubmatch(body)[1]] = true
		}
	}
	for _, what := range []string{"Fitting the drawn curve", "Fitting the keyed compressor"} {
		if !told[what] {
			t.Errorf("%q is never told with its per cent: %v", what, told)
		}
	}
	if status, _ := b.do("GET", "/songs/"+id+"/working/duck/fit", nil); status != 204 {
		t.Errorf("when it is over: %d", status)
	}
}
