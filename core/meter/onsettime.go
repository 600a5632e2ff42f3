package meter

const (
	refineAhead  = 0.055 // s before a rise in which the hit may have begun
	refineBack   = 0.012 // s before it in which its peak is not to be
	refineReach  = 0.040 // s after it in which its peak is looked for
	refineQuiet  = 0.025 // s under a tenth of the peak: then what follows has begun anew
	refineRise   = 0.030 // s, the longest from a tenth of the peak to half of it
	refineLate   = 0.014 // s before a rise, where a tail covers it, in which it may have begun
	refineClick  = 18.0  // dB, rise of a click that tells the time better than the low band does
	refineStands = 2.0   // times what was before: a click that tells a time
	refineLong   = 250   // steps after the hit before, from which on a tail is well known
	refineSpread = 0.006 // s within which half of the lags from click to tenth lie, if they are one
)

// refine sets the times of hits that rise around steps: the first sample over a tenth of the local peak. Where
// a tail covers that, it is the click, later by as much as in this file's hits that stand free; where there is
// no click, the place at which the low band leaves the tail.
func (m *OnsetMeter) refine(mono []float32, hits []Onset, steps []int) {
	var lags []Figure
	for k := range hits {
		at, after := float64(steps[k])*onsetStep, -1.0
		if k > 0 {
			after = hits[k-1].At
		}
		if hits[k].At = tenth(mono, m.full, at, after); hits[k].At >= 0 {
			if click := clicked(mono, m.full, at); click >= 0 && hits[k].At >= click {
				lags = append(lags, Figure(hits[k].At-click))
			}
			continue
		}
		hits[k].At, hits[k].covered = at, true
	}
	lag := 0.0
	if l := Median(lags); l.Valid() && Percentile(lags, 0.75)-Percentile(lags, 0.25) < refineSpread {
		lag = float64(l)
	}
	last := -onsetApart
	for k := range hits {
		if o := &hits[k]; o.covered {
			click, under := clicked(mono, m.full, o.At), m.uncovered(mono, steps[k], last)
			switch {
			case under >= 0 && (click < 0 || o.Click < refineClick && steps[k]-last > refineLong):
				o.At = under
			case click >= 0:
				o.At = click + lag
			}
		}
		last = steps[k]
	}
}

// tenth moves a time to the first sample over a tenth of the local peak. What still rings from before the hit
// does not count as its beginning; where that is louder, -1. after is the time of the hit before.
func tenth(mono []float32, rate, at, after float64) float64 {
	from := max(0, int((at-refineBack)*rate))
	to := min(len(mono), int((at+refineReach)*rate))
	if from >= to {
		return at
	}
	peak := peakOf(mono[from:to])
	limit := peak * onsetTenth
	k := from
	for k < to && max(mono[k], -mono[k]) < 0.5*peak {
		k++
	}
	// back from there to the last quiet
	quiet, least, most := 0, int(refineQuiet*rate), int(refineRise*rate)
	begin := k
	first := max(0, int((at-refineAhead)*rate), int((after+0.006)*rate))
	for i := k; i >= first; i-- {
		if v := mono[i]; v > limit || -v > limit {
			quiet, begin = 0, i
			continue
		}
		if quiet++; (quiet >= least || i == 0) && k-begin < most {
			return float64(begin) / rate
		}
	}
	return -1
}

// clicked returns where, around a rise, the sound bends fast: the first time at which its second difference,
// which holds little of a tail, stands out; -1 where it does not.
func clicked(mono []float32, rate, at float64) float64 {
	n := int(0.0005 * rate)
	lead := int(refineLate * rate)
	start := int(at*rate) - lead
	from := max(2*n, start-int(refineQuiet*rate))
	to := min(len(mono), int((at+refineReach/2)*rate))
	if from >= to {
		return -1
	}
	bend := make([]float32, to-from)
	for i := range bend {
		k := from + i
		bend[i] = mono[k] - 2*mono[k-n] + mono[k-2*n]
	}
	lead = max(0, start-from)
	before, peak := peakOf(bend[:lead]), peakOf(bend[lead:])
	if peak < refineStands*before {
		return -1
	}
	limit := max(peak*onsetTenth, min(1.3*before, peak/2))
	for i, v := range bend[lead:] {
		if v > limit || -v > limit {
			return float64(from+lead+i) / rate
		}
	}
	return -1
}

// uncovered returns where, around a rise at a step that a tail covers, the sound goes a tenth of the local
// peak away from that tail: from how it was going to ring on since the hit before, at step last; -1 where that is
// not known.
func (m *OnsetMeter) uncovered(mono []float32, step, last int) float64 {
	at := float64(step) * onsetStep
	v := &m.innovation
	n := v.frame(at-refineLate+v.late) - 1
	_, _, told := v.ahead(n, v.frame(refineLate+refineReach), last)
	from, to := max(0, int((at-refineLate)*m.full)), min(len(mono), int((at+refineReach)*m.full))
	if from >= to || told == nil {
		return -1
	}
	off := make([]float32, to-from)
	for i := range off {
		off[i] = mono[from+i]
		if u := (float64(from+i)/m.full+v.late)*v.rate - float64(n); u >= 0 && int(u)+1 < len(told) {
			k := int(u)
			off[i] -= float32(told[k] + (u-float64(k))*(told[k+1]-told[k]))
		}
	}
	peak := peakOf(off)
	limit := max(peak*onsetTenth, min(1.2*peakOf(off[:len(off)/9]), peak/2))
	for i, d := range off {
		if d > limit || -d > limit {
			return float64(from+i) / m.full
		}
	}
	return at
}
