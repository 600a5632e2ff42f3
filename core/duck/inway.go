package duck

import (
	"fmt"
	"math"
	"slices"

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

// inTheWay says why a goal is not reached, in whole sentences; where hits are close, whether a release that follows
// their gaps would do.
func (t *trial) inTheWay(full *whole, goal Goal, l leastCurve) string {
	said := t.stopping(full, goal, l)
	follow := goal
	follow.Follow = true
	if !goal.Follow && t.room(full.m, follow).near > 0 && full.failed(goal) == nil && t.reach(full, follow).reached {
		return said + " With a release that follows the gap to the next hit it is reached."
	}
	return said
}

// missed says how far a curve comes that does not reach its goal.
func missed(goal Goal, l leastCurve) string {
	return fmt.Sprintf(
		"%.1f dB cannot be reached in 9 of 10 hits within %.1f dB of depth: the worst tenth comes to %.1f dB.",
		goal.Clearance,
		goal.MaxDepth,
		float64(l.p10),
	)
}

// stopping says what stops it with the way back that is asked.
func (t *trial) stopping(full *whole, goal Goal, l leastCurve) string {
	m := full.m
	said := missed(goal, l)
	if need := t.capThatReaches(full, goal); need > 0 {
		return fmt.Sprintf("%s The cap of %.1f dB stops it: with one of %.1f dB it is reached.", said, goal.MaxDepth, need)
	}
	hit, gap := closest(m)
	back := hit >= 0 && t.judge(&move.Duck{}).clearance+goal.MaxDepth >= goal.Clearance // lowered all the time it would do
	for _, k := range t.suspects(full, l, hit) {
		if full.failed(goal) != nil {
			break
		}
		at := float64(m.Hits[k]+m.Offset) / float64(m.Rate)
		switch reached := reachedWithout(full, goal, k); {
		case reached && back && k == hit+1:
			return fmt.Sprintf("%s The closest hits stop it, %.0f ms apart: the duck has to be back in between. Without the hit at %.2f s it is reached.", said, gap, at)
		case reached:
			return fmt.Sprintf("%s One hit stops it: without the one at %.2f s it is reached. Look whether that is one.", said, at)
		}
	}
	switch best := t.silenced(); {
	case back:
		at := float64(m.Hits[hit+1]+m.Offset) / float64(m.Rate)
		return fmt.Sprintf(
			"%s The closest hits stop it, %.0f ms apart at %.2f s: a bass lowered by %.1f dB all the time would do, but the duck has to be back in between.",
			said,
			gap,
			at,
			goal.MaxDepth,
		)
	case gap > wayApart && best < goal.Clearance:
		return fmt.Sprintf(
			"%s The kick is too short or too soft in its own octave: even with no bass from %.0f ms before each hit on it would be %.1f dB.",
			said,
			boundPre,
			best,
		)
	}
	return fmt.Sprintf("%s A cap of %.0f dB does not reach it either.", said, wayCapMost)
}

// capThatReaches returns the least cap, in steps of wayCapStep, with which a goal was reached; 0 where none was.
func (t *trial) capThatReaches(full *whole, goal Goal) float64 {
	lo, hi := goal.MaxDepth, wayCapMost
	tried := func(cap float64) leastCurve {
		deeper := goal
		deeper.MaxDepth = cap
		return t.reachOver(full, deeper, lo)
	}
	if goal.MaxDepth >= wayCapMost {
		return 0
	}
	most := tried(wayCapMost)
	if !most.reached {
		return 0
	}
	// what the deep curve used would do, and less may; what is said was carried out
	if used := math.Ceil(-most.duck.Depth()/wayCapStep) * wayCapStep; used > lo && used < hi {
		if tried(used).reached {
			hi = used
		} else {
			lo = used
		}
	}
	for hi-lo > wayCapStep && full.failed(goal) == nil {
		mid := math.Round((lo+hi)/2/wayCapStep) * wayCapStep
		if mid <= lo || mid >= hi {
			break
		}
		if tried(mid).reached {
			hi = mid
		} else {
			lo = mid
		}
	}
	return hi
}

// suspects are the hits that may be the one that stops a curve: the two that are closest, and the one on which the best
// found is furthest from the goal.
func (t *trial) suspects(full *whole, l leastCurve, hit int) []int {
	var out []int
	if hit >= 0 {
		out = append(out, hit+1, hit)
	}
	clear := full.judgeHits(l.duck)
	low := -1
	for i, c := range clear {
		if l.asked[i] && c.Valid() && (low < 0 || c < clear[low]) {
			low = i
		}
	}
	if low >= 0 && !slices.Contains(out, low) {
		out = append(out, low)
	}
	return out
}

// reachedWithout reports whether a goal is reached where a hit is left out.
func reachedWithout(full *whole, goal Goal, hit int) bool {
	n := without(full.m, hit)
	if n == nil {
		return false
	}
	low, err := lowTrial(n, full.bass)
	if err != nil {
		return false
	}
	return low.reach(newWhole(n, full.bass, full.low), goal).reached
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
	n, err := meter.NewHitMeterOf(m.KickSound(), m.Rate, hits, m.HomeHz, m.Range)
	if err != nil {
		return nil
	}
	n.Offset = m.Offset
	return n
}

// silenced returns the clearance that counts where the bass is cut off from before each hit on.
func (t *trial) silenced() float64 {
	r := room{cap: 120, end: 500, rise: move.ClickDB}
	mod := t.around(r, nil)
	var c []meter.Figure
	for i := range mod.e {
		c = append(c, meter.Clearance(mod.kick[i], math.Max(0, mod.rest[i])))
	}
	return worst(c)
}
