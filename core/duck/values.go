package duck

import (
	"fmt"
	"strings"

	"mellowthump/core/move"
)

// Values says a duck's values in general terms, to be read beside others and set by hand elsewhere.
func Values(d *move.Duck) string {
	if !d.Keyed() {
		points := make([]string, len(d.Points))
		for i, p := range d.Points {
			points[i] = fmt.Sprintf("%s dB at %s ms", minus(p.DB), minus(p.MS))
		}
		return strings.Join(points, ", ")
	}
	c := d.Comp
	s := fmt.Sprintf("threshold %s dB, %g to 1, knee %g dB; attack %g, hold %g, release %g, look-ahead %g ms",
		minus(c.Threshold), c.Ratio, c.Knee, c.Attack, c.Hold, c.Release, c.Lookahead)
	if k := d.Key; k != nil && k.High > 0 {
		s += fmt.Sprintf("; key from %g Hz", k.High)
	}
	if k := d.Key; k != nil && k.Low > 0 {
		s += fmt.Sprintf("; key to %g Hz", k.Low)
	}
	switch b := d.Band; {
	case b == nil:
	case b.Shape == "bell":
		s = fmt.Sprintf("bell at %g Hz, Q %g, %g dB at the most, %s; ", b.Hz, b.Q, b.Range, b.Channels) + s
	default:
		s = fmt.Sprintf("all below %g Hz, %g dB at the most, %s; ", b.Hz, b.Range, b.Channels) + s
	}
	return s
}

// minus writes a number with at most one decimal and a true minus.
func minus(v float64) string {
	s := strings.TrimSuffix(fmt.Sprintf("%.1f", v), ".0")
	return strings.Replace(s, "-", "−", 1)
}
