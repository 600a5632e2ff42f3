package compare

import (
	"fmt"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// What a turn goes by, common practice.
const (
	turnMost   = 6.0 // dB
	turnLeast  = 0.5
	turnsMost  = 3
	turnsApart = 1.0  // octaves between two that are told
	turnLow    = 30.0 // Hz, from which to which bands are told: what is beyond is hardly heard
	turnHigh   = 13000.0
	turnDeep   = 40.0 // dB under the loudest band of the song, under which one is left alone
	carries    = 0.5  // of what is near a band: from which part on a stem carries it
)

// SaidHz says a frequency.
func SaidHz(hz float64) string {
	if hz < 1000 {
		return fmt.Sprintf("%.0f Hz", hz)
	}
	return figure.Short(hz/1000) + " kHz"
}

// Turn is a stem that carries a band in which the song differs from a finished track, and what would bring that band nearer.
type Turn struct {
	Hz   float64
	Off  float64 // dB, smoothed over an octave; over 0: the song has more
	Part int     // which of the stems
	Of   float64 // its share of what the song has there
	DB   float64 // to turn it by; 0: no stem alone carries the band
}

// Turns are the bands in which the song differs most, an octave apart, worst first, at most three, none within the tolerance,
// dB; stems holds the power of each stem in each third-octave. A stem that carries at least half of the octave around is
// turned so far that the octave comes to the reference's level, at most
// 6 dB, to a tenth.
// Long because what is turned for one band changes what is left for the next.
func (c Comparison) Turns(stems [][]meter.Figure, tolerance float64) []Turn {
	var out []Turn
	smoothed := c.Smoothed()
	sums := make([]float64, meter.Bands) // power of all stems
	top := 0.0
	for b := range sums {
		for _, levels := range stems {
			if b < len(levels) && levels[b].Valid() {
				sums[b] += math.Pow(10, float64(levels[b])/10)
			}
		}
		top = math.Max(top, sums[b])
	}
	deep := func(hz float64) bool {
		for b, v := range sums {
			if meter.BandHz(b) == hz {
				return v < top*math.Pow(10, -turnDeep/10)
			}
		}
		return false
	}
	for len(out) < turnsMost {
		worst := -1
		for i, s := range smoothed {
			near := false
			for _, t := range out {
				near = near || math.Abs(math.Log2(t.Hz/s.Hz)) < turnsApart-0.1
			}
			if !near && !deep(s.Hz) && s.Hz > turnLow && s.Hz < turnHigh && s.Off.Valid() && math.Abs(float64(s.Off)) > tolerance &&
				(worst < 0 || math.Abs(float64(s.Off)) > math.Abs(float64(smoothed[worst].Off))) {
				worst = i
			}
		}
		if worst < 0 {
			break
		}
		t := Turn{Hz: smoothed[worst].Hz, Off: float64(smoothed[worst].Off), Part: -1}
		all, most := 0.0, 0.0
		for k, levels := range stems {
			sum := 0.0
			for b, l := range levels {
				if l.Valid() && math.Abs(math.Log2(meter.BandHz(b)/t.Hz)) < 0.55 {
					sum += math.Pow(10, float64(l)/10)
				}
			}
			all += sum
			if sum > most {
				t.Part, most = k, sum
			}
		}
		if all > 0 {
			t.Of = most / all
		}
		if t.Of >= carries {
			// all the others stay: of * G + (1 - of) = 10^(-off/10)
			g := (math.Pow(10, -t.Off/10) - (1 - t.Of)) / t.Of
			db := -turnMost
			if g > 0 {
				db = math.Max(-turnMost, math.Min(turnMost, 10*math.Log10(g)))
			}
			if t.DB = math.Round(db*10) / 10; math.Abs(t.DB) < turnLeast {
				t.DB = 0
			}
		}
		out = append(out, t)
	}
	return out
}
