package dsp

import "math"

// levelBits is the number of bits of the mantissa that LevelDB looks up; between them it is straight.
const levelBits = 12

// levelTable holds 20 log10 of 1 to 2.
var levelTable = func() (t [1<<levelBits + 1]float64) {
	for i := range t {
		t[i] = 20 * math.Log10(1+float64(i)/(1<<levelBits))
	}
	return t
}()

// LevelDB is DB of a positive, normal amplitude, within a ten-millionth of a dB and several times as fast: for
// what takes the level of every sample.
func LevelDB(amplitude float32) float64 {
	const octave = 6.020599913279624 // dB, 20 log10 2
	b := math.Float32bits(amplitude)
	exponent := int(b>>23&0xff) - 127
	mantissa := b & (1<<23 - 1)
	i := mantissa >> (23 - levelBits)
	part := float64(mantissa&(1<<(23-levelBits)-1)) / (1 << (23 - levelBits))
	return float64(exponent)*octave + levelTable[i] + part*(levelTable[i+1]-levelTable[i])
}
