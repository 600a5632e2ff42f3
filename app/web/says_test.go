package web

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"mellowthump/core/session"
)

// lead is what Duck says at its head.
func (b *bench) lead(id string) string {
	b.Helper()
	return regexp.MustCompile(`<p class="lead"[^>]*>([^<]*)`).FindStringSubmatch(b.get("/songs/" + id + "/duck"))[1]
}

// What Duck says at its head is of the song as it is: a fit's reason as long as nothing that it went by has changed, else what the
// duck does now, with the figures of the page.
func TestDuckSaysWhatItDoes(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{})
	why := b.lead(id)
	if !strings.Contains(why, "lets the kick clear the bass by 8.0 dB in 9 of 10 hits") {
		t.Fatalf("after the fit: %s", why)
	}
	p10 := func() string {
		return regexp.MustCompile(`id="d-clearance-p10">([^<]*)<`).FindStringSubmatch(b.get("/songs/" + id + "/duck"))[1]
	}
	computed := func(what string, wants ...string) {
		t.Helper()
		got := b.lead(id)
		for _, want := range append(wants, fmt.Sprintf("by %s dB in 9 of 10 hits", p10())) {
			if !strings.Contains(got, want) {
				t.Errorf("%s it says %q, without %q", what, got, want)
			}
		}
		b.edit(id, "/undo", url.Values{})
		if got := b.lead(id); got != why {
			t.Errorf("%s and back it says %q", what, got)
		}
	}
	b.edit(id, "/duck/targets", url.Values{"clearance": {"11"}, "depth": {"12"}, "ahead-asked": {"1"}, "ahead": {"1"}})
	computed("with another target", "11 asked")
	b.level(id, "/gain", url.Values{"of": {bassID(b, id)}, "step": {"clip"}, "db": {"-3"}})
	computed("with a softer bass", "8 asked")
	b.edit(id, "/duck/hit", url.Values{"at": {"0.75 s"}, "do": {"remove"}})
	computed("with a hit less")
	b.edit(id, "/duck/switch", url.Values{})
	computed("turned off", "The duck is off. In bars 1 to 4 the kick clears the bass")
	b.edit(id, "/duck/points", url.Values{"at-0": {"-5"}, "db-0": {"0"}, "at-1": {"0"}, "db-1": {"-4"}, "at-2": {"120"}, "db-2": {"0"}})
	computed("drawn by hand", "4.0 dB deep, back by 120 ms", "of bass are lost")
	b.edit(id, "/settings", url.Values{"name": {"Other"}, "bpm": {"120"}, "felt": {""}, "key": {"C"}})
	if got := b.lead(id); got != why {
		t.Errorf("another name and key change the fit to %q", got)
	}
}

// A sheet says at which level of the key a threshold holds, and what the school on it reaches.
func TestSheetSaysItsKeyLevel(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{})
	sheet := b.get("/songs/" + id + "/duck/settings.txt")
	for _, want := range []string{"A keyed compressor that comes near", "key level      peaks at −3.", "it reaches     ", "dB of clearance in the worst tenth " +
		"of the whole song's hits; 8 are asked"} {
		if !strings.Contains(sheet, want) {
			t.Errorf("without %q:\n%s", want, sheet)
		}
	}
}

// Pocket proposes nothing that its own measure shows to be useless or worse; what was tried in vain is folded away.
func TestPocketProposesWhatHelps(t *testing.T) {
	b, id := ready(t)
	places := b.get("/songs/" + id + "/pocket/places")
	open, folded, _ := strings.Cut(places, `id="places-useless"`)
	row := regexp.MustCompile(`(?s)id="place-([a-z-]+)".*?<td class="n">([^ ]*) → <b>([^<]*)</b> dB`)
	number := func(s string) (v float64) {
		fmt.Sscan(strings.ReplaceAll(s, "−", "-"), &v)
		return v
	}
	rows := 0
	for part, text := range map[bool]string{true: open, false: folded} {
		for _, m := range row.FindAllStringSubmatch(text, -1) {
			rows++
			if helps := number(m[3]) >= number(m[2])+0.05; helps != part {
				t.Errorf("%s from %s to %s dB is proposed: %v", m[1], m[2], m[3], part)
			}
		}
	}
	if rows < 2 || folded == "" {
		t.Errorf("%d rows; folded %.100q", rows, folded)
	}
}

// What the ducks freed is given to the mix by one button: its peak is then what it was without them, to a tenth.
func TestRise(t *testing.T) {
	b, id := ready(t)
	if status, _ := b.edit(id, "/duck/rise", url.Values{}); status != 422 {
		t.Errorf("without a duck: %d", status)
	}
	b.edit(id, "/duck/fit", url.Values{})
	page := b.get("/songs/" + id + "/duck")
	by := regexp.MustCompile(`raise the mix by ([0-9.]+) dB`).FindStringSubmatch(page)
	if by == nil {
		t.Fatal("nothing is freed where kick and bass fought")
	}
	if status, body := b.edit(id, "/duck/rise", url.Values{}); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	song := b.load(id)
	if got := fmt.Sprint(song.Master.Fader); got != by[1] || song.Undo != "Raise the mix by the "+got+" dB that the ducks freed" {
		t.Errorf("the master stands at %s, %s was said; undo %q", got, by[1], song.Undo)
	}
	if status, _ := b.edit(id, "/duck/rise", url.Values{}); status != 422 || strings.Contains(b.get("/songs/"+id+"/duck"), "raise the mix") {
		t.Errorf("what was freed is given twice: %d", status)
	}
	b.edit(id, "/undo", url.Values{}) // or chosen parts
	if status, body := b.edit(id, "/duck/rise", url.Values{"chosen": {"1"}}); status != 422 ||
		!strings.Contains(body, "tick the parts") && !strings.Contains(body, "Tick the parts") {
		t.Errorf("none chosen: %d", status)
	}
	song = b.load(id)
	kick := song.ByRole(session.Kick)[0]
	if status, body := b.edit(id, "/duck/rise", url.Values{"chosen": {"1"}, "part": {kick.ID}}); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	song = b.load(id)
	if got := fmt.Sprint(song.Stem(kick.ID).Fader); got != by[1] || song.Master.Fader != 0 || song.Undo != "Raise Kick by the "+got+" dB that the ducks freed" {
		t.Errorf("the kick stands at %s, %s was said; undo %q", got, by[1], song.Undo)
	}
	if status, _ := b.edit(id, "/duck/rise", url.Values{"part": {kick.ID}}); status != 422 {
		t.Errorf("what was freed is given twice to parts: %d", status)
	}
	if status, _ := b.edit(id, "/duck/rise", url.Values{"part": {"nobody"}}); status != 422 {
		t.Errorf("to nobody: %d", status)
	}
}
