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
	fft := fourier.NewCmplxFFT(n)
	var settled []Figure
	for i, h := range hits {
		end := h + kickReach
		if i+1 < len(hits) {
			end = min(end, hits[i+1])
		}
		from, to := int(h*fs), min(int(end*fs), len(low))
		if to-from < int(0.03*fs) {
			continue
		}
		if hz := settle(low[from:to], fs, fft); hz > 0 {
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

// settle follows one hit by its analytic signal (the positive frequencies of the band).
func settle(x []float32, fs float64, fft *fourier.CmplxFFT) float64 {
	n := fft.Len()
	z := make([]complex128, n)
	for i, v := range x {
		z[i] = complex(float64(v), 0)
	}
	c := fft.Coefficients(nil, z)
	for k := range c {
		c[k] *= complex(bandWeight(float64(k)*fs/float64(n)), 0)
	}
	z = fft.Sequence(z, c)
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
