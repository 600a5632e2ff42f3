package duck

import (
	"fmt"
	"math"
	"sort"
	"sync"

	"mellowthump/core/figure"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/search"
)

// What the fit of the keyed schools sets without asking: usual values, common practice with no
// published source.
const (
	keyedRatio  = 4.0
	keyedKnee   = 6.0
	bandRatio   = 10.0
	bandOver    = 4.0   // dB by which a key's peaks open a band dip beyond its range
	keyedAttack = 1.0   // ms, at the least
	keyedSlope  = 2.5   // dB/ms, the steepest onset that the fit draws: under what may click
	keyedAhead  = 3.0   // ms of look-ahead, at the least
	keyedLook   = 20.0  // and at the most
	keyRise     = 4.0   // dB under its peak: from there on a key is taken to have risen
	trialSlack  = 0.2   // dB by which the trial at the low rate may flatter
	trialStill  = 0.005 // dB of reduction under which a trial takes the bass as it is
	bellQ       = 0.8
)

var (
	keyedHolds    = []float64{0, 0.3, 0.55, 0.75, 0.9} // parts of the kick's median window
	keyedReleases = []float64{12, 25, 60}              // ms

	// What is tried besides where nothing of these reaches the goal: holds, releases, and wider bands, in parts of the
	// top of the home octave.
	keyedMoreHolds    = []float64{0, 0.3, 0.6, 0.9, 1.2, 1.6}
	keyedMoreReleases = []float64{8, 15, 30, 60, 120}
	keyedMoreBands    = []float64{0.8, 1.8, 3}
)

// keyedKind is what all keyed ducks of a fit share.
type keyedKind struct {
	school  string
	peak    float64    // of the key, dBFS
	rise    float64    // ms in which it rises
	band    *move.Band // nil: all of the sound
	noAhead bool       // it may not begin before the hit
}

// duck makes a keyed duck of the kind: as soft an attack as does not click, and as much look-ahead as brings it to the hit.
func (k keyedKind) duck(hold, release, depth float64) *move.Duck {
	peak, band := k.peak, k.band
	steep := depth
	if band != nil { // it would go further than its range, and is cut short
		steep += bandOver
	}
	attack := math.Ceil(2*max(keyedAttack, steep/keyedSlope)) / 2
	slope := 1 - 1/keyedRatio
	d := &move.Duck{School: k.school, Comp: &move.Compressor{
		Threshold: figure.Tenth(peak - depth/slope), Ratio: keyedRatio, Knee: keyedKnee, Attack: attack, Hold: hold, Release: release,
		Lookahead: math.Ceil(min(keyedLook, max(keyedAhead, k.rise+2.5*attack))),
	}}
	if k.noAhead {
		d.Comp.Lookahead = 0
	}
	if band != nil {
		b := *band
		b.Range = figure.Tenth(depth)
		d.Band = &b
		// the key's peaks open it fully, the range says how far
		d.Comp.Ratio = bandRatio
		d.Comp.Threshold = figure.Tenth(peak - depth/(1-1/bandRatio) - bandOver)
	}
	return d
}

// listened is what a keyed duck is fitted to: kick and bass as they are judged, and what it listens to, behind a filter.
type listened struct {
	m         *meter.HitMeter
	before    meter.HitFigures
	key, bass meter.Sound
	filter    *move.KeyFilter
}

// fitKeyed finds the compressor or the band dip that reaches the goal with the least loss of bass in
// 20-150 Hz, at most as deep as the cap and back before the next hit. key is the trigger's sound over
// the signal that m was made for, mono. low is the trial made for m and bass.
// Long because each way in which it may fail is told in its own sentence.
func fitKeyed(low *trial, on listened, goal Goal, school string) (Fitted, error) {
	m, before, key, bass, filter := on.m, on.before, on.key, on.bass, on.filter
	t, err := newKeyedTrial(low, m, key, filter)
	if err != nil {
		return Fitted{}, err
	}
	f := Fitted{P10: before.ClearanceP10}
	if t.low <= 0 {
		f.Reason = "No duck needed: the bass is silent here."
		return f, nil
	}
	if worst(clearances(before)) >= goal.Clearance {
		f.Reason = fmt.Sprintf(
			"No duck needed: the kick clears the bass by %.1f dB in the worst tenth of hits; %.1f dB is asked.",
			float64(before.ClearanceP10),
			goal.Clearance,
		)
		return f, nil
	}
	f.Needed = true
	var bands []*move.Band
	if school == move.BandSchool {
		_, hi := meter.HomeBand(m.HomeHz)
		bands = []*move.Band{
			{Shape: "bell", Hz: figure.Tenth(m.HomeHz), Q: bellQ, Channels: "stereo"},
			{Shape: "below", Hz: figure.Tenth(hi * 1.25), Channels: "stereo"},
		}
	} else {
		bands = []*move.Band{nil}
	}
	whole := t.base(nil) // how deep a duck goes does not depend on the bass
	slack := goal
	slack.Clearance += trialSlack
	tries, nearest := t.search(school, bands, slack)
	if len(tries) == 0 {
		if school == move.BandSchool {
			_, hi := meter.HomeBand(m.HomeHz)
			for _, part := range keyedMoreBands {
				bands = append(bands, &move.Band{Shape: "below", Hz: figure.Tenth(hi * part), Channels: "stereo"})
			}
		}
		t.more = true
		tries, nearest = t.search(school, bands, slack)
	}
	if len(tries) == 0 {
		tries, nearest = t.search(school, bands, goal)
	}
	if err := goal.stopped(); err != nil {
		return f, err
	}
	if len(tries) == 0 {
		f.Duck = nearest
		if nearest != nil {
			f.P10, _, err = keyedP10(m, key, bass, nearest, filter)
			f.Duck.Key = filter
		}
		if err == nil {
			f.Reason = t.inTheWay(m, school, bands, f.P10, goal)
		}
		return f, err
	}
	var best *move.Duck
	for _, d := range tries {
		if best, f.P10, f.Reached, err = t.finish(on, d, goal, whole); err != nil {
			return Fitted{}, err
		}
		if f.Reached {
			break
		}
	}
	best.Key = filter
	f.Duck = best
	deep := t.judgeKeyed(best, whole, false).depth
	where := ""
	if best.Band != nil {
		where = fmt.Sprintf(" in a bell at %.1f Hz", best.Band.Hz)
		if best.Band.Shape == "below" {
			where = fmt.Sprintf(" below %.0f Hz", best.Band.Hz)
		}
	}
	if f.Reached {
		f.Reason = fmt.Sprintf(
			"About %.1f dB of reduction%s, threshold %.1f dB at %g to 1, attack %g, hold %.0f and release %.0f ms, %g ms of look-ahead, lets the kick clear the "+
				"bass by %.1f dB in 9 of 10 hits.",
			deep,
			where,
			best.Comp.Threshold,
			best.Comp.Ratio,
			best.Comp.Attack,
			best.Comp.Hold,
			best.Comp.Release,
			best.Comp.Lookahead,
			goal.Clearance,
		)
	} else {
		f.Reason = t.inTheWay(m, school, bands, f.P10, goal)
	}
	return f, nil
}

// inTheWay says why a goal is not reached this way: the cap, where a deeper one was tried and reaches it; else what was seen.
func (t *keyedTrial) inTheWay(m *meter.HitMeter, school string, bands []*move.Band, p10 meter.Figure, goal Goal) string {
	said := fmt.Sprintf(
		"%.1f dB cannot be reached in 9 of 10 hits this way: the worst tenth comes to %.1f dB with at most %.1f dB of reduction, back before the next hit.",
		goal.Clearance,
		float64(p10),
		goal.MaxDepth,
	)
	if goal.MaxDepth < wayCapMost {
		deeper := goal
		deeper.MaxDepth = wayCapMost
		deeper.Clearance += trialSlack
		whole := t.base(nil)
		if tries, _ := t.search(school, bands, deeper); len(tries) > 0 {
			if need := t.judgeKeyed(tries[0], whole, false).depth; need > goal.MaxDepth {
				return fmt.Sprintf("%s The cap of %.1f dB stops it: about %.0f dB of reduction would do.", said, goal.MaxDepth, math.Ceil(need))
			}
		}
	}
	if _, gap := closest(m); gap < wayApart {
		return fmt.Sprintf("%s A deeper cap does not reach it either: the closest hits are %.0f ms apart, and it has to be back in between.", said, gap)
	}
	return said + " A deeper cap does not reach it either: the kick is too short or too soft in its own octave."
}

// finish carries a duck out at the full rate, which has the last word, and makes up for what the
// trial left out by the threshold, or by the range of a band, as far as the cap lets it.
func (t *keyedTrial) finish(on listened, d *move.Duck, goal Goal, whole *base) (*move.Duck, meter.Figure, bool, error) {
	p10 := meter.None
	for range 12 {
		counts, err := 0.0, goal.stopped()
		if err != nil {
			return d, p10, false, err
		}
		if p10, counts, err = keyedP10(on.m, on.key, on.bass, d, on.filter); err != nil {
			return d, p10, false, err
		}
		short := goal.Clearance + margin - counts
		if short <= 0 {
			return d, p10, true, nil
		}
		c := *d
		comp := *d.Comp
		c.Comp = &comp
		if d.Band != nil {
			b := *d.Band
			if b.Range = figure.Tenth(b.Range + max(0.1, short)); b.Range > goal.MaxDepth {
				return d, p10, false, nil
			}
			c.Band = &b
		} else {
			comp.Threshold = figure.Tenth(comp.Threshold - max(0.1, short/(1-1/comp.Ratio)))
			if t.judgeKeyed(&c, whole, false).depth > goal.MaxDepth+0.05 {
				return d, p10, false, nil
			}
		}
		d = &c
	}
	return d, p10, false, nil
}

// search tries holds and releases, on all processors; for each the threshold (or a band's range) is
// settled by halving. It returns the cheapest of each band that reaches the goal, the cheapest first,
// and the one that comes nearest.
// Long because what is tried and what is picked share the list of what was found.
func (t *keyedTrial) search(school string, bands []*move.Band, goal Goal) (reach []*move.Duck, nearest *move.Duck) {
	var found []keyedCandidate
	try := func(bands []*move.Band, holds, releases []float64) {
		var mu sync.Mutex
		tried, all := 0, len(bands)*len(holds)*len(releases)
		bases := make([]*base, len(bands))
		for i, band := range bands {
			bases[i] = t.base(band)
		}
		group.All(len(bands)*len(holds), func(i int) {
			at, hold := i/len(holds), holds[i%len(holds)]
			for _, release := range releases {
				if goal.stopped() != nil {
					return
				}
				c, ok := t.settleKeyed(school, bands[at], bases[at], hold, release, goal)
				mu.Lock()
				if ok {
					found = append(found, c)
				}
				tried++
				goal.did(float64(tried) / float64(all))
				mu.Unlock()
			}
		})
	}
	pick := func() (best []*keyedCandidate, nearest *keyedCandidate) {
		byBand := map[*move.Band]*keyedCandidate{}
		for i := range found {
			c := &found[i]
			if c.j.depth > goal.MaxDepth+0.05 {
				continue
			}
			if b := byBand[c.band]; c.j.clearance >= goal.Clearance &&
				(b == nil || c.j.loss < b.j.loss-1e-9 || c.j.loss < b.j.loss+1e-9 && c.d.Comp.Hold < b.d.Comp.Hold) {
				byBand[c.band] = c
			}
			if nearest == nil || c.j.clearance > nearest.j.clearance {
				nearest = c
			}
		}
		for _, b := range bands {
			if c := byBand[b]; c != nil {
				best = append(best, c)
			}
		}
		sort.SliceStable(best, func(i, j int) bool { return best[i].j.loss < best[j].j.loss })
		return best, nearest
	}
	parts, releases := keyedHolds, keyedReleases
	if t.more {
		parts, releases = keyedMoreHolds, keyedMoreReleases
	}
	var holds []float64
	for _, part := range parts {
		holds = append(holds, math.Round(part*t.window))
	}
	try(bands, holds, releases)
	first, near := pick()
	if len(first) == 0 {
		if near == nil {
			return nil, nil
		}
		return nil, near.d
	}
	hold, release := first[0].d.Comp.Hold, first[0].d.Comp.Release
	try([]*move.Band{first[0].band}, []float64{figure.Tenth(0.7 * hold), hold, hold + 12}, []float64{figure.Tenth(0.7 * release), figure.Tenth(1.4 * release)})
	first, _ = pick()
	for _, c := range first {
		reach = append(reach, c.d)
	}
	return reach, near.d
}

type keyedCandidate struct {
	d    *move.Duck
	band *move.Band
	j    keyedJudged
}

// settleKeyed halves its way to the least reduction with which a hold and a release reach the goal.
func (t *keyedTrial) settleKeyed(school string, band *move.Band, b *base, hold, release float64, goal Goal) (keyedCandidate, bool) {
	draw := func(deep float64) *move.Duck {
		return keyedKind{school, t.peak, t.rise, band, goal.NoAhead}.duck(hold, release, deep)
	}
	c := keyedCandidate{d: draw(goal.MaxDepth), band: band}
	c.j = t.judgeKeyed(c.d, b, false)
	top := goal.MaxDepth
	if !c.j.back { // as deep as lets it be back in time
		if top, _ = search.Edge(0, top, 0.5, func(deep float64) bool { return !t.judgeKeyed(draw(deep), b, false).back }); top == 0 {
			return c, false
		}
		c.d = draw(top)
		c.j = t.judgeKeyed(c.d, b, false)
	}
	if c.j.clearance >= goal.Clearance {
		// by interpolation: in decibels, clearance goes nearly straight with the reduction
		lo, hi, under, over := 0.0, top, b.clearance, c.j.clearance
		for hi-lo > 0.15 && over > goal.Clearance+0.05 {
			u := (goal.Clearance + 0.03 - under) / (over - under)
			mid := lo + max(0.1, min(0.9, u))*(hi-lo)
			if now := t.judgeKeyed(draw(mid), b, false).clearance; now >= goal.Clearance {
				hi, over = mid, now
			} else {
				lo, under = mid, now
			}
		}
		c.d = draw(hi)
		c.j = t.judgeKeyed(c.d, b, true)
	}
	return c, true
}
