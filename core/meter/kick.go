package meter

import (
	"math"
	"math/cmplx"
	"sort"

	"mellowthump/core/dsp"
)

const (
	kickLowHz  = 25.0  // the low band in which a kick's pitch is followed
	kickHighHz = 300.0 // above the start of the sweep's loud part
	kickReach  = 0.5   // s after the hit
	kickHits   = 24    // about as many hits are followed
	kickUnder  = 0.01  // energy at which following ends: 20 dB under the peak
)

// KickPitch returns the pitch on which a kick settles: for each hit the energy-weighted
// median of the instantaneous frequency from the low band's peak until 20 dB under it, and
// of these the median over the hits. low and fs are as from Low; hits are in seconds. The
// confidence falls with the spread between hits. It returns nil where there is none.
func KickPitch(low []float32, fs float64, hits []float64) *Pitch {
	n := 1
	for n < int(2*kickReach*fs) {
		n *= 2
	}
	f := &follower{fft: dsp.NewComplex(n), fs: fs, weights: make([]float64, n)}
	for k := range f.weights {
		f.weights[k] = bandWeight(float64(k) * fs / float64(n))
	}
	var settled []Figure
	stride := max(1, len(hits)/kickHits) // a long song's hits repeat
	for i, h := range hits {
		if i%stride != 0 {
			continue
		}
		end := h + kickReach
		if i+1 < len(hits) {
			end = min(end, hits[i+1])
		}
		from, to := int(h*fs), min(int(end*fs), len(low))
		if to-from < int(0.03*fs) {
			continue
		}
		if hz := f.settle(low[from:to]); hz > 0 {
			settled = append(settled, Figure(hz))
		}
	}
	if len(settled) == 0 {
		return nil
	}
	hz := float64(Median(settled))
	spread := 1200 * math.Log2(float64(Percentile(settled, 0.9)/Percentile(settled, 0.1)))
	return newPitch(hz, 1/(1+spread/100))
}

// Sweep is how a kick falls from its start to the pitch on which it settles.
type Sweep struct {
	StartHz Figure `json:"start_hz"` // median over the hits
	TimeMS  Figure `json:"time_ms"`  // from the hit until it stays within a semitone of the settled pitch
}

// KickSweep follows how a kick falls to its settled pitch, settledHz.
func KickSweep(low []float32, fs float64, hits []float64, settledHz float64) Sweep {
	n := 1
	for n < int(2*kickReach*fs) {
		n *= 2
	}
	f := &follower{fft: dsp.NewComplex(n), fs: fs, weights: make([]float64, n)}
	for k := range f.weights { // wider at the top than for the settled pitch: the start is high
		f.weights[k] = bandWeight(float64(k) * fs / float64(n) / sweepUp)
		if hz := float64(k) * fs / float64(n); hz > kickLowHz && hz < kickHighHz*sweepUp {
			f.weights[k] = 1
		}
	}
	var starts, times []Figure
	stride := max(1, len(hits)/kickHits)
	for i, h := range hits {
		end := h + kickReach
		if i+1 < len(hits) {
			end = min(end, hits[i+1])
		}
		from, to := int(h*fs), min(int(end*fs), len(low))
		if i%stride != 0 || to-from < int(0.03*fs) {
			continue
		}
		if start, time, ok := f.sweep(low[from:to], settledHz); ok {
			starts, times = append(starts, Figure(start)), append(times, Figure(1000*time))
		}
	}
	return Sweep{StartHz: Median(starts), TimeMS: Median(times)}
}

const sweepUp = 2.5 // how much further up a sweep is followed than the settled pitch

// sweep returns the highest pitch in the first 15 ms and the time of settling, in seconds.
func (f *follower) sweep(x []float32, settled float64) (start, time float64, ok bool) {
	z := f.analytic(x)
	peak := 0.0
	for i := range x {
		peak = max(peak, real(z[i])*real(z[i])+imag(z[i])*imag(z[i]))
	}
	last := -1
	for i := 1; i < len(x); i++ {
		e := real(z[i])*real(z[i]) + imag(z[i])*imag(z[i])
		if e < peak*kickUnder {
			if last >= 0 {
				break
			}
			continue
		}
		hz := cmplx.Phase(z[i]*cmplx.Conj(z[i-1])) * f.fs / (2 * math.Pi)
		if float64(i) < 0.015*f.fs {
			start = max(start, hz)
		}
		if last < 0 || math.Abs(12*math.Log2(max(hz, 1)/settled)) > 1 {
			last = i
		}
	}
	return start, float64(last) / f.fs, last >= 0 && start > 0
}

// follower follows hits by their analytic signal: the positive frequencies of the band.
type follower struct {
	fft     *dsp.Complex
	fs      float64
	weights []float64
	z, c    []complex128
}

// analytic returns the analytic signal of the band for a hit; it is kept until the next call.
func (f *follower) analytic(x []float32) []complex128 {
	n := f.fft.Len()
	if f.z == nil {
		f.z, f.c = make([]complex128, n), make([]complex128, n)
	}
	for i := range f.z {
		f.z[i] = 0
		if i < len(x) {
			f.z[i] = complex(float64(x[i]), 0)
		}
	}
	f.c = f.fft.Coefficients(f.c, f.z)
	for k, w := range f.weights {
		f.c[k] *= complex(w, 0)
	}
	f.z = f.fft.Sequence(f.z, f.c)
	return f.z
}

// settle returns the pitch on which one hit settles, 0 where it has none.
func (f *follower) settle(x []float32) float64 {
	z, fs := f.analytic(x), f.fs
	peak, at := 0.0, 0
	energy := make([]float64, len(x))
	for i := range energy {
		energy[i] = real(z[i])*real(z[i]) + imag(z[i])*imag(z[i])
		if energy[i] > peak {
			peak, at = energy[i], i
		}
	}
	if peak == 0 {
		return 0
	}
	type point struct{ hz, weight float64 }
	var points []point
	total := 0.0
	for i := at + 1; i < len(x) && energy[i] > peak*kickUnder; i++ {
		hz := cmplx.Phase(z[i]*cmplx.Conj(z[i-1])) * fs / (2 * math.Pi)
		if hz > 0 {
			points = append(points, point{hz, energy[i]})
			total += energy[i]
		}
	}
	sort.Slice(points, func(i, j int) bool { return points[i].hz < points[j].hz })
	half := 0.0
	for _, p := range points {
		if half += p.weight; half >= total/2 {
			return p.hz
		}
	}
	return 0
}

// bandWeight is 1 inside the kick's low band and falls to 0 over half an octave outside.
func bandWeight(hz float64) float64 {
	if hz <= 0 {
		return 0
	}
	out := max(math.Log2(kickLowHz/hz), math.Log2(hz/kickHighHz)) * 2 // half octaves outside
	switch {
	case out <= 0:
		return 1
	case out >= 1:
		return 0
	}
	return 0.5 + 0.5*math.Cos(math.Pi*out)
}
