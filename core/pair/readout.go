package pair

import (
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

const (
	BackDB     = -0.5 // dB: a gain over this counts as back
	BackMargin = 1.0  // ms before the next hit by which the gain is back
	deepDB     = -3.0 // dB: the share of time under this is told
	slopeGap   = 1e-3 // ms between the points at which a slope is taken
)

// Readout is what a duck costs and gives, measured on a real render. Where the bass leads, the losses are
// those of the kick, which makes room then.
type Readout struct {
	BassLoss    meter.Figure `json:"bass_loss_lu"`      // of the bass part, K-weighted, whole window
	BassLossLow meter.Figure `json:"bass_loss_low_db"`  // in 20-150 Hz
	Depth       meter.Figure `json:"depth_db"`          // deepest gain
	Share       meter.Figure `json:"share_under_3_pct"` // of the time
	Steepest    meter.Figure `json:"steepest_db_per_ms"`
	Freed       meter.Figure `json:"freed_headroom_db"` // peak of the pair, before minus after
	Back        int          `json:"back"`              // hits at which the gain is back before the next
	Of          int          `json:"of"`                // hits that have a next one
	Late        []float64    `json:"late_s"`            // hits at which it is not
}

// Clicks reports whether the steepest slope may be heard as a click.
func (r Readout) Clicks() bool { return float64(r.Steepest) > move.ClickDB }

// Sides are kick and bass on one side of a duck.
type Sides struct {
	Loudness meter.Figure // of the bass part over the window, LUFS
	Low      float64      // energy of its mono sum in 20-150 Hz
	SumPeak  meter.Figure // of kick and bass, dBFS
}

// Read works the readouts out for a duck at the hits of m, from the bass before and after. gain is
// what it does over the sound that m was made for, as amplitude.
// Long because all readouts come of one pass over the gain.
func Read(d *move.Duck, bpm float64, m *meter.HitMeter, gain meter.Sound, before, after Sides) (Readout, error) {
	at, err := d.AtTempo(bpm)
	if err != nil {
		return Readout{}, err
	}
	r := Readout{
		BassLoss:    before.Loudness - after.Loudness,
		BassLossLow: meter.None,
		Depth:       meter.Figure(at.Depth()),
		Steepest:    meter.Figure(Steepest(at)),
		Freed:       before.SumPeak - after.SumPeak,
	}
	if before.Low > 0 && after.Low > 0 {
		r.BassLossLow = meter.Figure(dsp.PowerDB(before.Low / after.Low))
	}
	// what comes ahead of the next hit is that hit's
	early := 0
	if at.Keyed() {
		early = int((at.Comp.Lookahead + BackMargin) * float64(m.Rate) / 1000)
	}
	free := make([]bool, len(m.Hits)) // of a keyed duck: the gain is back
	for i := range free {
		free[i] = true
	}
	trace := newTrace(m.Rate)
	deep, under, frame, hit := float32(dsp.Gain(deepDB)), 0, 0, 0
	err = gain.Read(func(x []float32) error {
		for ; hit < len(m.Hits); hit++ {
			k := m.Hits[hit] + m.Gaps[hit] - early - frame
			if k >= len(x) {
				break
			}
			free[hit] = k < 0 || k+frame < m.Range.From || k+frame >= m.Range.To || x[k] > float32(dsp.Gain(BackDB))
		}
		from, to := max(m.Range.From-frame, 0), min(m.Range.To-frame, len(x))
		frame += len(x)
		if from >= to {
			return nil
		}
		for _, g := range x[from:to] {
			if g < deep {
				under++
			}
		}
		trace.add(x[from:to])
		return nil
	})
	if err != nil {
		return r, err
	}
	if at.Keyed() {
		r.Depth, r.Steepest = trace.depth, trace.slope
	}
	for i := range m.Hits {
		if c := at.For(Gap(m, i)); c != at {
			r.Steepest = max(r.Steepest, meter.Figure(Steepest(c)))
		}
	}
	r.Share = meter.Figure(100 * float64(under) / float64(m.Range.To-m.Range.From))
	for i, h := range m.Hits {
		if i+1 == len(m.Hits) && m.Open {
			break
		}
		r.Of++
		if at.Keyed() && free[i] || !at.Keyed() && Back(at.For(m.GapMS(i)), m.GapMS(i)) {
			r.Back++
		} else {
			r.Late = append(r.Late, float64(h+m.Offset)/float64(m.Rate))
		}
	}
	return r, nil
}

// traceStep is the time over which the slope of a measured gain is taken, s.
const traceStep = 0.00025

// trace finds the deepest gain in dB and the steepest slope in dB a ms of a measured gain.
type trace struct {
	depth, slope meter.Figure
	rate, step   int
	skip         int     // frames to the next that is looked at
	last         float64 // dB
	begun        bool
}

func newTrace(rate int) *trace {
	return &trace{rate: rate, step: max(1, int(traceStep*float64(rate)))}
}

func (t *trace) add(gain []float32) {
	for ; t.skip < len(gain); t.skip += t.step {
		db := dsp.DB(max(float64(gain[t.skip]), 1e-6))
		t.depth = min(t.depth, meter.Figure(db))
		if t.begun {
			t.slope = max(t.slope, meter.Figure(math.Abs(db-t.last)*float64(t.rate)/float64(t.step)/1000))
		}
		t.last, t.begun = db, true
	}
	t.skip -= len(gain)
}

// Back reports whether a hit's own duck has let go a gap (ms) later, and stays so: the next
// hit's own pre-roll is not held against it.
func Back(d *move.Duck, gap float64) bool {
	if d.GainDB(gap) <= BackDB {
		return false
	}
	for _, p := range d.Points {
		if p.MS > gap && p.DB <= BackDB {
			return false
		}
	}
	return true
}

// Steepest returns the largest change of gain in dB a ms. A segment bends one way only, so
// its steepest place is one of its ends.
func Steepest(d *move.Duck) float64 {
	most := 0.0
	for i := 1; i < len(d.Points); i++ {
		a, b := d.Points[i-1].MS, d.Points[i].MS
		step := math.Min(slopeGap, (b-a)/2)
		for _, t := range []float64{a, b - 2*step} {
			slope := math.Abs(d.GainDB(t+1.5*step)-d.GainDB(t+0.5*step)) / step
			most = math.Max(most, slope)
		}
	}
	return most
}

// Gap is how long after a hit its duck has, ms: +Inf where none follows.
func Gap(m *meter.HitMeter, hit int) float64 {
	if hit+1 == len(m.Hits) && m.Open {
		return math.Inf(1)
	}
	return m.GapMS(hit)
}
