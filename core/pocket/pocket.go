// Package pocket judges whether kick and bass agree.
package pocket

import (
	"fmt"
	"math"
	"strings"

	"mellowthump/core/meter"
)

// Finding is a judgement: what with its number, why it matters, how to hear it, what to do.
type Finding struct {
	What string
	Why  string
	Hear string // the deck's solo that shows it: "both", "bass" ...
	Do   string
	Link string // the stage where it is done; empty: in the user's own workstation
}

const (
	cancels  = -1.0 // dB of median phase sum from which kick and bass are said to cancel
	tuneTell = 10.0 // cents; common practice, no published source
	sure     = 0.3  // confidence of a pitch that is spoken of
)

// shown is half the last decimal that a clearance is shown with: what reads as the target
// meets it.
const shown = 0.05

// allowed is the number of hits that may miss the target: one in ten.
func allowed(hits int) int { return int(0.1*float64(hits) + 1e-9) }

// Sentence says in one sentence what is wrong, with its number, or that nothing is.
func Sentence(f meter.HitFigures, target float64, kick, bass string) string {
	n := len(f.Hits)
	under := f.Under(target - shown)
	buried, worst := 0, 0.0
	for _, h := range f.Hits {
		if h.Clearance.Valid() && h.Clearance < 0 {
			buried++
			worst += float64(h.Clearance)
		}
	}
	switch {
	case under <= allowed(n) && float64(f.ClearanceP10) >= target-shown:
		return fmt.Sprintf("Nothing is wrong: %s clears %s by %.1f dB or more on 9 of 10 hits. Leave it.", lower(kick), lower(bass), float64(f.ClearanceP10))
	case buried > 0:
		return fmt.Sprintf("%s sits %.1f dB over %s in its own octave on %d of %d hits, and under the %g dB asked on %d.",
			upper(bass), -worst/float64(buried), lower(kick), buried, n, target, under)
	}
	return fmt.Sprintf("%s clears %s by less than the %g dB asked on %d of %d hits; the worst tenth has %s dB.",
		upper(kick), lower(bass), target, under, n, minus(float64(f.ClearanceP10)))
}

// Judge names what is wrong between kick and bass; nil where nothing is. line is the bass's
// commonest pitch, nil where it has none.
func Judge(f meter.HitFigures, target float64, kick, bass string, line *meter.Pitch) []Finding {
	var out []Finding
	if under := f.Under(target - shown); under > allowed(len(f.Hits)) || float64(f.ClearanceP10) < target-shown {
		out = append(out, Finding{
			What: fmt.Sprintf("%d of %d hits under %g dB", under, len(f.Hits), target),
			Why:  "A kick that does not clear the bass in its own octave is heard as click without weight.",
			Hear: "both",
			Do:   "Duck the bass as little as it takes.",
			Link: "duck",
		})
	}
	if f.PhaseSumMedian.Valid() && f.PhaseSumMedian < cancels {
		out = append(out, Finding{
			What: fmt.Sprintf("The two cancel: phase sum %s dB", minus(float64(f.PhaseSumMedian))),
			Why:  "Where kick and bass pull against each other, both lose weight.",
			Hear: "both",
			Do:   "Try the bass with its polarity turned over, or moved by a few ms, and bounce it again.",
		})
	}
	if line != nil && line.Confidence >= sure && math.Abs(line.Cents) >= tuneTell {
		side := "sharp"
		if line.Cents < 0 {
			side = "flat"
		}
		out = append(out, Finding{
			What: fmt.Sprintf("%s is %.0f cents %s", upper(bass), math.Abs(line.Cents), side),
			Why:  fmt.Sprintf("Its commonest note, %s, reads %.2f Hz. Beside a tuned instrument that beats.", line.Note, line.Hz),
			Hear: "bass",
			Do:   fmt.Sprintf("Detune it by %s cents at its source and bounce it again.", minus(-line.Cents)),
		})
	}
	return out
}

// minus writes a number with one decimal, none where it is a whole one, and a true minus.
func minus(v float64) string {
	s := strings.TrimSuffix(fmt.Sprintf("%.1f", v), ".0")
	if s == "-0" {
		s = "0"
	}
	return strings.Replace(s, "-", "−", 1)
}

// upper and lower put a stem's name into a sentence: "The kick", "the 808".
func upper(name string) string { return "The " + inSentence(name) }
func lower(name string) string { return "the " + inSentence(name) }

func inSentence(name string) string {
	if name == "Kick" || name == "Bass" {
		return strings.ToLower(name)
	}
	return name
}
