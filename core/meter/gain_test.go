package meter

import (
	"math"
	"testing"
)

// The gain around a place is that of the stretch, later or not; none where there is too little, or nothing.
func TestLocalGain(t *testing.T) {
	x, y := make([]float32, 1000), make([]float32, 1000)
	for i := range x {
		x[i] = float32(math.Sin(float64(i) / 9))
		if i+7 < len(y) {
			y[i+7] = x[i] / 2
			if i > 500 {
				y[i+7] = -x[i] / 4
			}
		}
	}
	for _, c := range []struct {
		at, shift int
		want      float64
	}{{300, 7, -6.02}, {800, 7, -12.04}, {5, 7, -6.02}} {
		if g := LocalGain(x, y, c.at, c.shift, 80, 1e-5); math.Abs(float64(g)-c.want) > 0.01 {
			t.Errorf("at %d: %.2f dB, not %.2f", c.at, float64(g), c.want)
		}
	}
	for _, at := range []int{-500, 3000} {
		if g := LocalGain(x, y, at, 0, 80, 1e-5); g.Valid() {
			t.Errorf("at %d: %g", at, float64(g))
		}
	}
	if g := LocalGain(make([]float32, 1000), y, 300, 0, 80, 1e-5); g.Valid() {
		t.Errorf("of silence: %g", float64(g))
	}
	if g := LocalGain(x, make([]float32, 1000), 300, 0, 80, 1e-5); g != -60 {
		t.Errorf("to silence: %g", float64(g))
	}
}
