//go:build goexperiment.simd

package move

import (
	"math/rand/v2"
	"slices"
	"testing"
)

// Eight frames side by side are driven as one after the other, to the bit, whatever their number, also where nothing sounds and
// where the curve's table ends.
func TestWideIsPlain(t *testing.T) {
	if !wide {
		t.Skip("this processor takes one value at a time")
	}
	defer func() { wide = true }()
	rng := rand.New(rand.NewPCG(5, 6))
	for _, n := range []int{1, 7, 8, 9, 63, 64, 1000, 4096} {
		x := make([]float32, n)
		for i := range x {
			if i%50 < 40 {
				x[i] = float32(rng.NormFloat64()) * []float32{0.1, 1, 30}[i/50%3]
			}
		}
		for _, adds := range []string{DriveOdd, DriveEven, DriveBoth} {
			var got [2][]float32
			for i, on := range []bool{true, false} {
				wide = on
				p, err := (&Drive{Adds: adds, Drive: 12, Over: 120, Under: 3000, Level: -6}).Processor(Place{Rate: 44100})
				if err != nil {
					t.Fatal(err)
				}
				g, y := p.(*driving), slices.Clone(x)
				g.each = append(g.each, g.fresh())
				g.channel(g.each[0], y)
				got[i] = y
			}
			if !slices.Equal(got[0], got[1]) {
				t.Errorf("%d frames, %s: another result side by side", n, adds)
			}
		}
	}
}
