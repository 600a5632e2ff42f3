package duck

import (
	"fmt"
	"strings"

	"mellowthump/core/figure"
	"mellowthump/core/move"
)

// Values says a duck's values in general terms, to be read beside others and set by hand elsewhere.
func Values(d *move.Duck) string {
	if !d.Keyed() {
		points := make([]string, len(d.Points))
		for i, p := range d.Points {
			points[i] = fmt.Sprintf("%s dB at %s ms", figure.Short(p.DB), figure.Short(p.MS))
		}
		return strings.Join(points, ", ")
	}
	c := d.Comp
	s := fmt.Sprintf("threshold %s dB, %g to 1, knee %g dB; attack %g, hold %g, release %g, look-ahead %g ms",
		figure.Short(c.Threshold), c.Ratio, c.Knee, c.Attack, c.Hold, c.Release, c.Lookahead)
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
