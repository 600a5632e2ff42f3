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

// The fast gain is 10^(dB/20), to float32's precision.
func TestLevelGain(t *testing.T) {
	for db := 0.0; db > -130; db -= 0.00713 {
		want := math.Pow(10, db/20)
		if got := float64(LevelGain(db)); math.Abs(got-want) > 3e-7*want+1e-12 {
			t.Fatalf("%.5f dB is %.9g, want %.9g", db, got, want)
		}
	}
}
