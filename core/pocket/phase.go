package pocket

import (
	"math"

	"mellowthump/core/meter"
)

const (
	nudgeMost   = 12.0  // ms to each side that are searched
	nudgeStep   = 0.125 // ms between the places that are tried; the best is then found between them
	nudgeWorth  = 1.0   // dB of median phase sum from which a nudge is advised
	nudgeHurts  = 0.25  // share of the hits that may lose by it
	nudgeNotice = 0.5   // dB from which a hit gains or loses
)

// Place is one place of the bass against the kick.
type Place struct {
	MS   float64 // later
	Flip bool
}

// Nudge is what moving the bass, or turning it over, does to the phase sum over all hits.
type Nudge struct {
	MS      []float64      // the places tried
	As      []meter.Figure // median phase sum with the bass as it is, dB
	Flipped []meter.Figure // and turned over
	Now     meter.Figure   // where it stands
	Best    Place
	BestSum meter.Figure // median there
	P10     meter.Figure // worst tenth there
	Helped  int          // hits that gain half a dB and more
	Hurt    int          // hits that lose as much
	Of      int
}

// Advised reports whether the best place is worth going to: at least 1 dB in the median, and no
// more than a quarter of the hits lose by it.
func (n *Nudge) Advised() bool {
	return n != nil && n.BestSum.Valid() && n.Now.Valid() && n.BestSum-n.Now >= nudgeWorth && float64(n.Hurt) <= nudgeHurts*float64(n.Of)
}

// lags holds for one hit what a phase sum at any place is made of.
type lags struct {
	kick  float64   // energy of the kick in the window
	bass  []float64 // of the bass at each place
	cross []float64
}

func (l lags) sum(i int, flip bool) meter.Figure {
	all := l.kick + l.bass[i]
	if all <= 0 {
		return meter.None
	}
	c := 2 * l.cross[i]
	if flip {
		c = -c
	}
	return meter.Figure(10 * math.Log10(math.Max(1e-6, (all+c)/all)))
}

// FindNudge searches the place of the bass, 12 ms to each side and both ways up, that gives the
// largest median phase sum over the hits of m (design, 3-sound: phase sum). bass is mono, as it
// was measured.
// Long because it is one search over delays: both polarities are summed in the same pass.
func FindNudge(m *meter.HitMeter, bass meter.Sound) (*Nudge, error) {
	kick, low, step, err := m.LowPair(bass)
	if err != nil {
		return nil, err
	}
	most := int(math.Round(nudgeMost / 1000 * step))
	every := max(1, int(math.Round(nudgeStep/1000*step)))
	n := &Nudge{Of: len(m.Hits)}
	var all []lags
	for i, h := range m.Hits {
		from := int(float64(h) * step / float64(m.Rate))
		to := min(from+int(float64(m.Windows[i])*step/float64(m.Rate)), len(kick))
		var l lags
		for _, v := range kick[from:to] {
			l.kick += float64(v) * float64(v)
		}
		for lag := -most; lag <= most; lag += every {
			var e, c float64
			for k := from; k < to; k++ {
				if j := k - lag; j >= 0 && j < len(low) {
					b := float64(low[j])
					e += b * b
					c += b * float64(kick[k])
				}
			}
			l.bass, l.cross = append(l.bass, e), append(l.cross, c)
		}
		all = append(all, l)
	}
	if len(all) == 0 {
		return n, nil
	}
	at := func(i int, flip bool) []meter.Figure {
		var f []meter.Figure
		for _, l := range all {
			f = append(f, l.sum(i, flip))
		}
		return f
	}
	zero := most / every
	best, bestAt := meter.Figure(math.Inf(-1)), 0
	for i := range all[0].bass {
		n.MS = append(n.MS, 1000*float64(-most+i*every)/step)
		plain, over := meter.Median(at(i, false)), meter.Median(at(i, true))
		n.As, n.Flipped = append(n.As, plain), append(n.Flipped, over)
		for flip, v := range map[bool]meter.Figure{false: plain, true: over} {
			// of two as good, the one nearer and the right way up
			better := v > best+1e-9 || v > best-1e-9 && (abs(i-zero) < abs(bestAt-zero) || abs(i-zero) == abs(bestAt-zero) && n.Best.Flip && !flip)
			if v.Valid() && better {
				best, bestAt, n.Best.Flip = v, i, flip
			}
		}
	}
	n.Now = n.As[zero]
	n.BestSum, n.P10 = best, meter.Percentile(at(bestAt, n.Best.Flip), 0.1)
	curve := n.As
	if n.Best.Flip {
		curve = n.Flipped
	}
	n.Best.MS = n.MS[bestAt]
	if bestAt > 0 && bestAt+1 < len(curve) { // between the places
		a, b, c := float64(curve[bestAt-1]), float64(curve[bestAt]), float64(curve[bestAt+1])
		if d := a - 2*b + c; d < 0 {
			n.Best.MS += (a - c) / (2 * d) * 1000 * float64(every) / step
		}
	}
	n.Best.MS = math.Round(100*n.Best.MS) / 100
	for _, l := range all {
		d := l.sum(bestAt, n.Best.Flip) - l.sum(zero, false)
		switch {
		case float64(d) >= nudgeNotice:
			n.Helped++
		case float64(d) <= -nudgeNotice:
			n.Hurt++
		}
	}
	return n, nil
}

func abs(i int) int { return max(i, -i) }
