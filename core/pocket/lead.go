package pocket

import (
	"math"

	"mellowthump/core/meter"
)

// leadFrom is how long after the hit the bass is judged from where it leads, s (design, 3-sound).
const leadFrom = 0.060

// EarlyHandover is the handover that is aimed at where the bass leads, ms: own choice, a little
// after the kick's click.
const EarlyHandover = 50.0

// BassLead is how the bass does where it leads: over the kick, in the octave of the note it plays,
// from 60 ms after each hit to the next.
type BassLead struct {
	Clearance []meter.Figure // at each hit; None where no note sounds
	Median    meter.Figure
	P10       meter.Figure
	Handover  meter.Figure // median, ms
}

// Under counts the hits on which the bass misses a target.
func (b BassLead) Under(target float64) int {
	n := 0
	for _, c := range b.Clearance {
		if c.Valid() && float64(c) < target-shown {
			n++
		}
	}
	return n
}

// MeasureLead judges the bass against the kick where it leads. line is the bass's own, in seconds of
// the song; f are the figures of the same pair.
func MeasureLead(m *meter.HitMeter, bass []float32, line []meter.BassNote, f meter.HitFigures) BassLead {
	out := BassLead{Clearance: make([]meter.Figure, len(m.Hits)), Handover: f.HandoverMedian}
	byNote := map[float64][]int{} // hits by the pitch that sounds, to a semitone
	for i, h := range m.Hits {
		out.Clearance[i] = meter.None
		at := float64(h+m.Offset)/float64(m.Rate) + leadFrom
		if n := noteAt(line, at); n != nil {
			hz := meter.NoteHz(int(math.Round(69 + 12*math.Log2(n.Hz/meter.A4))))
			byNote[hz] = append(byNote[hz], i)
		}
	}
	for hz, hits := range byNote {
		over, err := m.OverIn(bass, hz, hits, leadFrom)
		if err != nil {
			continue
		}
		for k, i := range hits {
			out.Clearance[i] = over[k]
		}
	}
	out.Median, out.P10 = meter.Median(out.Clearance), meter.Percentile(out.Clearance, 0.1)
	return out
}
