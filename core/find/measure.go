package find

import (
	"math"

	"mellowthump/core/meter"
)

// Bracket is what a figure is asked to lie in; an open end is infinite. Where the low end is +Inf the more is the better, where the
// high end is -Inf the less.
type Bracket struct{ Lo, Hi float64 }

// Off is how far a figure lies outside, over 0 whichever end it is; 0 within, and for a figure that there is none of.
func (b Bracket) Off(f meter.Figure) float64 {
	if !f.Valid() {
		return 0
	}
	return math.Max(0, math.Max(b.Lo-float64(f), float64(f)-b.Hi))
}

// AtLeast is open upwards.
func AtLeast(lo float64) Bracket { return Bracket{lo, math.Inf(1)} }

// AtMost is open downwards.
func AtMost(hi float64) Bracket { return Bracket{math.Inf(-1), hi} }

// Measure is a figure that a finding is for: by it a fix is judged, before and after.
type Measure struct {
	Figure string  // its key, see core/figure; how it is taken, its stage says
	Of     string  // whose it is, a stem, a part, a place; empty: the song's
	By     string  // the other one, where it is of two
	Hz     float64 // where it stands, for what stands at a frequency
	Name   string  // in a row; empty: the usual one
	In     Bracket
}

// Bare is the measure without what it is called and what is asked of it: two are of the same figure where they are equal so.
func (m Measure) Bare() Measure {
	m.Name, m.In = "", Bracket{}
	return m
}

// Group says with which others a finding is dealt with, by one change for all of them; empty: by a change of its own.
type Group string

// The groups.
const (
	Tuning Group = "tune"   // pitches: one detune
	Turned Group = "turned" // what is upside down in its file: before the levels are set of what is left of it
	Plan   Group = "plan"   // levels: the plan of all trims
	Cuts   Group = "cut"    // what goes unheard: all cuts
	Fit    Group = "fit"    // a clearance that is asked and not there: one duck
	Even   Group = "even"   // notes that step in level
	Copies Group = "copies" // the same sound again: all of them muted
)
