package landed

import (
	"math"
	"math/cmplx"
	"sort"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

const (
	fitSteps   = 40
	huber      = 1.0  // dB from which a point that is off counts less and less
	steepAs    = 0.98 // what else is tried has to leave less than so much of what is off
	slopeAs    = 0.8  // likewise another slope
	otherMost  = 3    // filters that were not planned
	keepNear   = 0.02 // dB squared that it costs to be away from home
	otherLeft  = 0.3  // dB, weighted, that have to be left for one to be looked for
	otherGains = 0.55 // and it has to leave at most so much of it
	cornerLo   = 8.0  // Hz: a corner that is found there is none
	deepFit    = 50.0 // dB under the rest that a fit cares for
)

// point is how loud the new file is against the old around a frequency.
type point struct {
	hz, db, weight float64
	loud           bool    // the stem sounds there
	cos, cos2      float64 // of the frequency's angle, and of twice that
}

// power is the squared magnitude of a cascade there.
func (p point) power(s []dsp.Biquad) float64 {
	h := 1.0
	for _, q := range s {
		num := q.B0*q.B0 + q.B1*q.B1 + q.B2*q.B2 + 2*q.B1*(q.B0+q.B2)*p.cos + 2*q.B0*q.B2*p.cos2
		den := 1 + q.A1*q.A1 + q.A2*q.A2 + 2*q.A1*(1+q.A2)*p.cos + 2*q.A2*p.cos2
		h *= math.Max(num, 0) / den
	}
	return h
}

// points are those of a transfer, a twelfth of an octave each, where the old file sounds and the new one follows from it.
func (t *transfer) points() []point {
	type sum struct{ xx, xy, f, c float64 }
	sums := map[int]*sum{}
	for k := 1; k < len(t.xx); k++ {
		hz := t.hz(k)
		if hz < lowestHz*0.8 || hz > math.Min(highestHz, 0.45*float64(t.rate)) {
			continue
		}
		b := int(math.Floor(perOctave * math.Log2(hz/lowestHz)))
		s := sums[b]
		if s == nil {
			s = &sum{}
			sums[b] = s
		}
		c := t.coherence(k)
		s.xx += t.xx[k]
		s.xy += cmplx.Abs(t.xy[k])
		s.f += t.xx[k] * math.Log2(hz)
		s.c += t.xx[k] * c
	}
	top := 0.0
	for _, s := range sums {
		top = math.Max(top, s.xx)
	}
	var out []point
	for _, s := range sums {
		if s.xx <= heard*top || s.xy <= 0 {
			continue
		}
		w := math.Min(1, math.Max(0, (s.c/s.xx-0.3)/0.5))
		if w > 0 {
			hz := math.Exp2(s.f / s.xx)
			a := 2 * math.Pi * hz / float64(t.rate)
			p := point{hz, dsp.DB(s.xy / s.xx), w, s.xx > sounding*top, math.Cos(a), math.Cos(2 * a)}
			if b := t.behind; b != nil {
				p.db += b.gain
				for _, q := range b.filters {
					p.db += dsp.PowerDB(math.Max(p.power(sections(q, b.rate)), 1e-18))
				}
			}
			out = append(out, p)
		}
	}
	sort.Slice(out, func(a, b int) bool { return out[a].hz < out[b].hz })
	return out
}

// fitted is a gain and filters that explain a transfer.
type fitted struct {
	rate    float64
	points  []point
	gain    float64
	home    []float64      // figures that the fit keeps near where the sound does not tell
	filters []*move.Filter // first those that were planned
	planned int
	alone   bool           // no others are looked for
	was     []*move.Filter // as they were planned

	flip, linear bool    // turned over; all frequencies are delayed alike
	later        float64 // frames, beside the whole ones
}

// actual is what a sound is behind at a frequency, the delay too.
func (f *fitted) actual(hz float64) complex128 {
	r := f.response(math.Max(hz, 0.1), f.rate)
	if f.linear {
		r = complex(cmplx.Abs(r), 0)
	}
	g := dsp.Gain(f.gain)
	if f.flip {
		g = -g
	}
	return r * cmplx.Rect(g, -2*math.Pi*hz/f.rate*f.later)
}

// find finds the delay and the polarity beside the filters, and whether those delay all frequencies alike.
func (f *fitted) find(t *transfer, within float64) {
	was := func(hz float64) complex128 { return 1 }
	if t.behind != nil {
		was = t.behind.actual
	}
	height := 0.0
	for _, linear := range []bool{false, true} {
		c := fitted{rate: f.rate, filters: f.filters, linear: linear}
		later, flip, h := t.delay(func(k int) complex128 {
			w := was(t.hz(k))
			if cmplx.Abs(w) < 1e-12 {
				return 0
			}
			return c.actual(t.hz(k)) / w
		}, within)
		if h > height*1.02 {
			height, f.later, f.flip, f.linear = h, later, flip, linear
		}
	}
}

// sections of a filter; none where it cannot be.
func sections(f *move.Filter, rate float64) []dsp.Biquad {
	switch {
	case f.Hz >= 0.45*rate || f.Hz <= cornerLo:
		return nil
	case f.Shape == dsp.Highpass:
		s, _ := dsp.ButterworthHighpass(f.Slope/6, f.Hz, rate)
		return s
	case f.Shape == dsp.Lowpass:
		s, _ := dsp.ButterworthLowpass(f.Slope/6, f.Hz, rate)
		return s
	}
	s, err := dsp.RBJ(f.Shape, f.Hz, f.Q, f.DB, rate)
	if err != nil {
		return nil
	}
	return []dsp.Biquad{s}
}

// response of the filters, without the gain.
func (f *fitted) response(hz, rate float64) complex128 {
	h := complex(1, 0)
	for _, p := range f.filters {
		h *= dsp.Response(sections(p, rate), hz, rate)
	}
	return h
}

// fitFilters finds the filters that a transfer shows: those that were planned first, wherever they are set now, and then
// what is left over.
func fitFilters(t *transfer, plan Plan) *fitted {
	f := asPlanned(float64(t.rate), plan)
	f.points = t.points()
	all, mean := 1e-9, 0.0
	for _, p := range f.points {
		all, mean = all+p.weight, mean+p.weight*p.db
	}
	mean /= all
	f.alone = plan.none
	return f.fit(mean)
}

// asPlanned is what was planned.
func asPlanned(rate float64, plan Plan) *fitted {
	f := &fitted{rate: rate, gain: plan.gain(meter.None)}
	for _, m := range plan.Moves {
		if q, is := m.Params.(*move.Filter); is {
			own := *q
			if own.Slope == 0 {
				own.Slope = 24
			}
			if own.Q == 0 {
				own.Q = 1
			}
			f.was = append(f.was, &own)
		}
	}
	f.planned = len(f.was)
	for _, w := range f.was {
		q := *w
		f.filters = append(f.filters, &q)
	}
	return f
}

// fit fits it, from as it was planned on, and from a mean gain.
func (f *fitted) fit(mean float64) *fitted {
	best, left := f, f.at().solve()
	try := func(most float64, change func(c *fitted)) {
		c := best.clone()
		change(c)
		if l := c.at().solve(); l < left*most {
			best, left = c, l
		}
	}
	try(steepAs, func(c *fitted) { c.gain = mean })
	for i := range f.was { // each as it was not done, at another slope
		switch w := f.was[i]; w.Shape {
		case dsp.Highpass, dsp.Lowpass:
			none := cornerLo / 2
			if w.Shape == dsp.Lowpass {
				none = 0.48 * f.rate
			}
			try(steepAs, func(c *fitted) { c.filters[i].Hz = none })
			for _, slope := range []int{12, 24, 48} {
				try(slopeAs, func(c *fitted) { c.filters[i].Slope = slope; c.filters[i].Hz = w.Hz })
				try(slopeAs, func(c *fitted) { c.filters[i].Slope = slope })
			}
		default:
			try(steepAs, func(c *fitted) { c.filters[i].DB = 0 })
		}
	}
	for range otherMost {
		if math.Sqrt(left) < otherLeft || f.alone {
			break
		}
		next, nextLeft := best, left*otherGains
		for _, o := range best.candidates() {
			c := best.clone()
			c.filters = append(c.filters, &o)
			if l := c.at().solve(); l < nextLeft*steepAs {
				next, nextLeft = c, l
			}
		}
		if next == best {
			break
		}
		best, left = next, nextLeft
	}
	return best
}

// candidates are filters that may explain what is left.
func (f *fitted) candidates() []move.Filter {
	off := make([]float64, len(f.points))
	f.off(off)
	at, most := 0, 0.0
	for i, e := range off {
		if v := math.Abs(e) * f.points[i].weight; v > most {
			at, most = i, v
		}
	}
	var out []move.Filter
	for _, slope := range []int{12, 24, 48} {
		for _, hz := range []float64{30, 80, 200} {
			out = append(out, move.Filter{Shape: dsp.Highpass, Hz: hz, Slope: slope})
		}
		for _, hz := range []float64{400, 2500, 10000} {
			out = append(out, move.Filter{Shape: dsp.Lowpass, Hz: hz, Slope: slope})
		}
	}
	if len(off) > 0 {
		out = append(out, move.Filter{Shape: dsp.Bell, Hz: f.points[at].hz, Q: 1.5, DB: off[at]})
	}
	for _, hz := range []float64{100, 300} {
		out = append(out, move.Filter{Shape: dsp.LowShelf, Hz: hz, Q: 0.7, DB: 1})
	}
	for _, hz := range []float64{1000, 5000} {
		out = append(out, move.Filter{Shape: dsp.HighShelf, Hz: hz, Q: 0.7, DB: 1})
	}
	return out
}

// passed says how the planned filters were found.
func (f *fitted) passed(plan Plan) []Passed {
	var out []Passed
	whole := asPlanned(f.rate, plan)
	for i, was := range whole.was {
		if f.planned == 0 { // it is known that there is none
			out = append(out, Passed{Hz: was.Hz, Q: was.Q, Slope: was.Slope, Heard: f.changes(was) >= tells})
			continue
		}
		got := f.filters[i]
		p := Passed{Hz: got.Hz, DB: got.DB, Q: got.Q, Slope: got.Slope}
		p.Heard = f.changes(was) >= tells
		p.There = f.changes(got) >= tells
		out = append(out, p)
	}
	return out
}

// changes is how much a filter changes where the stem sounds, dB, at the most.
func (f *fitted) changes(p *move.Filter) float64 {
	s, most := sections(p, f.rate), 0.0
	for _, at := range f.points {
		if at.weight > 0.5 && at.loud {
			most = math.Max(most, math.Abs(dsp.PowerDB(math.Max(1e-9, at.power(s)))))
		}
	}
	return most
}

// others are the filters that were not planned, in round figures.
func (f *fitted) others() []*move.Filter {
	var out []*move.Filter
	for _, p := range f.filters[f.planned:] {
		if f.changes(p) < withinBell {
			continue
		}
		q := &move.Filter{Shape: p.Shape, Hz: round3(p.Hz)}
		if pass(p.Shape) {
			q.Slope = p.Slope
		} else {
			q.DB, q.Q = math.Round(p.DB*10)/10, math.Round(p.Q*10)/10
		}
		out = append(out, q)
	}
	return out
}

// runSize is the number of frames that are filtered at once.
const runSize = 1 << 15

// run is a sound behind all of it.
func (f *fitted) run(x []float32, rate int) []float32 {
	n := 2 * runSize
	fft := dsp.NewFFT(n)
	h := make([]complex128, n/2+1)
	for k := range h {
		h[k] = f.actual(float64(k)*float64(rate)/float64(n)) / complex(float64(n), 0)
	}
	out := make([]float32, len(x))
	block := make([]float64, n)
	var c []complex128
	for at := 0; at < len(x); at += runSize {
		sound := false
		for i := range block {
			block[i] = 0
			if k := at + i - runSize/2; i >= runSize/2 && i < runSize/2+runSize && k < len(x) {
				block[i] = float64(x[k])
				sound = sound || x[k] != 0
			}
		}
		if !sound {
			continue
		}
		c = fft.Coefficients(c, block)
		for k := range c {
			c[k] *= h[k]
		}
		for i, v := range fft.Sequence(nil, c) {
			if k := at + i - runSize/2; k >= 0 && k < len(x) {
				out[k] += float32(v)
			}
		}
	}
	return out
}
