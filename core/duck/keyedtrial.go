package duck

import (
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/pair"
)

// keyedTrial tries keyed ducks at a low rate: the key's envelope, the bass, its band.
type keyedTrial struct {
	*trial
	env    []float64 // level of the key, dB: the largest of each step
	peak   float64   // of it, dB
	window float64   // ms, the kick's median one
	rise   float64   // ms from a hit until the key has risen, median
	ends   []int     // frame of the next hit, for every hit that has one
	scale  float64   // ms a frame
	more   bool      // more is tried
}

// newKeyedTrial adds the key to a trial that was made for m.
func newKeyedTrial(t *trial, m *meter.HitMeter, key meter.Sound, filter *move.KeyFilter) (*keyedTrial, error) {
	factor := workFactor(m)
	sections, err := filter.Filters(float64(m.Rate))
	if err != nil {
		return nil, err
	}
	k := &keyedTrial{trial: t, env: make([]float64, len(t.bass)), scale: 1000 / t.fs}
	heard := dsp.NewFilter(sections)
	top, at := 0.0, 0
	var y []float32
	err = key.Read(func(x []float32) error {
		y = append(y[:0], x...)
		heard.Process(y, y)
		for len(y) > 0 && at/factor < len(k.env) {
			n := min(factor-at%factor, len(y))
			v := float64(meter.Peak(y[:n]))
			k.env[at/factor] = max(k.env[at/factor], v)
			top, at, y = max(top, v), at+n, y[n:]
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for i, v := range k.env {
		k.env[i] = dsp.DB(max(v, 1e-6))
	}
	k.peak = dsp.DB(max(top, 1e-6))
	var rises []meter.Figure
	for i, h := range t.hits {
		for n := h; n < min(h+t.windows[i], len(k.env)); n++ {
			if k.env[n] >= k.peak-keyRise {
				rises = append(rises, meter.Figure(float64(n-h)*k.scale))
				break
			}
		}
	}
	var windows []meter.Figure
	for _, w := range m.Windows {
		windows = append(windows, meter.Figure(1000*float64(w)/float64(m.Rate)))
	}
	k.window = float64(meter.Median(windows))
	if r := meter.Median(rises); r.Valid() {
		k.rise = float64(r)
	}
	for i, h := range m.Hits {
		if i+1 < len(m.Hits) || !m.Open {
			k.ends = append(k.ends, (h+m.Gaps[i])/factor)
		}
	}
	return k, nil
}

// keyedJudged is how a keyed duck does.
type keyedJudged struct {
	judged
	depth float64 // dB, 0 or more
	back  bool    // before every next hit
}

// base is the bass split into what a duck lowers and what it leaves, filtered for judging.
type base struct {
	part       []float32 // what is lowered
	home, wide []float32 // of all of it, at a gain of 1
	low        float64   // energy of wide over the range that is judged
	clearance  float64   // of the kick, at a gain of 1
}

// base splits the bass for a band; nil is all of it.
func (t *keyedTrial) base(b *move.Band) *base {
	if b == nil {
		return &base{part: t.bass, home: t.home, wide: t.wide, low: t.low, clearance: t.clearance(t.home, nil)}
	}
	out := &base{part: t.part(b), home: t.home, wide: t.wide, low: t.low}
	if b.Shape == "below" { // an open crossover turns phases: that is what there is then
		whole := append([]float32(nil), out.part...)
		if _, high, err := dsp.LinkwitzRiley(b.Hz, t.fs); err == nil {
			rest := make([]float32, len(t.bass))
			dsp.NewFilter(high).Process(rest, t.bass)
			for i, v := range rest {
				whole[i] += v
			}
		}
		out.home, out.wide = make([]float32, len(whole)), make([]float32, len(whole))
		dsp.Process2(dsp.NewFilter(t.homeSOS), out.home, whole, dsp.NewFilter(t.wideSOS), out.wide, whole)
	}
	out.clearance = t.clearance(out.home, nil)
	return out
}

// clearance returns the clearance that counts over a bass in the home band, with what a duck changes
// of it, nil for nothing.
func (t *keyedTrial) clearance(home, change []float32) float64 {
	clear := make([]meter.Figure, len(t.hits))
	for i, hit := range t.hits {
		sum := 0.0
		for k := hit; k < min(hit+t.windows[i], len(home)); k++ {
			v := float64(home[k])
			if change != nil {
				v += float64(change[k])
			}
			sum += v * v
		}
		clear[i] = meter.Clearance(t.kick[i], sum)
	}
	return worst(clear)
}

// judgeKeyed tries a keyed duck on its base; losses are worked out where they are asked for.
func (t *keyedTrial) judgeKeyed(d *move.Duck, b *base, losses bool) keyedJudged {
	bound := 0.0
	if d.School == move.BandSchool {
		bound = d.Band.Range
	}
	det := move.NewDetector(*d.Comp, bound, t.fs)
	ahead := int(math.Round(d.Comp.Lookahead / t.scale))
	early := ahead + int(math.Ceil(pair.BackMargin/t.scale))
	out := keyedJudged{back: true}
	diff := make([]float32, len(t.bass))
	end := 0 // of t.ends
	for i := range len(t.env) + ahead {
		v := -120.0
		if i < len(t.env) {
			v = t.env[i]
		}
		db := det.NextLevel(v)
		out.depth = max(out.depth, -db)
		at := i - ahead // the gain comes ahead of what it was worked out of
		if at < 0 {
			continue
		}
		if db < -trialStill && at < len(b.part) {
			diff[at] = b.part[at] * (dsp.LevelGain(db) - 1)
		}
		for ; end < len(t.ends) && t.ends[end]-early <= at; end++ {
			if t.ends[end]-early == at && at > 0 && db <= pair.BackDB {
				out.back = false
			}
		}
	}
	h, w := diff, []float32(nil)
	if losses {
		h, w = make([]float32, len(diff)), make([]float32, len(diff))
		dsp.Process2(dsp.NewFilter(t.homeSOS), h, diff, dsp.NewFilter(t.wideSOS), w, diff)
	} else {
		dsp.NewFilter(t.homeSOS).Process(h, diff)
	}
	out.clearance = t.clearance(b.home, h)
	if !losses {
		return out
	}
	after := 0.0
	for k := t.from; k < t.to; k++ {
		v := float64(b.wide[k]) + float64(w[k])
		after += v * v
	}
	out.loss = -dsp.PowerDB(math.Max(1e-9, after/t.low))
	return out
}

// part returns the band of the bass that a dip lowers, at the trial's rate.
func (t *keyedTrial) part(b *move.Band) []float32 {
	out := make([]float32, len(t.bass))
	if b.Shape == "bell" {
		if s, err := dsp.BandpassRBJ(b.Hz, b.Q, t.fs); err == nil {
			dsp.NewFilter([]dsp.Biquad{s}).Process(out, t.bass)
		}
		return out
	}
	if low, _, err := dsp.LinkwitzRiley(b.Hz, t.fs); err == nil {
		dsp.NewFilter(low).Process(out, t.bass)
	}
	return out
}
