package duck

import (
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/pair"
)

// wholeBefore is how much of the bass before each hit is kept to try curves on, s: none begins earlier.
const wholeBefore = 0.025

// whole is the bass at its own rate, which has the last word. Of it all, what stands around the hits is kept when it is
// first asked for; the rest is read as often as is needed, so that it may be of any length.
type whole struct {
	m      *meter.HitMeter
	bass   meter.Sound
	low    float64 // its energy in 20-150 Hz
	before int     // frames of wholeBefore
	home   []dsp.Biquad
	at     []hitSound
	err    error // why it could not be read
}

// hitSound is the bass at a hit: from wholeBefore on to the end of the window, and in the home band from the hit on.
type hitSound struct{ bass, home []float32 }

// newWhole takes a bass whose energy in 20-150 Hz is known.
func newWhole(m *meter.HitMeter, bass meter.Sound, low float64) *whole {
	w := &whole{m: m, bass: bass, low: low, before: int(wholeBefore * float64(m.Rate))}
	lo, hi := meter.HomeBand(m.HomeHz)
	w.home, w.err = dsp.Bandpass(lo, hi, float64(m.Rate))
	return w
}

// failed returns why a fit on it need not go on: whoever asked has gone away, or it cannot be read.
func (w *whole) failed(goal Goal) error {
	if w.err != nil {
		return w.err
	}
	return goal.stopped()
}

// judgeHits tries a duck: the clearance of every hit, as exact as the end of the filters' ringing lets it be.
func (w *whole) judgeHits(d *move.Duck) []meter.Figure {
	if w.at == nil && w.err == nil {
		w.at = make([]hitSound, len(w.m.Hits))
		w.err = w.m.AtHits(w.bass, w.before, func(hit int, x, home []float32) { w.at[hit] = hitSound{x, home} })
	}
	clear := make([]meter.Figure, len(w.m.Hits))
	if w.err != nil {
		return clear
	}
	all, first := cuts(d, float64(w.m.Rate))
	ring := int(ringing * float64(w.m.Rate))
	diff := make([]float32, len(all)+ring)
	squeezed := map[int][]float32{} // by gap
	for i, at := range w.at {
		cut := all
		if c := d.For(pair.Gap(w.m, i)); c != d {
			if cut = squeezed[w.m.Gaps[i]]; cut == nil {
				cut, _ = cuts(c, float64(w.m.Rate))
				squeezed[w.m.Gaps[i]] = cut
			}
		}
		n := min(len(diff), len(at.home)-first)
		if i+1 < len(w.m.Hits) { // the next duck's own part is counted there
			n = min(n, w.m.Hits[i+1]-w.m.Hits[i])
		}
		n = max(n, 0)
		for k := range n {
			diff[k] = 0
			if j := w.before + first + k; k < len(cut) && j >= 0 {
				diff[k] = at.bass[j] * cut[k]
			}
		}
		dsp.NewFilter(w.home).Process(diff[:n], diff[:n])
		sum := 0.0
		for k, v := range at.home {
			if j := k - first; j >= 0 && j < n {
				v += diff[j]
			}
			sum += float64(v) * float64(v)
		}
		clear[i] = meter.Clearance(w.m.Home[i], sum)
	}
	return clear
}

// clearances carries a duck out on all of it, filters' ringing and all.
func (w *whole) clearances(d *move.Duck) []meter.Figure {
	c, err := w.m.Clearances(apply(w.m, d, w.bass))
	w.fail(err)
	return c
}

// lowEnergy is its energy in 20-150 Hz with a duck.
func (w *whole) lowEnergy(d *move.Duck) float64 {
	e, err := w.m.LowEnergy(apply(w.m, d, w.bass))
	w.fail(err)
	return math.Max(e, 0)
}

func (w *whole) fail(err error) {
	if w.err == nil {
		w.err = err
	}
}
