// Package landed tells, of an old and a new file of one stem, what was done to it in between: gain, time, polarity, corners,
// bells, and what a duck took. It tells of each move that was planned whether it landed.
package landed

import (
	"fmt"
	"math"
	"strings"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

// How near to the plan a move has landed. Own rules; of common practice none is known.
const (
	withinGain   = 0.3     // dB
	withinCorner = 1.0 / 6 // octaves
	withinBell   = 1.0     // dB
	withinHz     = 1.0 / 3 // octaves that a bell or shelf may lie off
	withinDuck   = 1.0     // dB, where it is furthest off
	withinTime   = 0.15    // ms
	partly       = 0.25    // the part of what was planned from which it came in part
	tells        = 0.5     // dB that a move changes where the stem sounds: under it, it is not to be told
	another      = 0.5     // the part of the new file's power that nothing here explains: over it, it is another sound
	otherways    = 0.005   // the part that is left of it less what was found: over it, it was changed in other ways too
)

// State says how a planned move came back.
type State string

// The states.
const (
	Yes    State = "landed"
	Partly State = "partly"
	No     State = "not yet"
	Untold State = "not to be told"
)

// Plan is what was to be done to a file.
type Plan struct {
	Gains  []float64  // dB: which of these was bounced with it is not known; the last is all of it
	Moves  move.Chain // all that was planned for it, in order
	Ducked []float32  // the old file with the duck of Moves alone; nil: there is none
	Duck   []float32  // the gain of that duck, as amplitude; nil: it works in a band

	Did func(part float64) // is told how far it is, 0 to 1; may be nil

	round func() // is called at each round
	none  bool   // nothing but gain and delay is looked for
}

// Item is one planned move with how it came back.
type Item struct {
	ID      string // of the move; empty: the gain
	Name    string // "Filter"
	Planned string
	Got     string // empty: it is not to be told
	Missing string // what is missing of it, or too much; empty: nothing
	State   State
}

// gain is the one that is nearest to what was found; before anything is found the last, which is all of it.
func (p Plan) gain(found meter.Figure) float64 {
	out := 0.0
	for i, g := range p.Gains {
		if i == 0 || !found.Valid() || math.Abs(g-float64(found)) < math.Abs(out-float64(found)) {
			out = g
		}
	}
	return out
}

// compared is the gain that a found one is compared with: the nearest, where that is one of the planned; else all of it.
func (p Plan) compared(f Found) float64 {
	near := p.gain(meter.Figure(f.Gain))
	if near == 0 || math.Abs(near-f.Gain) > withinGain {
		near = p.gain(meter.None)
	}
	return near
}

// Result is what was found out about a new file.
type Result struct {
	Gain  float64 // dB, of those that were planned the one that is compared
	Items []Item
	Found Found
	Other []string // what was done that was not planned
}

// Sound reports whether the two files hold the same sound, so that there is something to tell.
func (r *Result) Sound() bool { return r.Found.Unexplained <= another }

// Left is the part of the new file's power that is left of it less what was found.
func (r *Result) Left() float64 { return r.Found.off }

// Sure reports whether all of the new file is explained, to a ten-thousandth of its power, by the plan and nothing else.
func (r *Result) Sure() bool {
	return r.State() == Yes && len(r.Other) == 0 && r.Found.off <= explained
}

// State is that of all: landed where all that can be told has landed, not yet where nothing has.
func (r *Result) State() State {
	told, landed, came := 0, 0, 0
	for _, i := range r.Items {
		switch i.State {
		case Yes:
			told, landed, came = told+1, landed+1, came+1
		case Partly:
			told, came = told+1, came+1
		case No:
			told++
		}
	}
	switch {
	case told == 0:
		return Untold
	case landed == told:
		return Yes
	case came == 0:
		return No
	}
	return Partly
}

// Came reports whether a move, or the gain ("" as its id), is in the new file, at least in part.
func (r *Result) Came(id string) bool {
	for _, i := range r.Items {
		if i.ID == id && (i.State == Yes || i.State == Partly) {
			return true
		}
	}
	return false
}

// Landed reports whether a move, or the gain, is in the new file as it was planned.
func (r *Result) Landed(id string) bool {
	for _, i := range r.Items {
		if i.ID == id && i.State == Yes {
			return true
		}
	}
	return false
}

// Says says it: what is missing of what did not land, what was done beside it.
func (r *Result) Says() string {
	if !r.Sound() {
		return "another sound than before: what was done is not to be told"
	}
	var out []string
	for _, i := range r.Items {
		switch {
		case i.State == No:
			out = append(out, strings.ToLower(i.Name)+" not yet")
		case i.State == Partly:
			out = append(out, strings.ToLower(i.Name)+" "+i.Missing)
		}
	}
	said := string(r.State())
	switch {
	case len(r.Items) == 0 || said == string(Untold):
		said = "nothing was planned that can be told"
	case len(out) > 0 && r.State() == Partly:
		said += ": " + strings.Join(out, ", ")
	}
	if len(r.Other) > 0 {
		said += "; beside the plan " + strings.Join(r.Other, ", ")
	}
	return said
}

// judge compares what was found with what was planned.
func judge(p Plan, f Found) []Item {
	var out []Item
	if gain := p.compared(f); gain != 0 {
		it := part(Item{Name: "Gain"}, unit{"dB", 1, withinGain}, gain, f.Gain)
		it.Planned, it.Got = figure.Signed(gain, 1)+" dB", figure.Signed(f.Gain, 1)+" dB"
		out = append(out, it)
	}
	k, ducks := 0, 0
	for _, m := range p.Moves {
		it := Item{ID: m.ID, Name: m.Params.Kind().Label, Planned: move.Words(m.Params), State: Untold}
		switch q := m.Params.(type) {
		case *move.Filter:
			got := f.Filters[k]
			k++
			it = filterItem(it, q, got)
		case *move.Nudge:
			was := it
			it = part(Item{ID: m.ID, Name: it.Name}, unit{"ms", 2, withinTime}, q.MS, f.Delay)
			it.Planned, it.Got = was.Planned, figure.Signed(f.Delay, 2)+" ms later"
		case *move.Polarity:
			it.State, it.Got = No, "as it was"
			if f.Flip {
				it.State, it.Got = Yes, "turned over"
			}
		case *move.Duck:
			if ducks++; ducks == 1 && f.Duck != nil && f.Duck.Planned < -tells { // of several only the first can be told
				it = duckItem(it, *f.Duck)
			}
		}
		out = append(out, it)
	}
	return out
}

// unit is how a figure is shown, and within what of the plan it has come.
type unit struct {
	name     string
	decimals int
	within   float64
}

// part judges a figure of which a part may have come.
func part(it Item, u unit, planned, got float64) Item {
	it.State = No
	switch off := got - planned; {
	case math.Abs(off) <= u.within:
		it.State = Yes
		return it
	case got/planned >= partly:
		it.State = Partly
		it.Missing = fmt.Sprintf("%s %s missing", figure.Signed(math.Abs(off), u.decimals), u.name)
		if got/planned > 1 {
			it.Missing = fmt.Sprintf("%s %s too much", figure.Signed(math.Abs(off), u.decimals), u.name)
		}
	default:
		it.Missing = fmt.Sprintf("%s %s missing", figure.Signed(math.Abs(off), u.decimals), u.name)
	}
	return it
}

func filterItem(it Item, planned *move.Filter, got Passed) Item {
	if !got.Heard {
		return it
	}
	if pass(planned.Shape) {
		if !got.There {
			it.State, it.Got, it.Missing = No, "none", "all of it"
			return it
		}
		it.Got = fmt.Sprintf("%s Hz, %d dB per octave", figure.Short(round3(got.Hz)), got.Slope)
		off := math.Log2(got.Hz / planned.Hz)
		it.State = Partly
		switch {
		case math.Abs(off) > withinCorner:
			it.Missing = fmt.Sprintf("%s octaves too %s", figure.Signed(math.Abs(off), 2), map[bool]string{true: "high", false: "low"}[off > 0])
		case got.Slope != planned.Slope:
			it.Missing = fmt.Sprintf("%d dB per octave, not %d", got.Slope, planned.Slope)
		default:
			it.State = Yes
		}
		return it
	}
	it = part(it, unit{"dB", 1, withinBell}, planned.DB, got.DB)
	it.Got = fmt.Sprintf("%s dB at %s Hz", figure.Signed(got.DB, 1), figure.Short(round3(got.Hz)))
	if off := math.Log2(got.Hz / planned.Hz); it.State == Yes && math.Abs(off) > withinHz {
		it.State, it.Missing = Partly, fmt.Sprintf("%s octaves too %s", figure.Signed(math.Abs(off), 2), map[bool]string{true: "high", false: "low"}[off > 0])
	}
	return it
}

func duckItem(it Item, d Ducking) Item {
	it = part(it, unit{"dB", 1, withinDuck}, d.Planned, d.Depth)
	it.Got = fmt.Sprintf("%s dB at the deepest", figure.Signed(d.Depth, 1))
	if it.State == Yes && math.Abs(d.Worst) > withinDuck {
		way := "shallower"
		if d.Worst < 0 {
			way = "deeper"
		}
		it.State, it.Missing = Partly, fmt.Sprintf("%s dB %s %.0f ms after the hit", figure.Signed(math.Abs(d.Worst), 1), way, d.WorstMS)
	}
	return it
}

// others says what was done that was not planned.
func others(p Plan, f Found) []string {
	var out []string
	flip, delay, duck := false, false, false
	for _, m := range p.Moves {
		switch m.Params.(type) {
		case *move.Polarity:
			flip = true
		case *move.Nudge:
			delay = true
		case *move.Duck:
			duck = true
		}
	}
	if p.compared(f) == 0 && math.Abs(f.Gain) > withinGain {
		out = append(out, figure.Signed(f.Gain, 1)+" dB of gain")
	}
	for _, o := range f.Others {
		out = append(out, o.Words())
	}
	if !delay && math.Abs(f.Delay) > withinTime {
		out = append(out, figure.Signed(f.Delay, 2)+" ms later")
	}
	if !flip && f.Flip {
		out = append(out, "polarity turned over")
	}
	if d := f.Duck; !duck && d != nil && d.Depth < -withinDuck && f.off < otherways { // a compressor goes down at the hits too
		out = append(out, fmt.Sprintf("ducked by %s dB at the kick", figure.Signed(-d.Depth, 1)))
	}
	return out
}

func pass(s dsp.Shape) bool { return s == dsp.Highpass || s == dsp.Lowpass }

// round3 rounds to three figures.
func round3(v float64) float64 {
	if v == 0 {
		return 0
	}
	e := math.Pow(10, 2-math.Floor(math.Log10(math.Abs(v))))
	return math.Round(v*e) / e
}
