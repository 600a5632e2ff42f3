package dsp

import (
	"fmt"
	"math"
)

// Shape is a shape of the RBJ cookbook.
type Shape string

// The shapes (R. Bristow-Johnson, "Cookbook formulae for audio EQ biquad filter coefficients").
const (
	Highpass  Shape = "highpass"
	Lowpass   Shape = "lowpass"
	Bell      Shape = "bell"
	LowShelf  Shape = "lowshelf"
	HighShelf Shape = "highshelf"
	bandpass  Shape = "bandpass" // 0 dB at its peak
)

// RBJ returns one section of the cookbook at hz, with a Q and, for bells and shelves, a gain in
// dB.
func RBJ(s Shape, hz, q, db, fs float64) (Biquad, error) {
	if !(hz > 0 && hz < fs/2) || !(q > 0) || math.IsNaN(db) || math.IsInf(db, 0) {
		return Biquad{}, fmt.Errorf("dsp: a %s at %g Hz with a Q of %g does not fit a rate of %g Hz", s, hz, q, fs)
	}
	w := 2 * math.Pi * hz / fs
	c, alpha := math.Cos(w), math.Sin(w)/(2*q)
	a := math.Pow(10, db/40)
	root := 2 * math.Sqrt(a) * alpha
	var b0, b1, b2, a0, a1, a2 float64
	switch s {
	case Highpass:
		b0, b1, b2 = (1+c)/2, -(1 + c), (1+c)/2
		a0, a1, a2 = 1+alpha, -2*c, 1-alpha
	case Lowpass:
		b0, b1, b2 = (1-c)/2, 1-c, (1-c)/2
		a0, a1, a2 = 1+alpha, -2*c, 1-alpha
	case bandpass:
		b0, b1, b2 = alpha, 0, -alpha
		a0, a1, a2 = 1+alpha, -2*c, 1-alpha
	case Bell:
		b0, b1, b2 = 1+alpha*a, -2*c, 1-alpha*a
		a0, a1, a2 = 1+alpha/a, -2*c, 1-alpha/a
	case LowShelf:
		b0, b1, b2 = a*((a+1)-(a-1)*c+root), 2*a*((a-1)-(a+1)*c), a*((a+1)-(a-1)*c-root)
		a0, a1, a2 = (a+1)+(a-1)*c+root, -2*((a-1)+(a+1)*c), (a+1)+(a-1)*c-root
	case HighShelf:
		b0, b1, b2 = a*((a+1)+(a-1)*c+root), -2*a*((a-1)+(a+1)*c), a*((a+1)+(a-1)*c-root)
		a0, a1, a2 = (a+1)-(a-1)*c+root, 2*((a-1)-(a+1)*c), (a+1)-(a-1)*c-root
	default:
		return Biquad{}, fmt.Errorf("dsp: no shape is called %q", s)
	}
	return Biquad{b0 / a0, b1 / a0, b2 / a0, a1 / a0, a2 / a0}, nil
}

// BandpassRBJ returns the cookbook's band-pass with 0 dB at its peak.
func BandpassRBJ(hz, q, fs float64) (Biquad, error) { return RBJ(bandpass, hz, q, 0, fs) }

// LinkwitzRiley returns the low and the high part of a 4th-order crossover at hz: each a 2nd-order
// Butterworth twice, -6.02 dB at the corner; their sum is flat (an all-pass).
func LinkwitzRiley(hz, fs float64) (low, high []Biquad, err error) {
	if low, err = ButterworthLowpass(2, hz, fs); err != nil {
		return nil, nil, err
	}
	if high, err = ButterworthHighpass(2, hz, fs); err != nil {
		return nil, nil, err
	}
	return append(low, low[0]), append(high, high[0]), nil
}

// SincTaps is the length of a fractional delay; it delays by SincTaps/2 - 1 frames and the fraction.
const SincTaps = 64

// FractionalDelay returns the taps of a delay of SincTaps/2 - 1 + fraction frames, fraction 0 to 1:
// a Kaiser-windowed sinc, flat to about 0.45 fs.
func FractionalDelay(fraction float64) [SincTaps]float32 {
	var h [SincTaps]float64
	sum := 0.0
	for k := range h {
		t := float64(k) - (SincTaps/2 - 1) - fraction
		h[k] = 1
		if t != 0 {
			h[k] = math.Sin(math.Pi*t) / (math.Pi * t)
		}
		h[k] *= Kaiser(t/(SincTaps/2), 8)
		sum += h[k]
	}
	var out [SincTaps]float32
	for k := range h {
		out[k] = float32(h[k] / sum)
	}
	return out
}
