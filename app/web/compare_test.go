package web

import (
	"net/url"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// Compare: a finished track that has less low end is told with who carries the band; matched in part by filters on the master,
// heard before, taken out, on a sheet, undone; without one, with a silent one and with bad input a sentence.
func TestCompare(t *testing.T) {
	outside.Slow(t)
	b, id := ready(t)
	if page := b.get("/songs/" + id + "/compare/with"); !strings.Contains(page, `id="no-reference"`) {
		t.Errorf("%.300s", page)
	}
	kick, bass := beat()
	ref := audio.New(rate, 1, kick.Frames())
	for i := range ref.Ch[0] {
		ref.Ch[0][i] = kick.Ch[0][i] + bass.Ch[0][i]
	}
	s, err := dsp.RBJ(dsp.LowShelf, 80, 0.7, -9, rate)
	if err != nil {
		t.Fatal(err)
	}
	dsp.NewFilter([]dsp.Biquad{s}).Process(ref.Ch[0], ref.Ch[0])
	body, kind := multipartOf(file{"Finished.wav", asWAV(ref)}, file{"Quiet.wav", asWAV(audio.New(rate, 1, 3*rate))})
	b.postTo(id, "/references", body, kind)
	refs := b.load(id).References
	if len(refs) != 2 {
		t.Fatalf("%+v", refs)
	}
	loud, quiet := refs[0], refs[1]
	if loud.Name != "Finished" {
		loud, quiet = quiet, loud
	}
	page := b.get("/songs/" + id + "/compare/with?ref=" + loud.ID)
	for _, want := range []string{`id="song-over"`, `id="compare-says"`, "carries that band", `id="match-in"`, "Finished"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	if page := b.get("/songs/" + id + "/compare/with?ref=" + quiet.ID); !strings.Contains(page, "it is silent") {
		t.Errorf("%.500s", page)
	}
	if deck := b.get("/songs/" + id + "/deck/data?solo=all&try=" + url.QueryEscape("compare/match:50:6:"+loud.ID)); !strings.Contains(
		deck,
		"After tries: Match the mix",
	) {
		t.Errorf("%.300s", deck)
	}
	matched := func() int {
		n := 0
		for _, m := range b.load(id).Master.Moves {
			if session.OfCompare(m) {
				n++
			}
		}
		return n
	}
	if status, body := b.edit(id, "/compare/match", url.Values{"ref": {loud.ID}, "amount": {"100"}, "limit": {"6"}}); status != 200 || matched() == 0 ||
		matched() > 5 {
		t.Fatalf("%d %d %.300s", status, matched(), body)
	}
	if page := b.get("/songs/" + id + "/compare/with?ref=" + loud.ID); !strings.Contains(page, `id="match-out"`) || !strings.Contains(page, " before</span>") {
		t.Error("what the match brings is not told")
	}
	if sheet := b.get("/songs/" + id + "/compare/settings.txt"); !strings.Contains(sheet, "100 % nearer to Finished") {
		t.Errorf("%s", sheet)
	}
	if status, _ := b.edit(id, "/compare/match", url.Values{"out": {"1"}}); status != 200 || matched() != 0 {
		t.Error("it stays in")
	}
	b.edit(id, "/undo", url.Values{})
	if matched() == 0 {
		t.Error("undo does not bring it back")
	}
	for _, form := range []url.Values{{"ref": {"none"}}, {"ref": {loud.ID}, "amount": {"200"}}, {"ref": {loud.ID}, "limit": {"far"}}, {"ref": {quiet.ID}}} {
		if status, body := b.edit(id, "/compare/match", form); status != 422 || !strings.Contains(body, `id="match-wrong"`) {
			t.Errorf("%v: %d", form, status)
		}
	}
	if status, _ := b.do("GET", "/songs/"+id+"/compare/with?amount=lots", nil); status != 422 {
		t.Errorf("bad input: %d", status)
	}
	if status, _ := b.do("GET", "/songs/"+b.song()+"/compare", nil); status != 200 {
		t.Error("an empty song has no page")
	}
}
