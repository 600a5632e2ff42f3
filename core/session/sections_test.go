package session

import (
	"math"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/move"
)

// What sections may be, and what is said of those that may not.
func TestSections(t *testing.T) {
	ok := []Section{{Name: "Intro"}, {Name: "Hook", From: 16, Shallower: 0.5}, {Name: "Hook", From: 32, Shallower: 1}}
	s := New("Song", 120)
	if said, err := (SetSections{ok, "Sections"}).Apply(&s); err != nil || said != "Sections" || s.Validate() != nil {
		t.Fatal(said, err, s.Validate())
	}
	for _, c := range []struct {
		of   []Section
		says string
	}{
		{[]Section{{Name: " "}}, "needs a name"},
		{[]Section{{Name: strings.Repeat("x", 41)}}, "longer than 40"},
		{[]Section{{Name: "a", From: -1}}, "outside the song"},
		{[]Section{{Name: "a", From: math.NaN()}}, "outside the song"},
		{[]Section{{Name: "a", From: 4}, {Name: "b", From: 4.1}}, "does not begin after"},
		{[]Section{{Name: "a", Shallower: 1.1}}, "0 to 100"},
		{make([]Section, 65), "at most 64"},
	} {
		c0 := s.Clone()
		if _, err := (SetSections{c.of, "x"}).Apply(&c0); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%.80v: %v", c.of, err)
		}
	}
	for at, want := range map[float64]int{0: 0, 15.9: 0, 16: 1, 31.99: 1, 400: 2} {
		if got := s.SectionAt(at); got != want {
			t.Errorf("at %g lies %d", at, got)
		}
	}
	if s.SectionSpan(1, 40) != (Span{16, 32}) || s.SectionSpan(2, 40) != (Span{32, 40}) || s.SectionSpan(2, 20) != (Span{20, 20}) {
		t.Error(s.SectionSpan(1, 40), s.SectionSpan(2, 40), s.SectionSpan(2, 20))
	}
	if s.Asked(32) || s.Asked(31.98) || !s.Asked(31.9) || s.DuckPart(20) != 0.5 || s.DuckPart(15.98) != 0.5 || s.DuckPart(3) != 1 {
		t.Error("a hit a little before an edge is the first one behind it")
	}
	if got := s.SaysRests(); got != "rests in Hook, has 50 % of its depth in Hook" {
		t.Errorf("it is said that it %s", got)
	}
	late := Song{Sections: []Section{{Name: "a", From: 5, Shallower: 1}}}
	if late.SectionAt(4) != -1 || !late.Asked(4) {
		t.Error("before the first section all is as everywhere")
	}
}

// Shallow joins what a section takes with what the duck's own hits have, and leaves a keyed duck and the one that it was given alone.
func TestShallow(t *testing.T) {
	s := New("Song", 120)
	s.Rate = 1000
	s.Sections = []Section{{Name: "a"}, {Name: "b", From: 4, Shallower: 0.5}, {Name: "c", From: 8, Shallower: 1}}
	d := &move.Duck{School: move.CurveSchool, Points: move.StartingDuck().Points, Parts: []move.HitPart{{At: 1, Part: 0.8}, {At: 5, Part: 0.6}}}
	c := *d
	s.Shallow(&c, []int{1000, 2000, 3999, 5000, 9000, 9000})
	if want := []move.HitPart{{At: 1, Part: 0.8}, {At: 3.999, Part: 0.5}, {At: 5, Part: 0.3}, {At: 9, Part: 0}}; !slices.Equal(c.Parts, want) {
		t.Errorf("%v", c.Parts)
	}
	if len(d.Parts) != 2 || c.Validate() != nil {
		t.Error(d.Parts, c.Validate())
	}
	keyed := &move.Duck{School: move.CompressorSchool, Comp: &move.Compressor{}}
	s.Shallow(keyed, []int{9000})
	if keyed.Parts != nil {
		t.Error("a keyed duck goes by what it hears")
	}
}

// What was done to sections is told.
func TestDifferSections(t *testing.T) {
	was := New("Song", 120)
	was.Sections = []Section{{Name: "Intro"}, {Name: "Hook", From: 16}}
	now := was.Clone()
	now.Sections = []Section{{Name: "Intro"}, {Name: "Verse", From: 8}, {Name: "Hook", From: 16, Shallower: 0.5}}
	got := Differ(&was, &now)
	want := []Difference{{"the song", "section Hook", "from 9.1.00", "from 9.1.00, the ducks 50 % shallower"}, {"the song", "section Verse", "", "from 5.1.00"}}
	if !slices.Equal(got, want) {
		t.Errorf("%q", got)
	}
	if s := was.Template(); s.Sections != nil {
		t.Error("sections are of one recording")
	}
}
