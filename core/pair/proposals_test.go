package pair

import (
	"strings"
	"testing"

	"mellowthump/core/facts"
	"mellowthump/core/session"
)

// hitsOf are facts of a stem whose hits stand on a straight grid: quarters from at on, those of the rhythm left out.
func hitsOf(bpm, at float64, n int, leave ...int) *facts.Analysis {
	a := &facts.Analysis{}
	for i := range n {
		out := false
		for _, l := range leave {
			out = out || i%8 == l
		}
		if !out {
			a.Onsets = append(a.Onsets, at+float64(i)*30/bpm)
		}
	}
	return a
}

// A song of which nobody said the tempo takes that of its hits with the stems, in one step; one that was said stays.
func TestTempoIsTaken(t *testing.T) {
	known := map[string]*facts.Analysis{
		strings.Repeat("a", 64): hitsOf(93, 0.5, 64, 1, 2, 5, 6),
		strings.Repeat("b", 64): hitsOf(93, 0.5, 64, 0, 1, 3, 4, 5, 7),
		strings.Repeat("c", 64): hitsOf(141, 0, 64, 1, 2, 4, 5, 7),
	}
	add := func(s *session.Song, sha, role string) string {
		t.Helper()
		e := WithTempo{
			session.AddStem{File: role + ".wav", Audio: strings.Repeat(sha, 64), Rate: 48000, Role: session.Role(role)},
			func(sha string) *facts.Analysis { return known[sha] },
		}
		said, err := e.Apply(s)
		if err != nil {
			t.Fatal(err)
		}
		return said
	}
	s := session.New("Open", 120)
	s.FromHits = &session.FromHits{}
	said := add(&s, "a", "kick")
	if s.BPM != 93 || s.Grid < 0.49 || s.Grid > 0.51 || !s.FromHits.Taken() || said != "Add kick; tempo 93 bpm, from the hits" {
		t.Errorf("%q: %g bpm from %g s, %+v", said, s.BPM, s.Grid, s.FromHits)
	}
	if said := add(&s, "b", "snare"); said != "Add snare" || s.FromHits.BPM != 120 {
		t.Errorf("the same tempo is told again: %q, before it %g", said, s.FromHits.BPM)
	}
	bpm := 46.5
	if _, err := (session.Settings{BPM: &bpm}).Apply(&s); err != nil || s.FromHits != nil {
		t.Fatalf("a tempo that was said is open: %v", err)
	}
	if add(&s, "c", "snare"); s.BPM != bpm {
		t.Errorf("a tempo that was said became %g", s.BPM)
	}

	s = session.New("Said", 100)
	if add(&s, "a", "kick"); s.BPM != 100 {
		t.Errorf("a tempo that was said became %g", s.BPM)
	}

	s = session.New("Unsure", 120) // two tempi at once
	s.FromHits = &session.FromHits{}
	add(&s, "a", "kick")
	if add(&s, "c", "snare"); s.BPM != 120 || s.Grid != 0 || s.FromHits.Taken() {
		t.Errorf("what the hits are no longer sure of stays: %g bpm, %+v", s.BPM, s.FromHits)
	}
}
