package demo

import (
	"context"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/facts"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// described is a demo stem measured and described, as an import does it.
func described(t *testing.T, s Stem) *facts.Analysis {
	t.Helper()
	m := audio.Memory{Buffer: s.Sound}
	a, err := facts.Analyse(context.Background(), m, s.Name, nil)
	if err == nil {
		err = facts.Describe(context.Background(), m, a)
	}
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// A file whose name tells nothing is known by its sound; a name that lies is doubted. The
// truth is what the demo's stems were made as.
func TestRolesBySound(t *testing.T) {
	outside.Slow(t)
	all := map[string]*facts.Analysis{}
	for _, s := range ferry().Stems {
		a := described(t, s)
		all[s.ID] = a
		g := a.Guess("audio 3")
		if g.Role != s.Role && s.ID != "riser" { // a riser's noise could as well be hats
			t.Errorf("%s is guessed %s (%s), made as %s", s.Name, g.Role, g.Reason, s.Role)
		}
		if sure := s.Role == session.Kick || s.Role == session.Bass; sure && g.Confidence < 0.75 {
			t.Errorf("%s is guessed with confidence %.2f", s.Name, g.Confidence)
		}
		if named := a.Guess(string(s.Role)); named.Role != s.Role && facts.GuessRole(string(s.Role)) != session.Other {
			t.Errorf("named %s, %s is guessed %s", s.Role, s.Name, named.Role)
		}
	}
	if g := all["808"].Guess("kick 2"); g.Role != session.Kick || g.Doubt == "" {
		t.Errorf("an 808 named kick is not doubted: %+v", g)
	}
	if root, share := facts.LineRoot(all["808"].Portrait.Line); root != "F" || share < 0.4 {
		t.Errorf("the line stands on %s for %.2f of the time, made on F", root, share)
	}
	if n := len(all["808"].Portrait.Line); n < 70 || n > 74 {
		t.Errorf("%d notes in the line, made of 72", n)
	}
	// the line's notes as they were made: 17 cents sharp, within 5 cents (3-sound)
	for _, n := range all["808"].Portrait.Line {
		if n.End-n.Start > 0.3 && (n.Cents < ferrySharp-6 || n.Cents > ferrySharp+6) {
			t.Errorf("the note at %.2f s reads %s %+.1f cents", n.Start, n.Note, n.Cents)
		}
	}
	copied := stem("808")
	copied.Sound = audio.Buffer{Rate: ferryRate, Ch: [][]float32{append([]float32(nil), copied.Sound.Ch[0]...)}}
	for i := range copied.Sound.Ch[0] {
		copied.Sound.Ch[0][i] *= -0.7
	}
	if l := facts.Likeness(described(t, copied), all["808"]); l > -0.99 {
		t.Errorf("an 808 upside down is %.3f alike", l)
	}
	if l := facts.Likeness(all["hats"], all["808"]); l > 0.3 || l < -0.3 {
		t.Errorf("hats and 808 are %.3f alike", l)
	}
}
