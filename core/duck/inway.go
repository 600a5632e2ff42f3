package duck

import (
	"fmt"
	"math"

	"mellowthump/core/meter"
	"mellowthump/core/move"
)

// What stands in the way of a clearance is found by trying: a larger cap, a hit less, hits that do not follow each
// other so soon. What is advised was carried out, and reaches the goal.
const (
	wayCapMost = fullCut // dB
	wayCapStep = 0.5     // dB
	wayApart   = 300.0   // ms between hits, from which on each stands for itself
)

// inTheWay says why a goal is not reached, in whole sentences.
func (t *trial) inTheWay(m *meter.HitMeter, full *trial, bass []float32, goal Goal, l leastCurve) string {
	said := fmt.Sprintf("%.1f dB cannot be reached in 9 of 10 hits within %.1f dB of depth: the worst tenth comes to %.1f dB.", goal.Clearance, goal.MaxDepth, float64(l.p10))
	deeper := goal
	deeper.MaxDepth = wayCapMost
	if c := t.reach(m, full, bass, deeper); c.reached {
		// the least cap with which it is: what the deep curve used would do, and less may
		lo, hi := goal.MaxDepth, math.Ceil(-c.duck.Depth()/wayCapStep)*wayCapStep
		for hi-lo > wayCapStep {
			deeper.MaxDepth = math.Round((lo+hi)/2/wayCapStep) * wayCapStep
			if deeper.MaxDepth <= lo || deeper.MaxDepth >= hi {
				break
			}
			if t.reach(m, full, bass, deeper).reached {
				hi = deeper.MaxDepth
			} else {
				lo = deeper.MaxDepth
			}
		}
		return fmt.Sprintf("%s The cap of %.1f dB stops it: with one of %.1f dB it is reached.", said, goal.MaxDepth, hi)
	}
	i, gap := closest(m)
	if i >= 0 && t.judge(&move.Duck{}).clearance+goal.MaxDepth >= goal.Clearance { // lowered all the time it would do
		at := float64(m.Hits[i+1]+m.Offset) / float64(m.Rate)
		if n := without(m, i+1); n != nil {
			low, err := lowTrial(n, bass)
			whole, err2 := newTrial(n, bass, 1)
			if err == nil && err2 == nil {
				whole.full = full.full
			}
			if err == nil && err2 == nil && low.reach(n, whole, bass, goal).reached {
				return fmt.Sprintf("%s The closest hits stop it, %.0f ms apart: the duck has to be back in between. Without the hit at %.2f s it is reached.", said, gap, at)
			}
		}
		return fmt.Sprintf("%s The closest hits stop it, %.0f ms apart at %.2f s: a bass lowered by %.1f dB all the time would do, but the duck has to be back in between.", said, gap, at, goal.MaxDepth)
	}
	if best := t.silenced(m); gap > wayApart && best < goal.Clearance {
		return fmt.Sprintf("%s The kick is too short or too soft in its own octave: even with no bass from %.0f ms before each hit on it would be %.1f dB.", said, boundPre, best)
	}
	return said + " Neither a deeper duck nor more time between the hits reaches it."
}

// closest returns the hit that is followed soonest, and after how many ms; -1 where none is followed.
func closest(m *meter.HitMeter) (hit int, gap float64) {
	hit, gap = -1, math.Inf(1)
	for i := 0; i+1 < len(m.Hits); i++ {
		if g := 1000 * float64(m.Gaps[i]) / float64(m.Rate); g < gap {
			hit, gap = i, g
		}
	}
	return hit, gap
}

// without returns the meter of the same kick with a hit less, nil where that cannot be.
func without(m *meter.HitMeter, hit int) *meter.HitMeter {
	var hits []int
	for i, h := range m.Hits {
		if i != hit {
			hits = append(hits, h)
		}
	}
	if !m.Open {
		hits = append(hits, m.Hits[len(m.Hits)-1]+m.Gaps[len(m.Gaps)-1])
	}
	n, err := meter.NewHitMeter(m.KickSound(), m.Rate, hits, m.HomeHz, m.Range)
	if err != nil {
		return nil
	}
	n.Offset = m.Offset
	return n
}

// silenced returns the clearance that counts where the bass is cut off from before each hit on.
func (t *trial) silenced(m *meter.HitMeter) float64 {
	r := room{cap: 120, end: 500, rise: clickDB}
	mod := t.around(r, nil)
	var c []meter.Figure
	for i := range mod.e {
		c = append(c, meter.Clearance(mod.kick[i], math.Max(0, mod.rest[i])))
	}
	return worst(c)
}
