package meter

import (
	"math"

	"mellowthump/core/dsp"
)

// gainFloor is the lowest gain that is told, dB.
const gainFloor = -60.0

// LocalGain is the gain in dB that leads from x to y around frame at of x, reach frames to each side, by least squares; where the two
// do not agree in sign, the ratio of their energies. y is read shift frames later. None where the mean square of x is under least.
func LocalGain(x, y []float32, at, shift, reach int, least float64) Figure {
	var xx, xy, yy float64
	from, to := max(0, at-reach, -shift), min(len(x), at+reach+1, len(y)-shift)
	for i := from; i < to; i++ {
		a, b := float64(x[i]), float64(y[i+shift])
		xx, xy, yy = xx+a*a, xy+a*b, yy+b*b
	}
	if to <= from || xx < least*float64(to-from) {
		return None
	}
	g := xy / xx
	if g <= 0 {
		g = math.Sqrt(yy / xx)
	}
	return Figure(math.Max(gainFloor, dsp.DB(math.Max(g, 1e-4))))
}
