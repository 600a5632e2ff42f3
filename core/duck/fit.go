package duck

import (
	"context"
	"fmt"
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
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

	ctx context.Context // of whoever asks; nil: nobody can go away
}

// goalOf is what a song asks for, as long as ctx lasts.
func goalOf(ctx context.Context, song *session.Song) Goal {
	t := song.Targets
	return Goal{Clearance: t.Clearance, MaxDepth: t.MaxDepth, NoAhead: t.NoAhead, Follow: t.Follow && song.Leader == session.KickLeads, ctx: ctx}
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

// trial is the bass at a low rate, with what is needed to judge a duck quickly. Filters are
// linear: filter(b g) = filter(b) + filter(b (g-1)), and g differs from 1 near hits only.
type trial struct {
	fs         float64
	bass       []float32
	home, wide []float32
	homeSOS    []dsp.Biquad
	wideSOS    []dsp.Biquad // nil: losses are not asked for
	hits       []int
	windows    []int
	gaps       []float64 // ms to the next hit; +Inf where there is none
	kick       []float64 // energy at each hit, scaled to this rate
	low        float64   // energy of wide
	from, to   int
}

// workFactor is by how much the rate is lowered to try shapes.
func workFactor(m *meter.HitMeter) int {
	_, hi := meter.HomeBand(m.HomeHz)
	return max(1, m.Rate/max(workRate, int(workOver*hi)))
}

// newTrial prepares for trials at the rate of m over factor; with 1 they are as exact as the
// end of the filters' ringing lets them be.
func newTrial(m *meter.HitMeter, bass meter.Sound, factor int) (*trial, error) {
	lo, hi := meter.HomeBand(m.HomeHz)
	fs := float64(m.Rate) / float64(factor)
	t := &trial{fs: fs}
	var err error
	if t.bass, err = slowed(bass, m.Rate, factor); err != nil {
		return nil, err
	}
	if t.homeSOS, err = dsp.Bandpass(lo, hi, fs); err != nil {
		return nil, err
	}
	t.home = make([]float32, len(t.bass))
	dsp.NewFilter(t.homeSOS).Process(t.home, t.bass)
	t.from, t.to = m.Range.From/factor, min(m.Range.To/factor, len(t.bass))
	for i, h := range m.Hits {
		t.hits = append(t.hits, h/factor)
		t.windows = append(t.windows, m.Windows[i]/factor)
		t.gaps = append(t.gaps, gapOf(m, i))
		t.kick = append(t.kick, m.Home[i]/float64(factor))
	}
	return t, nil
}

// gapOf is how long after a hit its duck has, ms: +Inf where none follows.
func gapOf(m *meter.HitMeter, hit int) float64 {
	if hit+1 == len(m.Hits) && m.Open {
		return math.Inf(1)
	}
	return m.GapMS(hit)
}

// slowed returns a sound at its rate over factor, aligned.
func slowed(s meter.Sound, rate, factor int) ([]float32, error) {
	if factor == 1 {
		return meter.Samples(s)
	}
	fs := float64(rate) / float64(factor)
	lp, err := dsp.ButterworthLowpass(8, 0.35*fs, float64(rate))
	if err != nil {
		return nil, err
	}
	filter := dsp.NewFilter(lp)
	out := make([]float32, 0, (s.Frames()+factor-1)/factor)
	next := int(math.Round(butterworth8Delay / (2 * math.Pi * 0.35 * fs) * float64(rate))) // of the stretch
	var low []float32
	last := float32(0)
	err = s.Read(func(x []float32) error {
		low = append(low[:0], x...)
		filter.Process(low, low)
		for ; next < len(low) && len(out) < cap(out); next += factor {
			out = append(out, low[next])
		}
		next -= len(low)
		last = low[len(low)-1]
		return nil
	})
	for len(out) < cap(out) {
		out = append(out, last)
	}
	return out, err
}

// withLosses makes the trial judge the loss of bass too.
func (t *trial) withLosses() error {
	var err error
	if t.wideSOS, err = meter.WideBand(t.fs); err != nil {
		return err
	}
	t.wide = make([]float32, len(t.bass))
	dsp.NewFilter(t.wideSOS).Process(t.wide, t.bass)
	for _, v := range t.wide[t.from:t.to] {
		t.low += float64(v) * float64(v)
	}
	return nil
}

// judged is how a duck does: the clearance that counts and the bass it takes.
type judged struct{ clearance, loss float64 }

// judge tries a duck at every hit.
func (t *trial) judge(d *move.Duck) judged {
	clear, lost := t.judgeHits(d)
	j := judged{clearance: worst(clear)}
	if t.low > 0 {
		sum := 0.0
		for _, v := range lost {
			sum += v
		}
		j.loss = t.lossOf(sum)
	}
	return j
}

// lossOf returns the loss in dB for a change of the energy in 20-150 Hz.
func (t *trial) lossOf(change float64) float64 {
	return -dsp.PowerDB(math.Max(1e-9, 1+change/t.low))
}

// cuts is the gain less 1 of a duck at a rate in Hz, from frame first (after the hit) on.
func cuts(d *move.Duck, fs float64) (cut []float32, first int) {
	from, to := d.Span()
	first, last := int(math.Floor(from*fs/1000)), int(math.Ceil(to*fs/1000))
	cut = make([]float32, last-first+1)
	for i := range cut {
		cut[i] = float32(dsp.Gain(d.GainDB(1000*float64(first+i)/fs)) - 1)
	}
	return cut, first
}

// judgeHits tries a duck: the clearance of every hit, and by how much each changes the energy of the bass
// in 20-150 Hz.
func (t *trial) judgeHits(d *move.Duck) (clear []meter.Figure, lost []float64) {
	whole, first := cuts(d, t.fs)
	ring := int(ringing * t.fs)
	diff := make([]float32, len(whole)+ring)
	h, w := make([]float32, len(diff)), make([]float32, len(diff))
	lost = make([]float64, len(t.hits))
	clear = make([]meter.Figure, len(t.hits))
	for i, hit := range t.hits {
		base, cut := hit+first, whole
		if c := d.For(t.gaps[i]); c != d {
			cut, _ = cuts(c, t.fs)
		}
		n := min(len(diff), len(t.bass)-base)
		if i+1 < len(t.hits) { // the next duck's own part is counted there
			n = min(n, t.hits[i+1]-hit)
		}
		for k := range n {
			diff[k] = 0
			if k < len(cut) && base+k >= 0 {
				diff[k] = t.bass[base+k] * cut[k]
			}
		}
		if t.wideSOS == nil { // what rings after the window is not asked for
			n = min(n, t.windows[i]-first)
		}
		dsp.NewFilter(t.homeSOS).Process(h[:n], diff[:n])
		sum := 0.0
		for k := range t.windows[i] {
			v := float64(t.home[min(hit+k, len(t.home)-1)])
			if j := k - first; j >= 0 && j < n {
				v += float64(h[j])
			}
			sum += v * v
		}
		clear[i] = meter.Clearance(t.kick[i], sum)
		if t.wideSOS == nil {
			continue
		}
		dsp.NewFilter(t.wideSOS).Process(w[:n], diff[:n])
		for k := range n {
			if at := base + k; at >= t.from && at < t.to {
				a, b := float64(t.wide[at]), float64(w[k])
				lost[i] += b * (2*a + b)
			}
		}
	}
	return clear, lost
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

// Fit finds the duck that reaches the goal with the least loss of bass in 20-150 Hz: the
// depth at most the cap, the gain back before the next hit, no slope that clicks, back over at
// least a period of the kick's fundamental. bass is the mono bass over the signal that m was made for.
func Fit(m *meter.HitMeter, bass meter.Sound, goal Goal) (Fitted, error) {
	before, err := m.MeasureOf(bass)
	if err != nil {
		return Fitted{}, err
	}
	t, err := lowTrial(m, bass)
	if err != nil {
		return Fitted{}, err
	}
	return t.fit(m, before, bass, goal)
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
		f.Reason = fmt.Sprintf("%.1f dB of duck, %s, lets the kick clear the bass by %.1f dB in 9 of 10 hits. %.2f dB of bass are lost; no curve that goes down once %sdoes it with less than %.2f.",
			deep, back, goal.Clearance, l.loss, alike, l.bound)
		return f, nil
	}
	f.Bound = meter.None // of what is not reached
	if goal.ctx != nil {
		mix.Doing(goal.ctx, "Looking for what stops the fit")
	}
	f.Reason = t.inTheWay(full, goal, l)
	return f, full.failed(goal)
}

// soonest is when a duck is back at the hit that gives it the least time, ms.
func soonest(d *move.Duck, m *meter.HitMeter) float64 {
	_, soon := d.Span()
	for i := range m.Hits {
		_, end := d.For(gapOf(m, i)).Span()
		soon = math.Min(soon, end)
	}
	return soon
}

// fitParts are the parts of the cap that are tried where the whole of it leads nowhere.
var fitParts = []float64{0.75, 0.5}

// reach is least, and where that does not reach the goal, what a part of the cap leads to: what a lower cap lets be
// drawn, a higher one does too.
func (t *trial) reach(full *whole, goal Goal) leastCurve {
	l := t.least(full, goal)
	for _, part := range fitParts {
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
