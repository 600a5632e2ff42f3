package dsp

import "math"

// Kaiser returns the Kaiser window at u, -1 to 1 from end to end: I0(beta sqrt(1-u^2)) /
// I0(beta), 0 outside (Kaiser 1974; Oppenheim and Schafer, "Discrete-Time Signal
// Processing", sec. 7.6).
func Kaiser(u, beta float64) float64 {
	if u <= -1 || u >= 1 {
		return 0
	}
	return bessel0(beta*math.Sqrt(1-u*u)) / bessel0(beta)
}

// bessel0 is the modified Bessel function of the first kind, order 0, by its power series.
func bessel0(x float64) float64 {
	sum, term := 1.0, 1.0
	for k := 1; term > 1e-12*sum; k++ {
		h := x / (2 * float64(k))
		term *= h * h
		sum += term
	}
	return sum
}

// Hann returns the Hann window of n points, taken at their middles: 0.5 - 0.5 cos(2 pi (i + 0.5) / n).
func Hann(n int) []float64 {
	w := make([]float64, n)
	for i := range w {
		w[i] = 0.5 - 0.5*math.Cos(2*math.Pi*(float64(i)+0.5)/float64(n))
	}
	return w
}
