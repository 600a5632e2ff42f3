package duck

import (
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/pair"
)

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
		t.gaps = append(t.gaps, pair.Gap(m, i))
		t.kick = append(t.kick, m.Home[i]/float64(factor))
	}
	return t, nil
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
