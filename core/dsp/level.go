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

// gainTable holds amplitudes for every hundredth of a dB down to -120 dB.
var gainTable = func() (g [12002]float32) {
	for i := range g {
		g[i] = float32(Gain(-float64(i) / 100))
	}
	return g
}()

// LevelGain is Gain of a level in dB, 0 or less, to float32's precision and several times as fast: between
// hundredths of a dB it is straight, within 3 parts in ten million.
func LevelGain(db float64) float32 {
	x := -100 * db
	i := int(x)
	if i < 0 || i >= len(gainTable)-1 {
		return float32(Gain(db))
	}
	return gainTable[i] + float32(x-float64(i))*(gainTable[i+1]-gainTable[i])
}
