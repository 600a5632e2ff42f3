package web

import (
	"net/url"
	"strings"
	"testing"
)

// A finding of any stage is put aside with a reason, logged, counted no more, and taken back.
func TestFindingsAreLeftBe(t *testing.T) {
	b, id := ready(t)
	b.level(id, "/gain", url.Values{"of": {bassID(b, id)}, "step": {"clip"}, "db": {"13"}})
	for stage, finding := range map[string]string{"pocket": "under", "duck": "worst-tenth", "levels": "big-trim." + bassID(b, id) + ".clip"} {
		page := b.get("/songs/" + id + "/" + stage)
		if stage != "duck" && !strings.Contains(page, `id="finding-`+finding+`"`) {
			t.Fatalf("%s: %s is not found", stage, finding)
		}
		marks := func() string { return b.get("/songs/" + id + "/marks") }
		counted := marks()
		form := url.Values{"stage": {stage}, "finding": {finding}, "why": {"<i>it is meant so</i>"}}
		if status, body := b.edit(id, "/findings/dismiss", form); status != 200 {
			t.Fatalf("%s: %d %.300s", stage, status, body)
		}
		page = b.get("/songs/" + id + "/" + stage)
		if strings.Contains(page, `id="finding-`+finding+`"`) || !strings.Contains(page, "&lt;i&gt;it is meant so") || strings.Contains(page, "<i>it is meant") {
			t.Errorf("%s: put aside it is still told, or its reason is not, or is no text", stage)
		}
		if !strings.Contains(b.load(id).Undo, "Leave be: ") || !strings.Contains(b.get("/songs/"+id+"/log?view=changes"), "Leave be: ") {
			t.Errorf("%s: it is not logged", stage)
		}
		if marks() == counted {
			t.Errorf("%s: the count stays", stage)
		}
		if status, _ := b.edit(id, "/findings/reopen", form); status != 200 || b.load(id).Dismissed != nil {
			t.Errorf("%s: it is not taken back", stage)
		}
		if marks() != counted {
			t.Errorf("%s: taken back it is not counted", stage)
		}
	}
	for path, form := range map[string]url.Values{
		"apply": {"stage": {"levels"}, "finding": {"gone"}}, "dismiss": {"stage": {"pocket"}, "finding": {"gone"}}, "reopen": {"stage": {"duck"},
			"finding": {"gone"}},
	} {
		if status, _ := b.edit(id, "/findings/"+path, form); status != 422 {
			t.Errorf("%s of what is not there: %d", path, status)
		}
	}
	if status, _ := b.edit(id, "/findings/apply", url.Values{"stage": {"log"}, "finding": {"x"}}); status != 404 {
		t.Errorf("a stage that judges nothing: %d", status)
	}
}

// A page measures what its own stage shows: a look at the log judges nothing.
func TestPagesMeasureTheirOwn(t *testing.T) {
	b, id := ready(t)
	made := func(stage string) int {
		before := b.server.Renderer.Cache.Made()
		b.get("/songs/" + id + "/" + stage)
		return b.server.Renderer.Cache.Made() - before
	}
	log := made("log")
	levels := made("levels")
	pocket := made("pocket")
	if again := made("log") + made("levels") + made("pocket"); again != 0 {
		t.Errorf("a second look makes %d results", again)
	}
	if log > 12 || levels < 3 || pocket < 5 {
		t.Errorf("the log makes %d results, then Levels %d, then Pocket %d", log, levels, pocket)
	}
}
