package web

import (
	"fmt"
	"math"
	"net/url"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/session"
)

// wrongSection is what stands in the page's sentence about sections.
func wrongSection(body string) string {
	_, rest, _ := strings.Cut(body, `id="sections-wrong" role="alert">`)
	text, _, _ := strings.Cut(rest, "<")
	return text
}

// A song of four bars has nothing to propose; it is cut by hand, and each section named, moved, let rest and joined. What
// cannot be is said in a sentence, keeps what was typed, and changes nothing.
func TestSections(t *testing.T) {
	b, id := ready(t)
	at := "/songs/" + id + "/log?view=sections"
	if page := b.get(at); !strings.Contains(page, `id="sections-none"`) || strings.Contains(page, `id="sections-take"`) ||
		strings.Contains(page, "sections-figures") {
		t.Error("what is proposed where there is nothing to propose")
	}
	do := func(what string, f url.Values) (int, string) {
		t.Helper()
		if f == nil {
			f = url.Values{}
		}
		f.Set("rev", fmt.Sprint(b.load(id).Rev))
		return b.do("POST", "/songs/"+id+"/log/sections/"+what+"?view=sections", f)
	}
	for _, c := range []struct {
		what string
		f    url.Values
		says string
	}{
		{"propose", nil, "cut the song by hand"},
		{"cut", url.Values{"cut": {"here"}}, "is no place"},
		{"cut", url.Values{"cut": {"77"}}, "ends at bar"},
		{"drop", url.Values{"at": {"0"}}, "no longer there"},
		{"set", url.Values{"at": {"-1"}}, "no longer there"},
		{"elsewhere", nil, "no longer there"},
	} {
		if status, body := do(c.what, c.f); status != 422 || !strings.Contains(wrongSection(body), c.says) {
			t.Errorf("%s: %d %q", c.what, status, wrongSection(body))
		}
	}
	b.edit(id, "/log/sections/cut", url.Values{"cut": {"3"}, "called": {"Break"}})
	if got := b.load(id).Sections; len(got) != 2 || got[0] != (session.Section{Name: "Part 1"}) || got[1] != (session.Section{Name: "Break", From: 4}) {
		t.Fatalf("%+v", got)
	}
	b.edit(id, "/log/sections/set", url.Values{"at": {"1"}, "name": {"Bridge"}, "from": {"2.3"}, "depth": {"70"}})
	if got := b.load(id).Sections[1]; got != (session.Section{Name: "Bridge", From: 3, Shallower: 0.3}) {
		t.Fatalf("%+v", got)
	}
	if h, _ := b.server.Store.History(t.Context(), id, 1); len(h) != 1 ||
		h[0].Summary != "Section Break is Bridge; Bridge begins at bar 2.3.00; The ducks have 70 % of their depth in Bridge" {
		t.Errorf("%+v", h)
	}
	was := b.load(id).Rev
	for _, c := range []struct {
		f    url.Values
		says string
	}{
		{url.Values{"at": {"1"}, "name": {" "}, "from": {"2.3"}, "depth": {"70"}}, "needs a name"},
		{url.Values{"at": {"1"}, "name": {"Bridge"}, "from": {"1"}, "depth": {"70"}}, "does not begin after"},
		{url.Values{"at": {"1"}, "name": {"Bridge"}, "from": {"9"}, "depth": {"70"}}, "ends at bar"},
		{url.Values{"at": {"1"}, "name": {"Bridge"}, "from": {"2.3"}, "depth": {"170"}}, "from 0 to 100"},
		{url.Values{"at": {"1"}, "name": {"Bridge"}, "from": {"2.3"}, "depth": {"NaN"}}, "from 0 to 100"},
	} {
		status, body := do("set", c.f)
		if status != 422 || !strings.Contains(wrongSection(body), c.says) || !strings.Contains(body, `id="section-depth-1" value="`+c.f.Get("depth")+`"`) ||
			!strings.Contains(body, `id="section-from-1" value="`+c.f.Get("from")+`"`) {
			t.Errorf("%v: %d %q", c.f, status, wrongSection(body))
		}
	}
	if b.load(id).Rev != was {
		t.Error("what was refused changed the song")
	}
	if page := b.get("/songs/" + id + "/log/sections/figures"); strings.Count(page, "<tr><td>") != 2 || !strings.Contains(page, "Bridge") ||
		!strings.Contains(page, "class=\"clash\"") {
		t.Errorf("the figures: %.600s", page)
	}
	b.edit(id, "/log/sections/drop", url.Values{"at": {"0"}})
	if got := b.load(id).Sections; len(got) != 1 || got[0] != (session.Section{Name: "Bridge", Shallower: 0.3}) {
		t.Errorf("joined: %+v", got)
	}
	b.edit(id, "/log/sections/clear", url.Values{})
	if got := b.load(id).Sections; got != nil {
		t.Errorf("cleared: %+v", got)
	}
}

// Where the ducks rest nothing is asked: the section's figures say so, a loop of it alone says what to do, a fit goes by the
// others, and the settings sheet names it.
func TestSectionRests(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{})
	b.edit(id, "/log/sections/cut", url.Values{"cut": {"3"}, "called": {"Break"}})
	b.edit(id, "/log/sections/set", url.Values{"at": {"1"}, "name": {"Break"}, "from": {"3"}, "depth": {"0"}})
	if page := b.get("/songs/" + id + "/log/sections/figures"); !strings.Contains(page, "the ducks rest") || !strings.Contains(page, "ducks rest</text>") {
		t.Error("the figures do not say that the ducks rest")
	}
	if page := b.get("/songs/" + id + "/duck/settings.txt"); !strings.Contains(page, "From 3.1.00 to the end (Break) it rests.") {
		t.Errorf("the settings sheet: %.900s", page)
	}
	if page := b.get("/songs/" + id + "/duck"); !strings.Contains(page, "By section it rests in Break.") {
		t.Error("Duck does not say where it rests")
	}
	b.edit(id, "/loop", url.Values{"from": {"4.1"}, "to": {"7.9"}})
	if page := b.get("/songs/" + id + "/duck"); !strings.Contains(page, "The ducks rest in all of this loop") {
		t.Error("Duck does not say that nothing is asked")
	}
}

// Parts that come and go are proposed by name, and taken in one step.
func TestSectionsProposed(t *testing.T) {
	b := newBench(t)
	id := b.song()
	kick, pad := audio.New(rate, 1, 32*rate), audio.New(rate, 1, 32*rate)
	for h := range 64 {
		for i := range rate / 4 {
			s := float64(i) / rate
			kick.Ch[0][h*rate/2+i] += float32(0.7 * math.Sin(2*math.Pi*52*s) * math.Exp(-s/0.08))
		}
	}
	for i := 16 * rate; i < 32*rate; i++ {
		pad.Ch[0][i] = float32(0.2 * math.Sin(2*math.Pi*440*float64(i)/rate))
	}
	if jobs := b.send(id, file{"Kick.wav", asWAV(kick)}, file{"Pad.wav", asWAV(pad)}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	page := b.get("/songs/" + id + "/log?view=sections")
	if !strings.Contains(page, "Take these 2") || !strings.Contains(page, "without Pad") || !strings.Contains(page, "Drop") || b.load(id).Sections != nil {
		t.Errorf("%.1500s", page)
	}
	if strings.Contains(page, "sections-tempo") {
		t.Error("the tempo is right")
	}
	b.edit(id, "/settings", url.Values{"name": {"x"}, "bpm": {"87"}, "key": {""}, "felt": {""}})
	if page := b.get("/songs/" + id + "/log?view=sections"); !strings.Contains(page, "Bars are counted at 87 bpm, and the hits say 120 bpm.") {
		t.Error("a tempo that is not that of the hits is not told")
	}
	b.edit(id, "/settings", url.Values{"name": {"x"}, "bpm": {"120"}, "key": {""}, "felt": {""}})
	b.edit(id, "/log/sections/propose", url.Values{})
	if got := b.load(id).Sections; len(got) != 2 || got[0] != (session.Section{Name: "Verse"}) || got[1] != (session.Section{Name: "Drop", From: 16}) {
		t.Errorf("%+v", got)
	}
	if page := b.get("/songs/" + id + "/log/sections/figures"); !strings.Contains(page, "no kick against bass") {
		t.Errorf("without a bass: %.600s", page)
	}
}
