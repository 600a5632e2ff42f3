package meter

import "math"

// ERB returns the equivalent rectangular bandwidth of the auditory filter at a frequency, both in
// Hz (Glasberg and Moore, Hearing Research 47, 1990, eq. 3): 132.6 Hz at 1 kHz.
func ERB(hz float64) float64 { return 24.7 * (4.37*hz/1000 + 1) }

// ERBNumber returns the number of ERBs under a frequency in Hz (same paper, eq. 4, with the
// constants that follow from eq. 3).
func ERBNumber(hz float64) float64 {
	const perERB = 1000 / (24.7 * 4.37)
	return perERB * math.Log(4.37*hz/1000+1)
}

// ERBHz is the inverse of ERBNumber.
func ERBHz(n float64) float64 {
	const perERB = 1000 / (24.7 * 4.37)
	return (math.Exp(n/perERB) - 1) * 1000 / 4.37
}

// CriticalBand is one of a row of bands, each one ERB wide.
type CriticalBand struct{ Lo, Hi float64 } // Hz

// Middle returns the band's middle on the ERB scale, Hz.
func (b CriticalBand) Middle() float64 { return ERBHz((ERBNumber(b.Lo) + ERBNumber(b.Hi)) / 2) }

// CriticalBands returns bands of one ERB each, side by side from 20 Hz to at most top Hz.
func CriticalBands(top float64) []CriticalBand {
	var out []CriticalBand
	for n := ERBNumber(20); ERBHz(n+1) <= top; n++ {
		out = append(out, CriticalBand{ERBHz(n), ERBHz(n + 1)})
	}
	return out
}
