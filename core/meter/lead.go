package meter

import "math"

// LeadFrom is how long after the hit the bass is judged from where it leads, s (design, 3-sound).
const LeadFrom = 0.060

// leadShown is half the last decimal that a clearance is shown with: what reads as the target has
// reached it.
const leadShown = 0.05

// BassLead is how the bass does where it leads: over the kick, in the octave of the note it plays,
// from 60 ms after each hit to the next.
type BassLead struct {
	Clearance []Figure `json:"clearance_db"` // at each hit; None where no note sounds
	Median    Figure   `json:"median_db"`
	P10       Figure   `json:"p10_db"`
	Handover  Figure   `json:"handover_median_ms"`
}

// Judged counts the hits on which a note sounds.
func (b BassLead) Judged() int {
	n := 0
	for _, c := range b.Clearance {
		if c.Valid() {
			n++
		}
	}
	return n
}

// Under counts the hits on which the bass misses a target in dB.
func (b BassLead) Under(target float64) int {
	n := 0
	for _, c := range b.Clearance {
		if c.Valid() && float64(c) < target-leadShown {
			n++
		}
	}
	return n
}

// MeasureLead judges the bass against the kick where it leads. line is the bass's own, in seconds of
// the song; f are the figures of the same pair.
func (m *HitMeter) MeasureLead(bass []float32, line []BassNote, f HitFigures) BassLead {
	out := BassLead{Clearance: make([]Figure, len(m.Hits)), Handover: f.HandoverMedian}
	for i := range out.Clearance {
		out.Clearance[i] = None
	}
	for hz, hits := range m.LeadNotes(line) {
		over, err := m.OverIn(bass, hz, hits, LeadFrom)
		if err != nil {
			continue
		}
		for k, i := range hits {
			out.Clearance[i] = over[k]
		}
	}
	out.Median, out.P10 = Median(out.Clearance), Percentile(out.Clearance, 0.1)
	return out
}

// LeadNotes returns the hits (by their number) under each pitch of a line, to a semitone in Hz: the note
// that sounds when the bass begins to be judged.
func (m *HitMeter) LeadNotes(line []BassNote) map[float64][]int {
	byNote := map[float64][]int{}
	for i, h := range m.Hits {
		at := float64(h+m.Offset)/float64(m.Rate) + LeadFrom
		if n := NoteAt(line, at); n != nil {
			hz := NoteHz(int(math.Round(69 + 12*math.Log2(n.Hz/A4))))
			byNote[hz] = append(byNote[hz], i)
		}
	}
	return byNote
}

// WithKick returns the meter with another sound of the kick at the same hits, for MeasureLead and OverIn
// alone: what was worked out of the kick stays that of the old one.
func (m *HitMeter) WithKick(kick []float32) *HitMeter {
	c := *m
	c.kick = kick
	return &c
}

// NoteAt returns the note of a line that sounds at a time in seconds, nil where none does.
func NoteAt(line []BassNote, at float64) *BassNote {
	for i := range line {
		if at >= line[i].Start && at < line[i].End {
			return &line[i]
		}
	}
	return nil
}
