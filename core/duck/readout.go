// Package duck judges and fits the gain that gets the bass out of the kick's way.
package duck

import (
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

const (
	backDB   = -0.5 // dB: a gain over this counts as back
	deepDB   = -3.0 // dB: the share of time under this is told
	clickDB  = 3.0  // dB/ms: steeper slopes may click (3-sound)
	slopeGap = 1e-3 // ms between the points at which a slope is taken
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
func (r Readout) Clicks() bool { return float64(r.Steepest) > clickDB }

// Sides are kick and bass on one side of a duck.
type Sides struct {
	Loudness meter.Figure // of the bass part over the window, LUFS
	Low      float64      // energy of its mono sum in 20-150 Hz
	SumPeak  meter.Figure // of kick and bass, dBFS
}

// Read works the readouts out for a duck at the hits of m, from the bass before and after. gain is
// what it does over the range of m, as amplitude.
func Read(d *move.Duck, bpm float64, m *meter.HitMeter, gain []float32, before, after Sides) (Readout, error) {
	at, err := d.AtTempo(bpm)
	if err != nil {
		return Readout{}, err
	}
	r := Readout{
		BassLoss:    before.Loudness - after.Loudness,
		BassLossLow: meter.None,
		Depth:       meter.Figure(at.Depth()),
		Steepest:    meter.Figure(steepest(at)),
		Freed:       before.SumPeak - after.SumPeak,
	}
	if at.Keyed() {
		r.Depth, r.Steepest = trace(gain, m.Rate)
	}
	if before.Low > 0 && after.Low > 0 {
		r.BassLossLow = meter.Figure(dsp.PowerDB(before.Low / after.Low))
	}
	deep, under := float32(dsp.Gain(deepDB)), 0
	for _, g := range gain {
		if g < deep {
			under++
		}
	}
	r.Share = meter.Figure(100 * float64(under) / float64(len(gain)))
	for i, h := range m.Hits {
		if i+1 == len(m.Hits) && m.Open {
			break
		}
		r.Of++
		free := false
		if at.Keyed() { // what comes ahead of the next hit is that hit's
			k := h + m.Gaps[i] - m.Range.From - int((at.Comp.Lookahead+backMargin)*float64(m.Rate)/1000)
			free = k < 0 || k >= len(gain) || gain[k] > float32(dsp.Gain(backDB))
		} else {
			free = back(at, 1000*float64(m.Gaps[i])/float64(m.Rate))
		}
		if free {
			r.Back++
		} else {
			r.Late = append(r.Late, float64(h+m.Offset)/float64(m.Rate))
		}
	}
	return r, nil
}

// traceStep is the time over which the slope of a measured gain is taken, s.
const traceStep = 0.00025

// trace returns the deepest gain in dB and the steepest slope in dB a ms of a measured gain.
func trace(gain []float32, rate int) (depth, slope meter.Figure) {
	n := max(1, int(traceStep*float64(rate)))
	last := 0.0
	for i := 0; i < len(gain); i += n {
		db := dsp.DB(max(float64(gain[i]), 1e-6))
		depth = min(depth, meter.Figure(db))
		if i > 0 {
			slope = max(slope, meter.Figure(math.Abs(db-last)*float64(rate)/float64(n)/1000))
		}
		last = db
	}
	return depth, slope
}

// back reports whether a hit's own duck has let go a gap (ms) later, and stays so: the next
// hit's own pre-roll is not held against it.
func back(d *move.Duck, gap float64) bool {
	if d.GainDB(gap) <= backDB {
		return false
	}
	for _, p := range d.Points {
		if p.MS > gap && p.DB <= backDB {
			return false
		}
	}
	return true
}

// steepest returns the largest change of gain in dB a ms. A segment bends one way only, so
// its steepest place is one of its ends.
func steepest(d *move.Duck) float64 {
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
