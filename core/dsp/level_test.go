package dsp

import (
	"math"
	"testing"
)

// The fast level is 20 log10, to a ten-millionth of a dB.
func TestLevelDB(t *testing.T) {
	for x := 1e-8; x < 10; x *= 1.00037 {
		a := float32(x)
		if want := 20 * math.Log10(float64(a)); math.Abs(LevelDB(a)-want) > 1e-7 {
			t.Fatalf("%g: %.9f dB, want %.9f", a, LevelDB(a), want)
		}
	}
}
