//go:build goexperiment.simd

package dsp

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// Four values at a time give what one at a time gives, to the bit, whatever the length.
func TestWideIsPlain(t *testing.T) {
	if !wide {
		t.Skip("this processor takes one value at a time")
	}
	rng := rand.New(rand.NewPCG(3, 4))
	for _, n := range []int{16, 32, 64, 128, 256, 512, 1024, 2048, 4096, 8192, 65536} {
		x := make([]float64, n)
		for i := range x {
			x[i] = rng.NormFloat64()
		}
		fast := NewFFT(n)
		got := fast.Coefficients(nil, x)
		back := fast.Sequence(nil, got)
		wide = false
		slow := NewFFT(n)
		want := slow.Coefficients(nil, x)
		again := slow.Sequence(nil, want)
		wide = true
		if !slices.Equal(got, want) || !slices.Equal(back, again) {
			t.Errorf("%d values: another result, four at a time", n)
		}
	}
}
