package dsp

import (
	"math"
	"math/rand/v2"

	"gonum.org/v1/gonum/dsp/fourier"
)

// The range of the pink noise, Hz.
const (
	PinkLow  = 20.0
	PinkHigh = 20000.0
)

// PinkNoise returns n samples of pink noise with an RMS of 1, the same on every call: spectral
// lines of equal power for equal ratios of frequency (-3.01 dB per octave) from 20 Hz to 20 kHz
// or 0.45 fs, with random phases. It repeats without a seam. n is best a power of two.
func PinkNoise(n int, fs float64) []float32 {
	r := rand.New(rand.NewPCG(20, 20000))
	c := make([]complex128, n/2+1)
	top := math.Min(PinkHigh, 0.45*fs)
	power := 0.0
	for k := 1; k < len(c)-1; k++ {
		hz := float64(k) * fs / float64(n)
		phase := 2 * math.Pi * r.Float64()
		if hz < PinkLow || hz > top {
			continue
		}
		a := 1 / math.Sqrt(hz)
		c[k] = complex(a*math.Cos(phase), a*math.Sin(phase))
		power += 2 * a * a
	}
	x := fourier.NewFFT(n).Sequence(nil, c)
	out := make([]float32, n)
	if power > 0 {
		g := 1 / math.Sqrt(power)
		for i, v := range x {
			out[i] = float32(v * g)
		}
	}
	return out
}

// PinkShare returns the part of the power of such noise that lies between two frequencies, Hz.
func PinkShare(lo, hi, fs float64) float64 {
	top := math.Min(PinkHigh, 0.45*fs)
	lo, hi = math.Max(lo, PinkLow), math.Min(hi, top)
	if hi <= lo {
		return 0
	}
	return math.Log(hi/lo) / math.Log(top/PinkLow)
}
