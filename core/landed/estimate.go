package landed

import (
	"context"
	"math"
	"runtime"
	"slices"
	"sync/atomic"

	"mellowthump/core/group"
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
	duckHits   = 3 // hits at the least
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

// Estimate finds out what was done to was that now came of it: sounds of one rate in mono, of the same stretch. hits are frames
// of it, ascending. It begins with all of the plan done, and where that does not lead to what came, with parts of it and with none.
func Estimate(ctx context.Context, was, now []float32, rate int, hits []int, plan Plan) (*Result, error) {
	all := starts(plan)
	var did atomic.Int64 // rounds
	plan.round = func() {
		if n := did.Add(1); plan.Did != nil {
			plan.Did(min(1, float64(n)/float64(2*rounds)))
		}
	}
	found := make([]*Found, len(all))
	g, each := group.WithContext(ctx)
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
		g, each = group.WithContext(ctx)
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
// Long because each round stands on what the round before has found.
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
	coarse, err := spectra(ctx, behind, y, 0, rate, coarseS, &spectraOf{})
	if err != nil {
		return nil, err
	}
	d, _, height := coarse.delay(func(int) complex128 { return 1 }, coarseS/2)
	if height == 0 { // silence
		f.Unexplained, f.off = 1, math.Inf(1)
		return f, nil
	}
	lag, kept := int(math.Round(d)), spectraOf{}
	best, worse := &Found{Unexplained: 1, off: math.Inf(1)}, 0
	for round := range rounds {
		whole.round()
		// the old file is behind what is known so far, so that what is left is nearly flat: where a strong tone is cut deep,
		// the ends of the windows would else tell more than it does
		tr, err := spectra(ctx, behind, y, lag, rate, spectrumS, &kept)
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
			if f.off < settled || worse > patience || round == rounds-1 {
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
			f.Duck = ducking(bounce{was, now, lag, rate, hits}, whole.Ducked, behind)
			f.Gain += f.Duck.settle()
			if s.none {
				continue
			}
			if behind, y, err = clearest(ctx, bounce{was, now, lag, rate, hits}, known{plan, fit, f.Duck, behind}, &kept); err != nil {
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

// known is what is known of a bounce so far: what was planned, the filters as they were found, the duck, and the old file behind these.
type known struct {
	plan   Plan
	fit    *fitted
	duck   *Ducking
	behind []float32
}

// clearest takes out of the new file what makes it follow best from the old one behind what was found so far: nothing, the duck
// as it was planned, as deep as it was measured, or the course that was measured.
func clearest(ctx context.Context, b bounce, k known, kept *spectraOf) (x, y []float32, err error) {
	was, now, lag, rate, hits := b.was, b.now, b.lag, b.rate, b.hits
	plan, fit, d, behind := k.plan, k.fit, k.duck, k.behind
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
		of := kept
		if kept.first != &p.y[0] {
			of = &spectraOf{}
		}
		t, err := spectra(ctx, p.x, p.y, lag, rate, spectrumS, of)
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
