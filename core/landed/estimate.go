package landed

import (
	"context"
	"math"
	"math/cmplx"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"
	"gonum.org/v1/gonum/dsp/fourier"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

// How the two files are compared.
const (
	spectrumS  = 0.7   // s a spectrum is taken over, at the least
	coarseS    = 2.0   // likewise for the delay, which lies within half of it
	explained  = 1e-4  // what is left unexplained under which no other start is tried
	settled    = 2e-6  // likewise under which no other round is gone
	patience   = 1     // rounds that may be no better
	closer     = 0.9   // the part of what was left unexplained that a round leaves at the most, to be followed by another
	rounds     = 7     // of telling the filters and what ducks from each other
	longAs     = 4     // spectra from which the ends of a sound are left out
	farthest   = 0.025 // s to each side of the coarse delay within which the fine one lies
	nearer     = 0.002 // likewise of the fine one, from the second round on
	noise      = 1e-11 // of the strongest bin's power: under it a bin tells nothing
	heard      = 1e-8  // of the strongest point's power: under it a point of the fit is not heard (-80 dB)
	sounding   = 1e-5  // likewise: under it the stem does not sound there (-50 dB)
	perOctave  = 12    // points of the fit
	lowestHz   = 20.0
	highestHz  = 18000.0
	duckStep   = 2.0   // ms
	duckReach  = 0.002 // s to each side over which a gain is taken
	duckLeast  = 1e-5  // mean square of a sound, part of its loudest: under it, it is too soft to tell
	duckBefore = 20.0  // ms
	duckAfter  = 400.0
	duckHits   = 3   // hits at the least
	duckFloor  = -40 // dB
	duckTell   = 0.75
)

// Found is what was done to a file.
type Found struct {
	Gain        float64  // dB, beside what filters and ducks take
	Delay       float64  // ms by which the new file is later
	Flip        bool     // its polarity is turned over
	Filters     []Passed // of the filters that were planned, in their order
	Others      []*move.Filter
	Duck        *Ducking // nil: there are too few hits to tell
	Unexplained float64  // part of the new file's power that none of these explains, 0 to 1
	Linear      bool     // the filters delay all frequencies alike

	off float64 // what is left of the new file's power less what was found
}

// Passed is a planned filter as it was found.
type Passed struct {
	Hz, DB, Q float64
	Slope     int
	There     bool // a high-pass or low-pass: there is one
	Heard     bool // the stem sounds where it works: it can be told
}

// Ducking is what goes down at the hits, median over them.
type Ducking struct {
	MS             []float64
	Plan, Got      []float64 // dB, at each of MS; Plan is nil where none was planned
	Planned, Depth float64   // dB at the deepest
	Worst, WorstMS float64   // dB of what was found over what was planned, where it is furthest off
}

// transfer is how a new file follows from an old one, bin by bin.
type transfer struct {
	rate, size int
	n          int // spectra
	xx, yy     []float64
	xy         []complex128
	behind     *fitted // what the old file is behind already; nil: nothing
}

// spectra sums over a stretch; y is read lag frames later.
func spectra(ctx context.Context, x, y []float32, lag, rate int, seconds float64) (*transfer, error) {
	size := 1024
	for float64(size) < seconds*float64(rate) {
		size *= 2
	}
	t := &transfer{rate: rate, size: size, xx: make([]float64, size/2+1), yy: make([]float64, size/2+1), xy: make([]complex128, size/2+1)}
	fft, window := fourier.NewFFT(size), dsp.Hann(size)
	a, b := make([]float64, size), make([]float64, size)
	var fa, fb []complex128
	from, to := -size/2, len(x)
	if len(x) > longAs*size { // what a shift cut off at the ends tells nothing
		from, to = max(0, -lag), min(len(x), len(y)-lag)-size
	}
	for at := from; at < to; at += size / 2 {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		sound := 0.0
		for i := range a {
			a[i], b[i] = 0, 0
			if k := at + i; k >= 0 && k < len(x) {
				a[i] = float64(x[k]) * window[i]
			}
			if k := at + i + lag; k >= 0 && k < len(y) {
				b[i] = float64(y[k]) * window[i]
			}
			sound += a[i] * a[i]
		}
		if sound == 0 {
			continue
		}
		fa, fb = fft.Coefficients(fa, a), fft.Coefficients(fb, b)
		for i, v := range fa {
			w := fb[i]
			t.xx[i] += real(v)*real(v) + imag(v)*imag(v)
			t.yy[i] += real(w)*real(w) + imag(w)*imag(w)
			t.xy[i] += w * cmplx.Conj(v)
		}
		t.n++
	}
	return t, nil
}

func (t *transfer) hz(bin int) float64 { return float64(bin) * float64(t.rate) / float64(t.size) }

// coherence of a bin, 0 to 1, less what chance makes of so few spectra.
func (t *transfer) coherence(k int) float64 {
	if t.xx[k] == 0 || t.yy[k] == 0 {
		return 0
	}
	c := (real(t.xy[k])*real(t.xy[k]) + imag(t.xy[k])*imag(t.xy[k])) / (t.xx[k] * t.yy[k])
	if t.n > 2 {
		chance := 2 / float64(t.n)
		c = math.Max(0, (c-chance)/(1-chance))
	}
	return math.Min(1, c)
}

// delay is by how many frames y is later than x beside what a response delays, and whether it is turned over: the greatest
// magnitude of the cross-correlation, each bin weighted by its coherence and not by its level (Knapp and Carter 1976, the
// generalised correlation), within some seconds.
func (t *transfer) delay(response func(k int) complex128, within float64) (frames float64, flip bool, height float64) {
	top := 0.0
	for _, v := range t.xx {
		top = math.Max(top, v)
	}
	z := make([]complex128, len(t.xy))
	all := 0.0
	for k, v := range t.xy {
		if m := cmplx.Abs(v); k > 0 && m > 0 && t.xx[k] > noise*top {
			w := t.coherence(k)
			z[k] = v * complex(w/m, 0)
			if r := response(k); r != 0 {
				z[k] *= cmplx.Conj(r) * complex(1/cmplx.Abs(r), 0)
			}
			all += w
		}
	}
	if all == 0 {
		return 0, false, 0
	}
	r := fourier.NewFFT(t.size).Sequence(nil, z)
	most, best := int(within*float64(t.rate)), 0
	at := func(i int) float64 { return r[(i+t.size)%t.size] }
	for d := 0; d <= min(most, t.size/2-1); d++ { // of two as high, the nearer one
		for _, i := range []int{d, -d} {
			if math.Abs(at(i)) > math.Abs(at(best))*1.0001 {
				best = i
			}
		}
	}
	height = at(best)
	sign := 1.0
	if height < 0 {
		sign = -1
	}
	value := func(d float64) float64 {
		sum := 0.0
		for k, v := range z {
			if v != 0 {
				s, c := math.Sincos(2 * math.Pi * float64(k) * d / float64(t.size))
				sum += real(v)*c - imag(v)*s
			}
		}
		return sign * sum
	}
	lo, hi := float64(best)-1, float64(best)+1
	for hi-lo > 0.005 { // golden section; there is one peak within a frame
		a, b := hi-0.618*(hi-lo), lo+0.618*(hi-lo)
		if value(a) > value(b) {
			hi = b
		} else {
			lo = a
		}
	}
	frames = (lo + hi) / 2
	return frames, sign < 0, value(frames) / all
}

// Estimate finds out what was done to was that now came of it: sounds of one rate in mono, of the same stretch. hits are frames
// of it, ascending. It begins with all of the plan done, and where that does not lead to what came, with parts of it and with none.
func Estimate(ctx context.Context, was, now []float32, rate int, hits []int, plan Plan) (*Result, error) {
	all := starts(plan)
	found := make([]*Found, len(all))
	g, each := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	begin := func(i int) {
		g.Go(func() (err error) {
			found[i], err = estimate(each, was, now, rate, hits, plan, all[i])
			return err
		})
	}
	begin(0)
	begin(len(all) - 1)
	if err := g.Wait(); err != nil {
		return nil, err
	}
	best := found[0]
	if f := found[len(all)-1]; f.off < best.off*steepAs {
		best = f
	}
	if best.off > explained && len(all) > 2 {
		g, each = errgroup.WithContext(ctx)
		for i := range all[1 : len(all)-1] {
			begin(i + 1)
		}
		if err := g.Wait(); err != nil {
			return nil, err
		}
		for _, f := range found {
			if f.off < best.off*steepAs {
				best = f
			}
		}
	}
	r := &Result{Found: *best, Gain: plan.compared(*best)}
	if !r.Sound() {
		r.Items = untold(plan)
		return r, nil
	}
	r.Items, r.Other = judge(plan, *best), others(plan, *best)
	if best.off > otherways {
		r.Other = append(r.Other, "something that none of these is")
	}
	return r, nil
}

// start says what is taken for done to begin with.
type start struct {
	filters, duck bool
	none          bool // nor is anything looked for but gain and delay
}

func starts(p Plan) []start {
	var out []start
	filters := false
	for _, m := range p.Moves {
		if _, is := m.Params.(*move.Filter); is {
			filters = true
		}
	}
	for _, s := range []start{{true, true, false}, {true, false, false}, {false, true, false}, {false, false, false}} {
		if (filters || !s.filters) && (p.Ducked != nil || !s.duck) {
			out = append(out, s)
		}
	}
	return append(out, start{none: true})
}

// estimate goes round: how bins follow from each other, a fit of filters to that, what is left of the delay, and what is then
// left at the hits, which is taken out of the next round.
func estimate(ctx context.Context, was, now []float32, rate int, hits []int, plan Plan, s start) (*Found, error) {
	f, whole := &Found{}, plan
	if s.none {
		plan = Plan{Gains: plan.Gains, none: true}
	}
	x, y := was, now // without what ducks
	if s.duck {
		x, y = unducked(was, now, plan, 1)
	}
	var fit *fitted // what x is behind
	if s.filters {
		fit = asPlanned(float64(rate), plan)
	}
	behind := x // x behind what was found so far
	if fit != nil {
		behind = fit.run(x, rate)
	}
	coarse, err := spectra(ctx, behind, y, 0, rate, coarseS)
	if err != nil {
		return nil, err
	}
	d, _, height := coarse.delay(func(int) complex128 { return 1 }, coarseS/2)
	if height == 0 { // silence
		f.Unexplained = 1
		return f, nil
	}
	lag := int(math.Round(d))
	best, worse := &Found{Unexplained: 1, off: math.Inf(1)}, 0
	for round := range rounds {
		// the old file is behind what is known so far, so that what is left is nearly flat: where a strong tone is cut deep,
		// the ends of the windows would else tell more than it does
		tr, err := spectra(ctx, behind, y, lag, rate, spectrumS)
		if err != nil {
			return nil, err
		}
		tr.behind = fit
		if round > 0 { // how good is what was found in the round before?
			f.Unexplained, f.off = unexplained(tr), off(tr)
			if worse++; f.off < best.off*closer {
				worse = 0
			}
			if f.off < best.off {
				c := *f
				best = &c
			}
			if f.off < settled || worse > patience {
				return best, nil
			}
		}
		fit = fitFilters(tr, plan)
		if round == 0 {
			fit.find(tr, farthest)
		} else {
			fit.find(tr, nearer)
		}
		if whole := math.Round(fit.later); whole != 0 {
			lag += int(whole)
			fit.later -= whole
		}
		f.Flip, f.Linear, f.Delay = fit.flip, fit.linear, (float64(lag)+fit.later)*1000/float64(rate)
		f.Gain, f.Filters, f.Others = fit.gain, fit.passed(whole), fit.others()
		behind = fit.run(was, rate)
		if len(hits) >= duckHits {
			f.Duck = ducking(was, whole.Ducked, behind, now, lag, rate, hits)
			f.Gain += f.Duck.settle()
			if s.none {
				continue
			}
			if behind, y, err = clearest(ctx, was, now, behind, lag, rate, hits, plan, fit, f.Duck); err != nil {
				return nil, err
			}
		}
	}
	return best, nil
}

// unducked takes the duck out as it was planned: out of the new file, or where it works in a band by comparing with the old one ducked.
// part is that of its depth.
func unducked(was, now []float32, plan Plan, part float64) (x, y []float32) {
	if plan.Duck == nil {
		return plan.Ducked, now
	}
	y = slices.Clone(now)
	for i, g := range plan.Duck {
		if i < len(y) {
			if part != 1 {
				g = float32(math.Pow(math.Max(liftMost, float64(g)), part))
			}
			y[i] /= max(g, liftMost)
		}
	}
	return was, y
}

// clearest takes out of the new file what makes it follow best from the old one behind what was found so far: nothing, the duck
// as it was planned, as deep as it was measured, or the course that was measured.
// behind is the old file behind that.
func clearest(ctx context.Context, was, now, behind []float32, lag, rate int, hits []int, plan Plan, fit *fitted, d *Ducking) (x, y []float32, err error) {
	type pair struct{ x, y []float32 }
	all := []pair{{behind, now}}
	add := func(x, y []float32) {
		if plan.Duck == nil && plan.Ducked != nil && &x[0] == &plan.Ducked[0] {
			x = fit.run(x, rate)
		} else {
			x = behind
		}
		all = append(all, pair{x, y})
	}
	if plan.Ducked != nil {
		add(unducked(was, now, plan, 1))
		if part := d.Depth / d.Planned; plan.Duck != nil && d.Planned < -tells && part > 0.1 && math.Abs(part-1) > 0.02 {
			add(unducked(was, now, plan, math.Min(part, 3)))
		}
	}
	if d.Depth < -duckTell {
		add(was, d.lifted(now, hits, rate))
	}
	best := math.Inf(1)
	for _, p := range all {
		t, err := spectra(ctx, p.x, p.y, lag, rate, spectrumS)
		if err != nil {
			return nil, nil, err
		}
		if u := unexplained(t); u < best*steepAs {
			best, x, y = u, p.x, p.y
		}
	}
	return x, y, nil
}

// liftMost is the least gain of a duck that is taken out: what went down further is lost in what remains.
const liftMost = 0.05

// untold is a plan of which nothing can be told.
func untold(p Plan) []Item {
	out := judge(p, Found{Filters: make([]Passed, len(p.Moves))})
	for i := range out {
		out[i].State, out[i].Got, out[i].Missing = Untold, "", ""
	}
	return out
}

// unexplained is the part of the new file's power that does not follow from the old one's, whatever the filter.
func unexplained(t *transfer) float64 {
	all, left := 0.0, 0.0
	for k, v := range t.yy {
		all += v
		left += v * (1 - t.coherence(k))
	}
	if all == 0 {
		return 1
	}
	return left / all
}

// off is the power of the new file less the old one behind what was found, a part of the new file's.
func off(t *transfer) float64 {
	all, left := 0.0, 0.0
	for k, v := range t.yy {
		all += v
		left += v + t.xx[k] - 2*real(t.xy[k])
	}
	if all == 0 {
		return 1
	}
	return left / all
}

// localGain is the gain in dB from one sound to another around a frame, by least squares; None where there is too little.
func localGain(a, b func(i int) float64, k, reach int, least float64) meter.Figure {
	var xx, xy, yy float64
	for i := k - reach; i <= k+reach; i++ {
		x, y := a(i), b(i)
		xx, xy, yy = xx+x*x, xy+x*y, yy+y*y
	}
	if xx < least*float64(2*reach+1) {
		return meter.None
	}
	g := xy / xx
	if g <= 0 {
		g = math.Sqrt(yy / xx)
	}
	return meter.Figure(math.Max(duckFloor, dsp.DB(math.Max(g, 1e-4))))
}

// reader reads a sound with silence around it.
func reader(x []float32, shift int) func(i int) float64 {
	return func(i int) float64 {
		if i += shift; i >= 0 && i < len(x) {
			return float64(x[i])
		}
		return 0
	}
}

// ducking is the course of the gain at the hits: from the old file to its duck as planned, and from the old file with the
// filters as they were found to the new one.
func ducking(was, planned, filtered, now []float32, lag, rate int, hits []int) *Ducking {
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
	old, plan, got, came := reader(was, 0), reader(planned, 0), reader(filtered, 0), reader(now, lag)
	for ms := -duckBefore; ms <= duckAfter; ms += duckStep {
		var p, g []meter.Figure
		for i, h := range hits {
			at := h + int(math.Round(ms*float64(rate)/1000))
			if i+1 < len(hits) && at > hits[i+1]-int(duckBefore*float64(rate)/1000) {
				continue
			}
			// the duck goes by the hits as they are heard: in the new file, whatever its delay
			x := localGain(got, came, at-lag, reach, duckLeast*loud)
			if planned != nil {
				y := localGain(old, plan, at, reach, duckLeast*top)
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
