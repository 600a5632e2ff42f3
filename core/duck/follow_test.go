package duck

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

// On recorded bass drums whose every fourth hit is doubled, a way back that follows the gaps keeps the rules at every
// hit, comes near its own bound, and loses less bass than one for all that reaches as much.
func TestFollowOnRecordedKits(t *testing.T) {
	outside.Slow(t)
	r := rand.New(rand.NewPCG(5, 6))
	var saved []meter.Figure
	opened := 0
	for k, kit := range sampled.Kits {
		if k%2 > 0 {
			continue
		}
		for program := 35; program < 40; program += 4 {
			var kick, bass []sampled.Note
			key := 28 + r.IntN(12)
			for at, n := 0.2, 0; at < 10; n++ {
				step := []float64{0.3, 0.45, 0.6}[r.IntN(3)]
				if n%4 == 3 {
					step = 0.07 + 0.05*r.Float64()
				}
				kick = append(kick, sampled.Note{At: at, End: at + 0.1, Key: 35 + k/2%2, Velocity: 95 + r.IntN(30), Channel: sampled.Drums})
				bass = append(bass, sampled.Note{At: at, End: at + step - 0.02, Key: key + []int{0, 0, 3, 5}[r.IntN(4)], Velocity: 90 + r.IntN(30)})
				at += step
			}
			m := meterOf(t, sampled.Play(t, map[int]int{sampled.Drums: kit}, kick, 11).Mono())
			b := meter.Held(sampled.Play(t, map[int]int{0: program}, bass, 11).Mono())
			goal := Goal{Clearance: 7, MaxDepth: 14}
			one, err := Fit(m, b, goal)
			if err != nil {
				t.Fatal(err)
			}
			goal.Follow = true
			each, err := Fit(m, b, goal)
			if err != nil || each.Needed != one.Needed {
				t.Fatalf("%v; needed: %v and %v", err, one.Needed, each.Needed)
			}
			if !each.Needed {
				continue
			}
			t.Logf(
				"kit %d, program %d: one %v %.2f (%.2f), each %v %.2f (%.2f) %v",
				kit,
				program,
				one.Reached,
				one.Loss,
				one.Bound,
				each.Reached,
				each.Loss,
				each.Bound,
				each.Duck.Points,
			)
			for i := range m.Hits {
				gap := pair.Gap(m, i)
				d := each.Duck.For(gap)
				if !pair.Back(d, gap) || pair.Steepest(d) > move.ClickDB+0.01 || d.Validate() != nil {
					t.Errorf("kit %d, program %d, hit %d with a gap of %.0f ms: %v", kit, program, i, gap, d.Points)
				}
			}
			switch {
			case one.Reached && !each.Reached:
				t.Errorf("kit %d, program %d: one for all reaches it, following does not: %s", kit, program, each.Reason)
			case one.Reached:
				saved = append(saved, one.Loss-each.Loss)
			case each.Reached:
				opened++
			}
		}
	}
	t.Logf("saved %.3f, opened %d", saved, opened)
	if slices.Min(saved) < -0.005 || opened < 2 || math.IsNaN(float64(meter.Median(saved))) {
		t.Errorf("following saves %.3f dB of bass, and opens %d", saved, opened)
	}
}
