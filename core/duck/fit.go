package duck

import (
	"fmt"
	"math"
	"sync"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Share is the part of the hits that must reach the target.
const Share = 0.9

const (
	attackSlope = 1.5  // dB/ms, the steepest pre-roll that the fit draws: half of what may click
	attackLeast = 4.0  // ms
	letGo       = 1.0  // ms kept free before the next hit
	margin      = 0.02 // dB over the target, for rounding in a 24-bit file
	deepest     = 24.0 // dB, the depth up to which the trade-off is drawn
	fullCut     = 48.0 // dB, for asking whether more depth would do it
	workRate    = 1200 // Hz, the least rate at which shapes are tried
	workOver    = 8    // times the top of the home band, likewise
	ringing     = 0.1  // s for which the filters ring after a change
	edgeRelease = 1.5  // periods of the kick's fundamental: the shortest release, so that it does not thump
)

// Goal is what a fit is asked for.
type Goal struct {
	Clearance float64 // dB, in Share of the hits
	MaxDepth  float64 // dB
	NoAhead   bool    // the duck may not begin before the hit
}

func goalOf(song *session.Song) Goal {
	t := song.Targets
	return Goal{Clearance: t.Clearance, MaxDepth: t.MaxDepth, NoAhead: t.NoAhead}
}

// Fitted is the result of a fit.
type Fitted struct {
	Needed  bool
	Reached bool
	Duck    *move.Duck   // nil where none is needed
	P10     meter.Figure // clearance in the worst tenth with it, measured at full rate
	Reason  string       // one sentence
	Trade   []Trade
}

// Trade is one point of the trade-off: what a target would cost.
type Trade struct {
	Clearance float64 // dB asked
	Loss      float64 // dB of bass in 20-150 Hz
	Depth     float64 // dB
}

// shape is a duck of the kind the fit draws, in ms: down within the pre-roll (or from the hit on, where
// it is late), held, and back.
type shape struct {
	hold, release float64
	late          bool
}

func (s shape) duck(depth float64) *move.Duck {
	pre := math.Max(attackLeast, depth/attackSlope)
	if s.late {
		hold := math.Max(s.hold, pre+1)
		return &move.Duck{School: "curve", Points: []move.Point{
			{MS: 0, DB: 0}, {MS: tenth(pre), DB: -depth}, {MS: tenth(hold), DB: -depth}, {MS: tenth(hold + s.release), DB: 0},
		}}
	}
	return &move.Duck{School: "curve", Points: []move.Point{
		{MS: -tenth(pre), DB: 0}, {MS: 0, DB: -depth}, {MS: tenth(s.hold), DB: -depth}, {MS: tenth(s.hold + s.release), DB: 0},
	}}
}

func tenth(v float64) float64 { return math.Round(v*10) / 10 }

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
func newTrial(m *meter.HitMeter, bass []float32, factor int) (*trial, error) {
	lo, hi := meter.HomeBand(m.HomeHz)
	fs := float64(m.Rate) / float64(factor)
	t := &trial{fs: fs, bass: bass}
	if factor > 1 {
		lp, err := dsp.ButterworthLowpass(8, 0.35*fs, float64(m.Rate))
		if err != nil {
			return nil, err
		}
		low := make([]float32, len(bass))
		dsp.NewFilter(lp).Process(low, bass)
		t.bass = make([]float32, (len(low)+factor-1)/factor)
		for i := range t.bass {
			t.bass[i] = low[i*factor]
		}
	}
	var err error
	if t.homeSOS, err = dsp.Bandpass(lo, hi, fs); err != nil {
		return nil, err
	}
	t.home = make([]float32, len(t.bass))
	dsp.NewFilter(t.homeSOS).Process(t.home, t.bass)
	t.from, t.to = m.Range.From/factor, min(m.Range.To/factor, len(t.bass))
	for i, h := range m.Hits {
		t.hits = append(t.hits, h/factor)
		t.windows = append(t.windows, m.Windows[i]/factor)
		t.kick = append(t.kick, m.Home[i]/float64(factor))
	}
	return t, nil
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

// judgeHits tries a duck: the clearance of every hit, and by how much each changes the energy of the bass
// in 20-150 Hz.
func (t *trial) judgeHits(d *move.Duck) (clear []meter.Figure, lost []float64) {
	from, to := d.Span()
	first, last := int(math.Floor(from*t.fs/1000)), int(math.Ceil(to*t.fs/1000))
	cut := make([]float32, last-first+1) // g - 1
	for i := range cut {
		cut[i] = float32(dsp.Gain(d.GainDB(1000*float64(first+i)/t.fs)) - 1)
	}
	ring := int(ringing * t.fs)
	diff := make([]float32, len(cut)+ring)
	h, w := make([]float32, len(diff)), make([]float32, len(diff))
	lost = make([]float64, len(t.hits))
	clear = make([]meter.Figure, len(t.hits))
	for i, hit := range t.hits {
		base := hit + first
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
		dsp.NewFilter(t.homeSOS).Process(h[:n], diff[:n])
		sum := 0.0
		for k := range t.windows[i] {
			v := float64(t.home[min(hit+k, len(t.home)-1)])
			if j := k - first; j < n {
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

// tried is a shape with how it does at each depth.
type tried struct {
	shape
	at []judged // at depths[i]
}

var depths = []float64{0, 2, 4, 6, 9, 12, 17, deepest}

// Fit finds the duck that reaches the goal with the least loss of bass in 20-150 Hz: the
// depth at most the cap, the gain back before the next hit, no slope that clicks. bass is
// the mono bass over the signal that m was made for.
func Fit(m *meter.HitMeter, bass []float32, goal Goal) (Fitted, error) {
	t, err := lowTrial(m, bass)
	if err != nil {
		return Fitted{}, err
	}
	return t.fit(m, m.Measure(bass), bass, goal)
}

// lowTrial prepares for trials at the low rate, losses included.
func lowTrial(m *meter.HitMeter, bass []float32) (*trial, error) {
	t, err := newTrial(m, bass, workFactor(m))
	if err == nil {
		err = t.withLosses()
	}
	return t, err
}

// fit is Fit where the figures before are known, on the trial made for m and bass.
func (t *trial) fit(m *meter.HitMeter, before meter.HitFigures, bass []float32, goal Goal) (Fitted, error) {
	if t.low <= 0 {
		return Fitted{P10: before.ClearanceP10, Reason: "No duck needed: the bass is silent here."}, nil
	}
	shapes := t.shapes(m, goal.NoAhead)
	table := t.try(shapes)
	f := Fitted{P10: before.ClearanceP10, Trade: tradeOff(table)}
	now := worst(clearances(before))
	if now >= goal.Clearance {
		f.Reason = fmt.Sprintf("No duck needed: the kick clears the bass by %.1f dB in the worst tenth of hits; %.1f dB is asked.",
			float64(before.ClearanceP10), goal.Clearance)
		return f, nil
	}
	f.Needed = true
	best, depth, ok := t.cheapest(table, goal)
	if !ok {
		return t.bestReachable(m, f, table, bass, goal)
	}
	depth, reached, err := settle(m, best, depth, bass, goal)
	if err != nil {
		return Fitted{}, err
	}
	if !reached {
		return t.bestReachable(m, f, table, bass, goal)
	}
	f.Duck, f.Reached = best.duck(depth), true
	f.P10 = meter.Percentile(m.Clearances(apply(m, f.Duck, bass)), 1-Share)
	f.Reason = fmt.Sprintf("%.1f dB of duck, held for %.0f ms and back by %.0f ms, lets the kick clear the bass by %.1f dB in 9 of 10 hits.",
		depth, best.hold, best.hold+best.release, goal.Clearance)
	return f, nil
}

// settle finds the least depth of a shape, in tenths of a dB, that reaches the goal at the
// full rate; the trial ran at a low one and came near it. The last word has the whole signal.
func settle(m *meter.HitMeter, s shape, depth float64, bass []float32, goal Goal) (float64, bool, error) {
	t, err := newTrial(m, bass, 1)
	if err != nil {
		return 0, false, err
	}
	reaches := func(tenths int) bool {
		return t.judge(s.duck(float64(tenths)/10)).clearance >= goal.Clearance+margin
	}
	most := int(goal.MaxDepth*10 + 1e-6)
	at := min(int(math.Ceil(depth*10)), most)
	for at < most && !reaches(at) {
		at++
	}
	for at > 1 && reaches(at-1) {
		at--
	}
	for ; at <= most; at++ {
		if worst(m.Clearances(apply(m, s.duck(float64(at)/10), bass))) >= goal.Clearance+margin {
			return float64(at) / 10, true, nil
		}
	}
	return 0, false, nil
}

func clearances(f meter.HitFigures) []meter.Figure {
	c := make([]meter.Figure, len(f.Hits))
	for i, h := range f.Hits {
		c[i] = h.Clearance
	}
	return c
}

// apply lowers a bass by a duck at the hits that are judged.
func apply(m *meter.HitMeter, d *move.Duck, bass []float32) []float32 {
	out := make([]float32, len(bass))
	gain, err := d.Gain(move.Place{Rate: m.Rate, BPM: 120, Hits: m.Hits}, len(bass))
	if err != nil {
		return append(out[:0], bass...) // the fit's own shapes are valid
	}
	for i, v := range bass {
		out[i] = v * gain[i]
	}
	return out
}

// shapes lists the holds and releases worth trying: around the window in which clearance is
// judged, none longer than the shortest gap.
func (t *trial) shapes(m *meter.HitMeter, late bool) []shape {
	toMS := 1000 / float64(m.Rate)
	window, gap := 0.0, math.Inf(1)
	var w []meter.Figure
	for i := range m.Hits {
		w = append(w, meter.Figure(float64(m.Windows[i])*toMS))
		if i+1 < len(m.Hits) || !m.Open {
			gap = math.Min(gap, float64(m.Gaps[i])*toMS-letGo)
		}
	}
	window = float64(meter.Median(w))
	period := edgeRelease * 1000 / m.HomeHz
	var out []shape
	seen := map[shape]bool{}
	for _, release := range []float64{period, 1.7 * period, 3 * period} {
		for _, part := range []float64{0.35, 0.55, 0.7, 0.8, 0.9, 1} {
			s := shape{tenth(part * window), tenth(release), late}
			if s.hold+s.release > gap {
				s.release = tenth(math.Min(s.release, math.Max(gap*0.4, 2)))
				s.hold = tenth(gap - s.release)
			}
			if s.hold > 0 && !seen[s] {
				seen[s] = true
				out = append(out, s)
			}
		}
	}
	return out
}

// try judges every shape at every depth, on all processors.
func (t *trial) try(shapes []shape) []tried {
	table := make([]tried, len(shapes))
	var wg sync.WaitGroup
	plain := t.judge(shape{hold: 1, release: 1}.duck(0))
	for i, s := range shapes {
		table[i] = tried{shape: s, at: make([]judged, len(depths))}
		table[i].at[0] = judged{clearance: plain.clearance} // no depth, no loss
		wg.Go(func() {
			for k, d := range depths[1:] {
				table[i].at[k+1] = t.judge(s.duck(d))
			}
		})
	}
	wg.Wait()
	return table
}

// depthFor returns the depth at which a shape reaches a clearance, and its loss there.
func (s tried) depthFor(clearance float64) (depth, loss float64, ok bool) {
	for k := range s.at {
		if s.at[k].clearance < clearance {
			continue
		}
		if k == 0 {
			return 0, 0, true
		}
		a, b := s.at[k-1], s.at[k]
		u := (clearance - a.clearance) / (b.clearance - a.clearance)
		return depths[k-1] + u*(depths[k]-depths[k-1]), a.loss + u*(b.loss-a.loss), true
	}
	return 0, 0, false
}

// cheapest returns the shape that reaches the goal within the cap with the least loss.
func (t *trial) cheapest(table []tried, goal Goal) (best shape, depth float64, ok bool) {
	least := math.Inf(1)
	for _, s := range table {
		d, loss, reach := s.depthFor(goal.Clearance)
		if !reach && goal.MaxDepth > deepest { // deeper than the table goes
			d = goal.MaxDepth
			j := t.judge(s.duck(d))
			reach, loss = j.clearance >= goal.Clearance, j.loss
		}
		if reach && d <= goal.MaxDepth && loss < least {
			best, depth, least, ok = s.shape, d, loss, true
		}
	}
	return best, depth, ok
}

// bestReachable draws the duck that comes nearest to the goal, and says what stands in the way.
func (t *trial) bestReachable(m *meter.HitMeter, f Fitted, table []tried, bass []float32, goal Goal) (Fitted, error) {
	best, top := shape{}, math.Inf(-1)
	deeper, least := math.Inf(1), goal.Clearance
	for _, s := range table {
		if c := t.judge(s.duck(goal.MaxDepth)).clearance; c > top {
			best, top = s.shape, c
		}
		if d, _, ok := s.depthFor(goal.Clearance); ok {
			deeper = math.Min(deeper, d)
		}
	}
	f.Reached = false
	if len(table) == 0 || goal.MaxDepth <= 0 {
		f.Reason = "No duck can be drawn: the cap is 0 dB, or the hits follow each other too closely."
		return f, nil
	}
	f.Duck = best.duck(goal.MaxDepth)
	f.P10 = meter.Percentile(m.Clearances(apply(m, f.Duck, bass)), 1-Share)
	reached := fmt.Sprintf("%.1f dB cannot be reached in 9 of 10 hits: the worst tenth comes to %.1f dB.", least, float64(f.P10))
	full := math.Inf(-1)
	for _, s := range table {
		full = math.Max(full, t.judge(s.duck(fullCut)).clearance)
	}
	switch {
	case !math.IsInf(deeper, 1):
		f.Reason = fmt.Sprintf("%s The cap of %.1f dB stops it; about %.1f dB of depth would do.", reached, goal.MaxDepth, math.Max(deeper, goal.MaxDepth+0.1))
	case full >= goal.Clearance:
		f.Reason = fmt.Sprintf("%s The cap of %.1f dB stops it; it would take more than %.0f dB.", reached, goal.MaxDepth, deepest)
	case t.tight(m):
		f.Reason = reached + " The gap between the closest hits stops it: the duck has to be back before the next one."
	default:
		f.Reason = reached + " The kick is too short or too soft in its own octave for a duck alone: even a full cut is not enough."
	}
	return f, nil
}

// tight reports whether the shortest gap cuts the duck shorter than the kick's window.
func (t *trial) tight(m *meter.HitMeter) bool {
	for i := range m.Hits {
		if m.Gaps[i] < m.Windows[i]+int(float64(m.Rate)*edgeRelease/m.HomeHz) {
			return true
		}
	}
	return false
}

// tradeOff returns the least loss for targets from 0 to 20 dB; it ends where none is reached.
func tradeOff(table []tried) []Trade {
	var out []Trade
	for c := 0.0; c <= 20; c++ {
		best := Trade{Clearance: c, Loss: math.Inf(1)}
		for _, s := range table {
			if d, loss, ok := s.depthFor(c); ok && loss < best.Loss {
				best.Loss, best.Depth = math.Max(0, loss), d
			}
		}
		if math.IsInf(best.Loss, 1) {
			break
		}
		out = append(out, best)
	}
	return out
}
