package meter

import (
	"math"

	"mellowthump/core/dsp"
)

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

// MeasureLead judges the bass against the kick where it leads: its clearance over the kick in the octave around the note
// that it plays, from LeadFrom after each hit to the next, the mirror of Clearance. line is the bass's own, in seconds of
// the song; f are the figures of the same pair.
func (m *HitMeter) MeasureLead(bass Sound, line []BassNote, f HitFigures) (BassLead, error) {
	out := BassLead{Clearance: make([]Figure, len(m.Hits)), Handover: f.HandoverMedian}
	for i := range out.Clearance {
		out.Clearance[i] = None
	}
	from := int(LeadFrom * float64(m.Rate))
	err := m.OverNotes(bass, line, func(hit int, kick, bass []float32) {
		if from < len(bass) {
			out.Clearance[hit] = Clearance(Energy(bass[from:]), Energy(kick[from:]))
		}
	})
	out.Median, out.P10 = Median(out.Clearance), Percentile(out.Clearance, 0.1)
	return out, err
}

// OverNotes gives kick and bass in the octave around the note under each hit of which one is known, from the hit to the
// next; what f is given it must not keep.
func (m *HitMeter) OverNotes(bass Sound, line []BassNote, f func(hit int, kick, bass []float32)) error {
	type octave struct {
		hits       []int
		kick, bass *dsp.Filter
	}
	var octaves []octave
	for hz, hits := range m.LeadNotes(line) {
		lo, hi := HomeBand(hz)
		band, err := dsp.Bandpass(lo, hi, float64(m.Rate))
		if err != nil {
			continue // a note that no band can be laid around
		}
		octaves = append(octaves, octave{hits, dsp.NewFilter(band), dsp.NewFilter(band)})
	}
	var k, b scratch
	return Together(m.ends, func(part int, x [][]float32) error {
		kick, bass, at := k.of(len(x[0])), b.of(len(x[1])), m.from(part)
		for o := range octaves {
			octaves[o].kick.Process(kick, x[0])
			octaves[o].bass.Process(bass, x[1])
			for len(octaves[o].hits) > 0 {
				i := octaves[o].hits[0]
				if m.Hits[i] >= m.ends[part] {
					break
				}
				octaves[o].hits = octaves[o].hits[1:]
				from, to := m.Hits[i]-at, min(m.Hits[i]+m.Gaps[i]-at, len(bass))
				if from < to {
					f(i, kick[from:to], bass[from:to])
				}
			}
		}
		return nil
	}, m.kick, Filled(bass, m.kick.Frames()))
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

// WithKick returns the meter with another sound of the kick at the same hits. What was worked out of the kick stays that
// of the old one: it is for the same kick read in another way, and else for MeasureLead and OverNotes alone.
func (m *HitMeter) WithKick(kick Sound) *HitMeter {
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
