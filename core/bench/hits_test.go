package bench

import (
	"math"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/facts"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

var kickSHA = strings.Repeat("ab", 32)

// played is a bench over a kick with two loud hits, a softer and its twin, a ghost and one without a click.
func played() *Bench {
	s := session.New("x", 120)
	s.Rate = 44100
	s.Stems = []session.Stem{{ID: "k", Name: "Kick", Role: session.Kick, Audio: kickSHA}}
	s.Settle()
	hits := []meter.Onset{
		{At: 0.5, Click: 30, Like: 1}, {At: 1, Under: 7, Click: 28, Like: 1}, {At: 1.5, Click: 31, Like: 1},
		{At: 2, Under: 8, Click: 27, Like: 0.95}, {At: 2.5, Under: 20, Click: 20, Like: 0.9}, {At: 2.56, Click: 2, Like: 1, Mute: true},
	}
	return &Bench{Song: &s, Facts: map[string]*facts.Analysis{kickSHA: {Hits: hits}}}
}

func kinds(b *Bench) string {
	out := ""
	for _, m := range b.HitMarks() {
		out += string(m.Kind[0])
	}
	return out
}

// Marks are the hits as they are found, listened for, and changed by hand; each edit says what it did.
func TestHitMarks(t *testing.T) {
	b := played()
	do := func(e session.Edit, said, marks string) {
		t.Helper()
		got, err := e.Apply(b.Song)
		if err != nil || got != said {
			t.Errorf("%q, %v; not %q", got, err, said)
		}
		if k := kinds(b); k != marks {
			t.Errorf("after %q the marks are %s, not %s", said, k, marks)
		}
	}
	f := func(v float64) *float64 { return &v }
	if k := kinds(b); k != "ffffdd" {
		t.Fatalf("found: %s", k)
	}
	do(session.EditHits{Out: []float64{1.5}}, "Leave out the hit at 1.4.00", "ffofdd")
	do(session.EditHits{In: []float64{1.5}}, "Put a hit in at 1.4.00", "ffffdd")
	do(session.EditHits{In: []float64{0.51}, Out: []float64{0.5}}, "Move the hit at 1.2.00 to 1.2.02", "afffdd")
	do(session.EditHits{In: []float64{0.6}, Out: []float64{0.51}}, "Move the hit at 1.2.02 to 1.2.20", "oafffdd")
	do(session.EditHits{In: []float64{2.5}}, "Put a hit in at 2.2.00", "oafffad")
	do(session.EditHits{Out: []float64{1, 2}}, "Leave out 2 hits", "oaofoad")
	do(session.FoundHits{}, "The kick's hits as they were found", "ffffdd")
	do(session.Listening{Quiet: f(25)}, "Hits: down to 25 dB under the others", "fffffd")
	do(session.Listening{Sense: f(0.6)}, "Hits: doubtful ones from 40 % sure on", "ffffff")
	do(session.Listening{Gap: f(100)}, "Hits: 100 ms apart at least", "fffffd")
	do(session.Listening{Sense: f(0), Quiet: f(6)}, "Hits: down to 6 dB under the others, no doubtful ones", "fdfddd")
	do(session.Listening{}, "", "fdfddd")
	for what, e := range map[string]session.Edit{"quiet": session.Listening{Quiet: f(99)}, "sense": session.Listening{Sense: f(1.5)},
		"gap": session.Listening{Gap: f(-1)}, "out": session.EditHits{Out: []float64{-1}}, "nan": session.EditHits{In: []float64{math.NaN()}}} {
		if _, _, err := session.Made(b.Song, e); err == nil {
			t.Errorf("%s is taken", what)
		}
	}
}

// A hit's likes are those of its level, click and shape; what is quieter is so by its low band. The doubtful are apart.
func TestHitsOfAKind(t *testing.T) {
	marks := played().HitMarks()
	soft := MarkAt(marks, 1.01)
	if soft == nil || soft.At != 1 || MarkAt(marks, 1.2) != nil {
		t.Fatalf("%+v", soft)
	}
	for what, got := range map[string][]float64{"alike": soft.Alike(marks), "quieter": soft.Quieter(marks)} {
		if !slices.Equal(got, []float64{1, 2}) {
			t.Errorf("%s: %v", what, got)
		}
	}
	if got := marks[0].Alike(marks); !slices.Equal(got, []float64{0.5, 1.5}) {
		t.Errorf("the loud ones: %v", got)
	}
	if got := marks[4].Alike(marks); !slices.Equal(got, []float64{2.5}) {
		t.Errorf("the ghost: %v", got)
	}
	if got := (HitMark{At: 1, Kind: AddedHit}).Quieter(marks); got != nil {
		t.Errorf("of one by hand nothing is known, not %v", got)
	}
}

// A place that a hand points at is the start of the sound there; where nothing rises it stays.
func TestSnap(t *testing.T) {
	env := make([]float32, 2000)
	for i := 700; i < 900; i++ {
		env[i] = float32(math.Min(1, float64(i-700)/8) * math.Exp(-float64(i-700)/60))
	}
	for _, at := range []float64{10.680, 10.700, 10.725} {
		if got := Snap(env, 0.001, 10, at, 0.04); math.Abs(got-10.701) > 0.0015 {
			t.Errorf("from %g it is %g", at, got)
		}
	}
	for _, at := range []float64{10.2, 11.5, 9, 12.5} {
		if got := Snap(env, 0.001, 10, at, 0.04); got != at {
			t.Errorf("nothing rises at %g; it became %g", at, got)
		}
	}
}
