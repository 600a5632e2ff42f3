// Package duck fits the gain that gets the bass out of the kick's way, and says what is wrong with one.
//
// # How a curve is fitted
//
// What is asked: in nine of ten hits (Share) the kick stands Goal.Clearance dB over the bass in the kick's own octave, over the hit's
// window; among the curves that do so, the one that takes the least of the bass's energy in 20 to 150 Hz. A curve goes at most as deep
// as the cap, comes down and back no faster than what may click, and is back before the next hit.
//
//	a hit:   kick  ____|\\\\____________|\\____    the octave of its fundamental, squared and summed over the window
//	         bass  ~~~~~~~~~~~~~~~~~~~~~~~~~    the same of the bass, times the gain squared: linear in u = g^2
//	         g     ----\\____/------------\\__    what is looked for, the same at every hit (or by the gap: Follow)
//
// A hit passes the files in this order:
//
//	trial.go     the bass and its octave at a low rate, hit by hit, so that hundreds of curves can be tried (newTrial, judge)
//	model.go     room: what a curve may do; around: the energies of each 2 ms after a hit, linear in u around some curve
//	bound.go     the least loss that any curve has: a linear programme over u, by column generation (G. B. Dantzig, P. Wolfe,
//	             Operations Research 8(1), 1960); its columns are curves that a dynamic programme finds for prices of the hits,
//	             and the prices come of a revised simplex over the hits. Which hits are left under the goal is chosen there
//	free.go      the curve of any shape, step by step: the programme, then as far toward its answer as the real filters follow
//	knots.go     that curve traced by a few straight segments in dB, as a person draws them; then polished: each knot moved in turn
//	             while it loses less (coordinate descent), knots that cost nothing taken out
//	whole.go     the curve carried out at the full rate, which has the last word: failed, judgeHits
//	fit.go       reach, least: the loop between these; what the full rate says that the model did not is put into the model
//	             (correct), until the goal is reached and nothing is won any more
//
// Beside it: inway.go says what stands in the way of a goal that is not reached, each way out tried; pernote.go lets the depth follow
// the notes; lead.go is the kick's own curve where the bass leads; keyed.go and keyedtrial.go fit a compressor or a band dip that
// listens to the kick, by trying holds and releases and halving the threshold (the compressor is that of D. Giannoulis, M. Massberg and
// J. D. Reiss, JAES 60(6), 2012); back.go and false.go judge what came back, and what ducks without a hit.
package duck

import (
	"context"
	"fmt"
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// Share is the part of the hits that must reach the target.
const Share = 0.9

const (
	letGo    = move.LetGo
	margin   = 0.01 // dB over the target, for rounding in a 24-bit file
	deepest  = 24.0 // dB, the depth up to which the trade-off is drawn
	fullCut  = 48.0 // dB, for asking whether more depth would do it
	workRate = 1200 // Hz, the least rate at which curves are tried
	workOver = 8    // times the top of the home band, likewise
	// by which an 8th-order Butterworth low-pass is late far under its corner, in radians of that: 1/sin(pi/16)
	butterworth8Delay = 5.126
	ringing           = 0.1 // s for which the filters ring after a change
)

// Goal is what a fit is asked for.
type Goal struct {
	Clearance float64 // dB, in Share of the hits
	MaxDepth  float64 // dB
	NoAhead   bool    // the duck may not begin before the hit
	Follow    bool    // its way back is shorter where the next hit is close
	Brief     bool    // where it is not reached, what stops it is not looked for

	ctx context.Context // of whoever asks; nil: nobody can go away
}

// brief marks a context in which a fit does not look for what stops it.
type brief struct{}

// Brief lets a fit that does not reach its goal say no more than how far it comes: what stops it takes longer to find than the curve.
func Brief(ctx context.Context) context.Context { return context.WithValue(ctx, brief{}, true) }

// goalOf is what a song asks for, as long as ctx lasts.
func goalOf(ctx context.Context, song *session.Song) Goal {
	t := song.Targets
	return Goal{
		Clearance: t.Clearance,
		MaxDepth:  t.MaxDepth,
		NoAhead:   t.NoAhead,
		Follow:    t.Follow && song.Leader == session.KickLeads,
		Brief:     ctx.Value(brief{}) != nil,
		ctx:       ctx,
	}
}

// stopped returns why a fit need not go on: whoever asked has gone away.
func (g Goal) stopped() error {
	if g.ctx == nil {
		return nil
	}
	return g.ctx.Err()
}

// did says what part of a search is over.
func (g Goal) did(part float64) {
	if g.ctx != nil {
		mix.Did(g.ctx, part)
	}
}

// Fitted is the result of a fit.
type Fitted struct {
	Needed  bool
	Reached bool
	Duck    *move.Duck   // nil where none is needed
	P10     meter.Figure // clearance in the worst tenth with it, measured at full rate
	Loss    meter.Figure // dB of bass in 20-150 Hz that it takes; None where there is none
	Bound   meter.Figure // and what no curve does it with less, see bound.go; None where that is not known
	Reason  string       // one sentence
	Trade   []Trade      // where the bass leads; else see Fitted.TradeOff
}

// Trade is one point of the trade-off: what a target would cost.
type Trade struct {
	Clearance float64 // dB asked
	Loss      float64 // dB of bass in 20-150 Hz
	Bound     float64 // the least that any curve would lose; 0 where that is not known
	Depth     float64 // dB
}

// worst returns the clearance that counts for a target in 9 of 10 hits: the 10th percentile,
// and in short lists the hit that must still reach it for 9 in 10 to do so.
func worst(c []meter.Figure) float64 {
	n := 0
	for _, v := range c {
		if v.Valid() {
			n++
		}
	}
	if n == 0 {
		return math.Inf(1)
	}
	p := meter.Percentile(c, 1-Share)
	allowed := int((1-Share)*float64(n) + 1e-9)
	if n > 1 {
		p = min(p, meter.Percentile(c, float64(allowed)/float64(n-1)))
	}
	return float64(p)
}

// lowTrial prepares for trials at the low rate, losses included.
func lowTrial(m *meter.HitMeter, bass meter.Sound) (*trial, error) {
	t, err := newTrial(m, bass, workFactor(m))
	if err == nil {
		err = t.withLosses()
	}
	return t, err
}

// fit is Fit where the figures before are known, on the trial made for m and bass.
// Long because each way in which it may fail is told in its own sentence.
func (t *trial) fit(m *meter.HitMeter, before meter.HitFigures, bass meter.Sound, goal Goal) (Fitted, error) {
	f := Fitted{P10: before.ClearanceP10, Loss: meter.None, Bound: meter.None}
	if t.low <= 0 {
		f.Reason = "No duck needed: the bass is silent here."
		return f, nil
	}
	if worst(clearances(before)) >= goal.Clearance {
		f.Reason = fmt.Sprintf("No duck needed: the kick clears the bass by %.1f dB in the worst tenth of hits; %.1f dB is asked.",
			float64(before.ClearanceP10), goal.Clearance)
		return f, nil
	}
	f.Needed = true
	full := newWhole(m, bass, before.Low)
	l := t.reach(full, goal)
	if goal.Follow && t.room(m, goal).near > 0 { // one that is back before the closest hits is one that follows them too
		same := goal
		same.Follow = false
		if one := t.reach(full, same); one.reached && (!l.reached || one.loss < l.loss) {
			one.bound = math.Min(one.bound, l.bound)
			l = one
			l.duck.Follow = true
		}
	}
	if err := full.failed(goal); err != nil {
		return f, err
	}
	if l.duck == nil {
		f.Reason = "No duck can be drawn: the cap is 0 dB, or the hits follow each other too closely."
		return f, nil
	}
	f.Duck, f.Reached, f.P10 = l.duck, l.reached, l.p10
	f.Loss, f.Bound = meter.Figure(l.loss), meter.Figure(l.bound)
	if f.Reached {
		deep := -f.Duck.Depth()
		_, end := f.Duck.Span()
		back := fmt.Sprintf("back by %.0f ms", end)
		alike := ""
		if soon := soonest(f.Duck, m); soon < end {
			alike = "and follows alike "
			back = fmt.Sprintf("back by %.0f to %.0f ms as the gap to the next hit lets it", soon, end)
		}
		f.Reason = fmt.Sprintf(
			"%.1f dB of duck, %s, lets the kick clear the bass by %s dB in 9 of 10 hits. %.2f dB of bass are lost; no curve that goes down once %sdoes it with "+
				"less than %.2f.",
			deep,
			back,
			figure.Signed(goal.Clearance, 1),
			l.loss,
			alike,
			l.bound,
		)
		return f, nil
	}
	f.Bound = meter.None // of what is not reached
	if goal.ctx != nil {
		mix.Doing(goal.ctx, "Looking for what stops the fit")
	}
	if goal.Brief {
		f.Reason = missed(goal, l)
		return f, full.failed(goal)
	}
	f.Reason = t.inTheWay(full, goal, l)
	return f, full.failed(goal)
}

// soonest is when a duck is back at the hit that gives it the least time, ms.
func soonest(d *move.Duck, m *meter.HitMeter) float64 {
	_, soon := d.Span()
	for i := range m.Hits {
		_, end := d.For(pair.Gap(m, i)).Span()
		soon = math.Min(soon, end)
	}
	return soon
}

// fitParts are the parts of the cap that are tried where the whole of it leads nowhere.
var fitParts = []float64{0.75, 0.5}

// reach is least, and where that does not reach the goal, what a part of the cap leads to: what a lower cap lets be
// drawn, a higher one does too.
func (t *trial) reach(full *whole, goal Goal) leastCurve { return t.reachOver(full, goal, 0) }

// reachOver is reach where a cap is known that does not reach the goal: none that is lower is tried.
func (t *trial) reachOver(full *whole, goal Goal, known float64) leastCurve {
	l := t.least(full, goal)
	for _, part := range fitParts {
		if part*goal.MaxDepth <= known {
			break
		}
		if l.reached || l.duck == nil || full.failed(goal) != nil {
			break
		}
		less := goal
		less.MaxDepth *= part
		if c := t.least(full, less); c.reached {
			return c
		}
	}
	return l
}

// leastCurve is what least comes to.
type leastCurve struct {
	duck    *move.Duck
	knots   knots
	reached bool
	p10     meter.Figure
	worst   float64 // the clearance that counts, at the full rate
	loss    float64 // dB of bass in 20-150 Hz
	bound   float64 // and the least that any curve loses for it
	asked   []bool
}

// fitRounds is how often the model is taken anew around the curve that it led to, and put right by what the full
// rate says of that.
const (
	fitRounds  = 5
	fitClose   = 0.012 // dB over the goal that are close enough
	fitGap     = 0.06  // dB over the bound from which on more is tried
	fitAgain   = 2     // times, at the most
	fitLeeway  = 0.15  // dB, so near to the goal the last step is one of scale
	fitTouches = 4     // of these, at the most
)

// least finds the curve with the least loss, on the model at the low rate, and carries it out at the full rate,
// which has the last word.
// Long because it is one loop between model and full rate: what it knows of both is carried along.
func (t *trial) least(full *whole, goal Goal) leastCurve {
	m := full.m
	r := t.room(m, goal)
	var l leastCurve
	if r.cap <= 0 || r.end < r.back+4*knotsApart {
		return l
	}
	var warm [][]float64
	mod, u, asked := t.free(m, r, goal.Clearance, &warm)
	l.asked = asked
	starts := append([]knots{tracing(mod, u, r)}, plain(m, r)...)
	best := leastCurve{worst: math.Inf(-1)}
	anew, again := true, 0
	for round := range fitRounds {
		if full.failed(goal) != nil {
			break
		}
		goal.did((float64(round) + 0.5) / fitRounds)
		k, cost := newPolish(mod, r, goal.Clearance+margin, asked).best(starts, anew)
		if math.IsInf(cost, 1) {
			break
		}
		k = k.pruned(r)
		c := leastCurve{duck: r.duck(k), knots: k, asked: asked}
		clear := full.judgeHits(c.duck)
		if c.worst = worst(clear); c.worst < goal.Clearance && c.worst > goal.Clearance-fitLeeway {
			t.touch(full, &c, r, goal)
			clear = full.judgeHits(c.duck)
			c.worst = worst(clear)
		}
		c.reached = c.worst >= goal.Clearance
		c.loss = t.exact(c.duck).loss
		if best.duck == nil || c.reached && (!best.reached || c.loss < best.loss) || !c.reached && !best.reached && c.worst > best.worst {
			best = c
		}
		starts = []knots{c.knots}
		mod = t.around(r, c.duck)
		mod.correct(c.duck, clear)
		if anew = !c.reached; anew { // from other places too, and with the hits that the real filters find hard
			var b bounded
			b, asked = mod.choose(goal.Clearance+margin, &warm)
			starts = append([]knots{c.knots, tracing(mod, b.u, r)}, plain(m, r)...)
		} else if round > 0 && (c.worst < goal.Clearance+margin+fitClose || c.loss > best.loss+1e-9) {
			b := mod.solve(goal.Clearance, asked, &warm)
			if again == fitAgain || c.loss < lossDB(math.Max(0, b.least))+fitGap {
				break
			}
			again, anew, starts = again+1, true, append([]knots{c.knots, tracing(mod, b.u, r), best.knots}, plain(m, r)...)
		}
	}
	if best.duck == nil || full.failed(goal) != nil {
		return l
	}
	l = best
	for range fitTouches { // the whole signal, filters' ringing and all
		c := full.clearances(l.duck)
		l.p10, l.worst = meter.Percentile(c, 1-Share), worst(c)
		l.reached = l.worst >= goal.Clearance
		if l.reached || l.worst < goal.Clearance-fitLeeway || !t.touch(full, &l, r, Goal{Clearance: 2*goal.Clearance - l.worst + margin}) {
			break
		}
	}
	low := t.exact(l.duck).loss
	mod = t.around(r, l.duck)
	clear := full.judgeHits(l.duck)
	mod.correct(l.duck, clear)
	b := mod.solve(goal.Clearance, asked, &warm)
	l.loss = dsp.PowerDB(full.low / math.Max(1e-30, full.lowEnergy(l.duck)))
	l.bound = math.Min(l.loss, math.Max(0, lossDB(math.Max(0, b.least))+l.loss-low))
	return l
}

// touch scales a curve, in small steps, until it reaches the goal at the full rate; it reports whether it does.
func (t *trial) touch(full *whole, l *leastCurve, r room, goal Goal) bool {
	k := l.knots
	gained := math.Max(1, l.worst-worst(full.judgeHits(&move.Duck{}))) // in decibels it goes nearly straight
	scale := 1.0
	for range touchMost {
		scale *= 1.001 + 1.1*math.Max(0, goal.Clearance-l.worst)/gained
		c := k.scaled(scale, r)
		d := r.duck(c)
		if l.worst = worst(full.judgeHits(d)); l.worst >= goal.Clearance {
			l.knots, l.duck = c, d
			return true
		}
	}
	return false
}

// touchMost is how often a curve is deepened to reach what it nearly does.
const touchMost = 5

// correct puts the model right by the clearances that were measured for the curve that it was taken around.
func (m *model) correct(d *move.Duck, clear []meter.Figure) {
	u := make([]float64, m.steps())
	for j := range u {
		u[j] = math.Pow(10, d.GainDB((float64(m.first+j)+0.5)*boundStep)/10)
	}
	for i, c := range clear {
		if e := m.energy(i, u); c.Valid() && e > 0 && m.kick[i] > 0 {
			by := math.Pow(10, float64(c)/10) * e / m.kick[i]
			if by > 0.5 && by < 2 {
				m.kick[i] *= by // the energy of the bass may be seen otherwise at another rate
			}
		}
	}
}

// plain are simple curves to begin with: down, held over the window or a part of it, and back.
func plain(m *meter.HitMeter, r room) []knots {
	var w []meter.Figure
	for _, n := range m.Windows {
		w = append(w, meter.Figure(1000*float64(n)/float64(m.Rate)))
	}
	window, back := float64(meter.Median(w)), r.back
	var out []knots
	for _, s := range []struct {
		part float64
		late bool
	}{{0.9, r.late}, {0.5, r.late}, {0.9, true}} {
		d, hold := r.cap*0.7, s.part*window
		pre := d / knotsFall
		at := []float64{-pre, 0, hold / 2, hold, hold + back/2, hold + back + 1}
		if s.late {
			at[0], at[1], at[2] = 0, pre, math.Max(pre+1, hold/2)
		}
		out = append(out, knots{at, []float64{0, d, d, d, d / 2, 0}}.ruly(r))
	}
	return out
}
