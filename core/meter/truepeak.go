package meter

import (
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
)

const (
	tpPhases = 4  // oversampling, BS.1770-5 Annex 2
	tpCloser = 8  // where the maximum may be: near half the rate 4 fall short by up to 0.69 dB, 8 by 0.17
	tpTaps   = 24 // taps a phase; the annex's own example has 12
	tpBeta   = 7.0
	tpChunk  = 32 // frames judged at a time; more than tpTaps
)

// tpTable holds the phases between samples: the three of four times the rate, then the four more of eight times. The
// phase on the sample is the sample.
var tpTable, tpNear, tpFar = truePeakFilter()

// truePeakFilter designs the interpolator of BS.1770-5 Annex 2 as a Kaiser-windowed sinc
// and returns it with the largest sums of magnitudes of its two middle taps and of all
// others: no output exceeds near x the larger middle sample + far x the largest other one.
func truePeakFilter() (table [tpCloser - 1][tpTaps]float32, near, far float32) {
	for p := range table {
		frac := float64(p+1) / tpPhases
		if p >= tpPhases-1 {
			frac = float64(2*(p-tpPhases+1)+1) / tpCloser
		}
		total := 0.0
		var h [tpTaps]float64
		for k := range h {
			t := float64(k-tpTaps/2+1) - frac
			h[k] = math.Sin(math.Pi*t) / (math.Pi * t) * dsp.Kaiser(t/(tpTaps/2), tpBeta)
			total += h[k]
		}
		mid, rest := 0.0, 0.0
		for k := range h {
			h[k] /= total // unity at DC in every phase
			if k == tpTaps/2-1 || k == tpTaps/2 {
				mid += math.Abs(h[k])
			} else {
				rest += math.Abs(h[k])
			}
			table[p][k] = float32(h[k])
		}
		near, far = max(near, float32(mid)), max(far, float32(rest))
	}
	const rounding = 1.0001 // of the float32 sums
	return table, near * rounding, far * rounding
}

// TruePeak measures the true peak of sound given block by block. Stretches that cannot
// hold the maximum, by the sum of the filter's magnitudes, are skipped; none is estimated.
type TruePeak struct {
	tail  [][]float32 // the last tpTaps-1 samples of each channel
	work  []float32
	peaks []float32 // of its chunks
	max   float32
}

// NewTruePeak returns a meter for that number of channels.
func NewTruePeak(channels int) *TruePeak {
	t := &TruePeak{}
	for range channels {
		t.tail = append(t.tail, make([]float32, tpTaps-1))
	}
	return t
}

// Add measures the next block.
func (t *TruePeak) Add(b audio.Buffer) {
	for c, x := range b.Ch {
		t.add(c, x)
	}
}

// add measures the next block of a channel and returns its sample peak.
func (t *TruePeak) add(c int, x []float32) float32 {
	t.work = append(append(t.work[:0], t.tail[c]...), x...)
	w := t.work
	// The peak of each aligned chunk is looked up once; a window reaches into the next chunk.
	t.peaks = t.peaks[:0]
	var peak float32
	for at := 0; at < len(w); at += tpChunk {
		p := peakOf(w[at:min(at+tpChunk, len(w))])
		t.peaks = append(t.peaks, p)
		peak = max(peak, p)
	}
	t.max = max(t.max, peak)
	end := len(w) - tpTaps + 1 // number of windows
	t.peaks = append(t.peaks, 0)
	for at := 0; at < end; at += tpChunk {
		k := at / tpChunk
		if most := max(t.peaks[k], t.peaks[k+1]); most*(tpNear+tpFar) > t.max {
			t.chunk(w, at, min(at+tpChunk, end), most)
		}
	}
	copy(t.tail[c], w[len(w)-tpTaps+1:])
	return peak
}

// chunk interpolates between the middle samples of the windows from..to, where these are
// large enough for a new maximum; most is the largest sample of all the windows.
func (t *TruePeak) chunk(w []float32, from, to int, most float32) {
	for i := from; i < to; i++ {
		win := (*[tpTaps]float32)(w[i:])
		a, b := win[tpTaps/2-1], win[tpTaps/2]
		if max(a, -a, b, -b)*tpNear+most*tpFar <= t.max {
			continue
		}
		top := max(a, -a, b, -b)
		for p := range tpPhases - 1 { // as tpAt, in line
			h := &tpTable[p]
			var s0, s1, s2, s3 float32
			for k := 0; k < tpTaps; k += 4 {
				s0 += h[k] * win[k]
				s1 += h[k+1] * win[k+1]
				s2 += h[k+2] * win[k+2]
				s3 += h[k+3] * win[k+3]
			}
			if v := s0 + s1 + s2 + s3; v > top {
				top = v
			} else if -v > top {
				top = -v
			}
		}
		t.max = max(t.max, top)
		if top < t.max*tpNearMax {
			continue
		}
		for p := tpPhases - 1; p < len(tpTable); p++ { // the maximum may be here: look closer
			t.max = max(t.max, tpAt(p, win))
		}
	}
}

// tpNearMax is how near to the maximum so far a place is that may hold a larger one between its phases: four times
// the rate fall short by cos(pi/8) at the most.
const tpNearMax = 0.92

// tpAt returns the magnitude at a phase of a window.
func tpAt(p int, win *[tpTaps]float32) float32 {
	h := &tpTable[p]
	var s0, s1, s2, s3 float32
	for k := 0; k < tpTaps; k += 4 {
		s0 += h[k] * win[k]
		s1 += h[k+1] * win[k+1]
		s2 += h[k+2] * win[k+2]
		s3 += h[k+3] * win[k+3]
	}
	v := s0 + s1 + s2 + s3
	return max(v, -v)
}

// Peak returns the true peak so far in dBTP, of the louder channel; None for silence.
// The interpolator looks ahead half its length, so the sound's own end is taken as silence.
func (t *TruePeak) Peak() Figure {
	silence := make([]float32, tpTaps)
	for c := range t.tail {
		keep := append([]float32(nil), t.tail[c]...)
		t.add(c, silence)
		copy(t.tail[c], keep)
	}
	return level(float64(t.max))
}

// peakOf returns the largest magnitude. Without its sign bit a float32 orders like the
// integer of its bits, which is several times faster to compare.
func peakOf(x []float32) float32 {
	var m, n uint32 // two that do not wait for each other
	i := 0
	for ; i+1 < len(x); i += 2 {
		m = max(m, math.Float32bits(x[i])&^signBit)
		n = max(n, math.Float32bits(x[i+1])&^signBit)
	}
	if i < len(x) {
		m = max(m, math.Float32bits(x[i])&^signBit)
	}
	return math.Float32frombits(max(m, n))
}

const signBit = 1 << 31

// Peak returns the largest magnitude of a stretch of sound, as amplitude.
func Peak(x []float32) float32 { return peakOf(x) }

func level(amplitude float64) Figure {
	if amplitude <= 0 {
		return None
	}
	return Figure(20 * math.Log10(amplitude))
}
