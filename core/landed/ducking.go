package landed

import (
	"math"
	"slices"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
)

// Ducking is what goes down at the hits, median over them.
type Ducking struct {
	MS             []float64
	Plan, Got      []float64 // dB, at each of MS; Plan is nil where none was planned
	Planned, Depth float64   // dB at the deepest
	Worst, WorstMS float64   // dB of what was found over what was planned, where it is furthest off
}

// bounce is what is compared: an old file and a new one that is lag frames later, and the hits in the old one.
type bounce struct {
	was, now  []float32
	lag, rate int
	hits      []int
}

// ducking is the course of the gain at the hits: from the old file to its duck as planned, and from the old file with the
// filters as they were found to the new one.
func ducking(b bounce, planned, filtered []float32) *Ducking {
	was, now, lag, rate, hits := b.was, b.now, b.lag, b.rate, b.hits
	d := &Ducking{}
	loud := 0.0
	for _, v := range filtered {
		loud = math.Max(loud, float64(v)*float64(v))
	}
	top := 0.0
	for _, v := range was {
		top = math.Max(top, float64(v)*float64(v))
	}
	reach := int(duckReach * float64(rate))
	for ms := -duckBefore; ms <= duckAfter; ms += duckStep {
		var p, g []meter.Figure
		for i, h := range hits {
			at := h + int(math.Round(ms*float64(rate)/1000))
			if i+1 < len(hits) && at > hits[i+1]-int(duckBefore*float64(rate)/1000) {
				continue
			}
			// the duck goes by the hits as they are heard: in the new file, whatever its delay
			x := meter.LocalGain(filtered, now, at-lag, lag, reach, duckLeast*loud)
			if planned != nil {
				y := meter.LocalGain(was, planned, at, 0, reach, duckLeast*top)
				if !y.Valid() || !x.Valid() {
					continue
				}
				p = append(p, y)
			}
			g = append(g, x)
		}
		x := meter.Median(g)
		if !x.Valid() || len(g) < min(duckHits, len(hits)) {
			continue
		}
		d.MS, d.Got = append(d.MS, ms), append(d.Got, float64(x))
		if planned != nil {
			d.Plan = append(d.Plan, float64(meter.Median(p)))
		}
	}
	return d
}

// settle takes what is there beside the ducks out of the course, and returns it, dB; and finds how deep it goes.
func (d *Ducking) settle() (rest float64) {
	if len(d.Got) == 0 {
		return 0
	}
	var still []meter.Figure
	for i, g := range d.Got {
		if d.Plan == nil || d.Plan[i] > -0.2 {
			still = append(still, meter.Figure(g))
		}
	}
	rest = float64(meter.Median(still))
	if d.Plan == nil || len(still) < 5 {
		rest = float64(meter.Percentile(still, 0.9))
		if d.Plan != nil && len(still) < 5 { // it never lets go: the straight line of what was found over what was planned tells
			rest = line(d.Plan, d.Got)
		}
	}
	d.Worst, d.WorstMS = 0, 0
	for i := range d.Got {
		d.Got[i] -= rest
		if d.Plan == nil {
			continue
		}
		near := d.Plan[max(0, i-1):min(len(d.Plan), i+2)] // where it is steep, a ms is no matter
		off := d.Got[i] - math.Max(slices.Min(near), math.Min(slices.Max(near), d.Got[i]))
		if math.Abs(off) > math.Abs(d.Worst) {
			d.Worst, d.WorstMS = off, d.MS[i]
		}
	}
	d.Depth, d.Planned = deepest(d.Got), deepest(d.Plan)
	if d.Plan != nil { // at the same place
		if k := slices.Index(d.Plan, slices.Min(d.Plan)); k >= 0 {
			d.Depth = deepest(d.Got[max(0, k-2):min(len(d.Got), k+3)])
		}
	}
	return rest
}

// line is where the straight line through pairs, by least squares and of a slope of 0 to 2, meets 0.
func line(x, y []float64) float64 {
	var mx, my, xx, xy float64
	n := float64(len(x))
	for i := range x {
		mx, my = mx+x[i]/n, my+y[i]/n
	}
	for i := range x {
		xx, xy = xx+(x[i]-mx)*(x[i]-mx), xy+(x[i]-mx)*(y[i]-my)
	}
	slope := 1.0
	if xx > n*0.01 {
		slope = math.Max(0, math.Min(2, xy/xx))
	}
	return my - slope*mx
}

// deepest is the least of the medians of three neighbours.
func deepest(x []float64) float64 {
	out := 0.0
	for i := range x {
		three := slices.Clone(x[max(0, i-1):min(len(x), i+2)])
		slices.Sort(three)
		out = math.Min(out, three[len(three)/2])
	}
	return out
}

// lifted is the new file with the course taken out at the hits.
func (d *Ducking) lifted(x []float32, hits []int, rate int) []float32 {
	if d.Depth > -duckTell || len(d.MS) == 0 {
		return x
	}
	out := slices.Clone(x)
	first := int(d.MS[0] * float64(rate) / 1000)
	span := int((d.MS[len(d.MS)-1] - d.MS[0]) * float64(rate) / 1000)
	for i, h := range hits {
		for k := 0; k <= span; k++ {
			at := h + first + k
			if i+1 < len(hits) && at >= hits[i+1]+first {
				break
			}
			if at >= 0 && at < len(out) {
				out[at] = x[at] / float32(math.Max(liftMost, dsp.Gain(math.Min(0, d.at(d.MS[0]+float64(k)*1000/float64(rate))))))
			}
		}
	}
	return out
}

// at is the course at a time, straight between what was measured.
func (d *Ducking) at(ms float64) float64 {
	k, _ := slices.BinarySearch(d.MS, ms)
	switch {
	case k == 0:
		return d.Got[0]
	case k == len(d.MS):
		return d.Got[k-1]
	}
	p := (ms - d.MS[k-1]) / (d.MS[k] - d.MS[k-1])
	return d.Got[k-1] + p*(d.Got[k]-d.Got[k-1])
}
