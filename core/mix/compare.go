package mix

import (
	"context"
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
)

// Change is what a new version of a file does against the one before.
type Change struct {
	Gain  meter.Figure // dB
	Alike float64      // correlation of the two, 1: the same sound at another level
}

// alikeEnough is the correlation from which the gain is that of the best fit; under it, it is
// the difference of the levels alone.
const alikeEnough = 0.9

// Changed compares two files over their whole length, mono: where they hold the same sound its
// gain by least squares, else the difference of their RMS levels.
func (r *Renderer) Changed(ctx context.Context, was, now string, rate int) (Change, error) {
	return Cached(ctx, r.Cache, key("changed", was, now, rate), func() (Change, int, error) {
		n := 0
		for _, sha := range []string{was, now} {
			in, closeFile, err := r.Library.Open(sha)
			if err != nil {
				return Change{}, 0, err
			}
			f := in.Format()
			closeFile()
			n = max(n, int(math.Ceil(f.Duration()*float64(rate))))
		}
		var xx, yy, xy float64
		err := pieces(ctx, rate, Window{0, n}, func(ctx context.Context, w Window) error {
			a, err := r.source(ctx, was, rate, w)
			if err != nil {
				return err
			}
			b, err := r.source(ctx, now, rate, w)
			if err != nil {
				return err
			}
			x, y := a.Mono(), b.Mono()
			for i, v := range x {
				xx, yy, xy = xx+float64(v)*float64(v), yy+float64(y[i])*float64(y[i]), xy+float64(v)*float64(y[i])
			}
			return nil
		})
		c := Change{Gain: meter.None}
		if err == nil && xx > 0 && yy > 0 {
			c.Alike = xy / math.Sqrt(xx*yy)
			c.Gain = meter.Figure(dsp.PowerDB(yy / xx))
			if c.Alike > alikeEnough {
				c.Gain = meter.Figure(dsp.DB(xy / xx))
			}
		}
		return c, 100, err
	})
}
