package meter

import (
	"math"
	"math/cmplx"
	"sort"

	"gonum.org/v1/gonum/dsp/fourier"
)

const (
	kickLowHz  = 25.0  // the low band in which a kick's pitch is followed
	kickHighHz = 300.0 // above the start of the sweep's loud part
	kickReach  = 0.5   // s after the hit
	kickHits   = 48    // about as many hits are followed
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
	f := &follower{fft: fourier.NewCmplxFFT(n), fs: fs, weights: make([]float64, n)}
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

// follower follows hits by their analytic signal: the positive frequencies of the band.
type follower struct {
	fft     *fourier.CmplxFFT
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
