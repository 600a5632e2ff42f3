package duck

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/figure"
	"mellowthump/core/move"
	"mellowthump/internal/outside"
)

// The keyed schools reach what a plain grid of their own parameters reaches, on recorded pairs; where neither does, the
// fit's is no further from the goal than the grid's best, within 0.3 dB. The grid is searched at the low rate, and its
// best carried out at the full one.
func TestKeyedFitReachesWhatAGridDoes(t *testing.T) {
	outside.Slow(t)
	t.Parallel()
	r := rand.New(rand.NewPCG(8, 8))
	fits, missed, worse := 0, 0, 0
	for i, p := range recordedPairs(t, 3) {
		goal := Goal{Clearance: 5 + 6*r.Float64(), MaxDepth: 12}
		gain := float32(math.Pow(10, (1-4*r.Float64())/20))
		for k := range p.bass {
			p.bass[k] *= gain
		}
		key := p.m.KickSound()
		before := p.m.Measure(p.bass)
		if worst(clearances(before)) >= goal.Clearance {
			continue
		}
		low, err := lowTrial(p.m, p.bass)
		if err != nil {
			t.Fatal(err)
		}
		kt, err := newKeyedTrial(low, p.m, key, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, school := range []string{move.CompressorSchool, move.BandSchool} {
			f, err := fitKeyed(low, listened{p.m, before, key, p.bass, nil}, goal, school)
			if err != nil {
				t.Fatal(err)
			}
			fits++
			bands := []*move.Band{nil}
			if school == move.BandSchool {
				bands = nil
				for _, hz := range []float64{0.8, 1, 1.25, 1.6} {
					bands = append(bands, &move.Band{Shape: "bell", Hz: figure.Tenth(hz * p.m.HomeHz), Q: 0.8, Channels: "stereo"},
						&move.Band{Shape: "below", Hz: figure.Tenth(1.4 * hz * p.m.HomeHz), Channels: "stereo"})
				}
			}
			top, best := -60.0, (*move.Duck)(nil)
			for _, band := range bands {
				b := kt.base(band)
				for _, hold := range []float64{0, 20, 50, 90, 130, 180} {
					for _, release := range []float64{8, 15, 30, 60, 120} {
						for _, depth := range []float64{4, 8, 12} {
							d := keyedKind{school, kt.peak, kt.rise, band, false}.duck(hold, release, depth)
							j := kt.judgeKeyed(d, b, false)
							if j.back && j.depth <= goal.MaxDepth+0.05 && j.clearance > top {
								top, best = j.clearance, d
							}
						}
					}
				}
			}
			if best == nil {
				continue
			}
			grid, counts, err := keyedP10(p.m, key, p.bass, best, nil)
			if err != nil {
				t.Fatal(err)
			}
			if counts >= goal.Clearance+0.05 && !f.Reached {
				missed++
				t.Logf("%d %s: the grid comes to %.2f of %.2f dB by %s; the fit says %s", i, school, float64(grid), goal.Clearance, Values(best), f.Reason)
			}
			if !f.Reached && f.P10 < grid-0.3 {
				worse++
				t.Logf("%d %s: the nearest has %.2f dB, the grid's best %.2f: %s", i, school, float64(f.P10), float64(grid), Values(best))
			}
		}
	}
	t.Logf("%d fits, %d miss what the grid reaches, %d end further off", fits, missed, worse)
	if fits < 8 || missed > 0 || worse > 0 {
		t.Error("the grid does better")
	}
}
