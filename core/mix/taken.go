package mix

import (
	"context"
	"math"
	"math/cmplx"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// Frames in which what is taken away is looked for; they overlap by three quarters.
const (
	takenFrame = 4096
	takenHop   = takenFrame / 4
)

// Taken is what is taken away between two songs in a solo, made to be played round and round as Looped is: of the one before in each cell of
// frame and bin by how much its magnitude is less in the one after, in its own phase. What only turns phase takes nothing away, so
// that what nobody misses is as soft here; what is added is not in it.
func (r *Renderer) Taken(ctx context.Context, before, after *session.Song, solo Solo, w Window) (audio.Buffer, error) {
	return r.looped(before.Rate, w, func(wide Window) (audio.Buffer, error) {
		a, _, err := r.solo(ctx, before, solo, wide, 1)
		if err != nil {
			return a, err
		}
		b, _, err := r.solo(ctx, after, solo, wide, 1)
		if err != nil {
			return b, err
		}
		out := audio.New(a.Rate, max(len(a.Ch), len(b.Ch)), a.Frames())
		var g group.Group
		for c, x := range out.Ch {
			g.Go(func() error {
				gone(x, a.Ch[min(c, len(a.Ch)-1)], b.Ch[min(c, len(b.Ch)-1)])
				return ctx.Err()
			})
		}
		return out, g.Wait()
	})
}

// gone sets what of p is not in q, in magnitude: short-time transforms with the square root of a Hann window before and after.
func gone(to, p, q []float32) {
	fft, window := dsp.NewFFT(takenFrame), dsp.Hann(takenFrame)
	for i, v := range window {
		window[i] = math.Sqrt(v)
	}
	scale := 1 / (float64(takenFrame) * takenFrame / takenHop / 2) // of the transform, and of the windows that overlap
	x, y := make([]float64, takenFrame), make([]float64, takenFrame)
	of, less := make([]complex128, takenFrame/2+1), make([]complex128, takenFrame/2+1)
	sum := make([]float64, len(to))
	for at := takenHop - takenFrame; at < len(p); at += takenHop {
		for i := range x {
			x[i], y[i] = 0, 0
			if k := at + i; k >= 0 && k < len(p) {
				x[i], y[i] = float64(p[k])*window[i], float64(q[k])*window[i]
			}
		}
		fft.Coefficients(of, x)
		fft.Coefficients(less, y)
		for k, v := range of {
			had, has := cmplx.Abs(v), cmplx.Abs(less[k])
			if had > has {
				of[k] = v * complex((had-has)/had, 0)
			} else {
				of[k] = 0
			}
		}
		fft.Sequence(x, of)
		for i, v := range x {
			if k := at + i; k >= 0 && k < len(sum) {
				sum[k] += v * window[i] * scale
			}
		}
	}
	for i, v := range sum {
		to[i] = float32(v)
	}
}

// TakenLoudness is how loud it is.
func (r *Renderer) TakenLoudness(ctx context.Context, before, after *session.Song, solo Solo, w Window) (Loud, error) {
	b, err := r.Taken(ctx, before, after, solo, w)
	if err != nil {
		return Loud{meter.None, meter.None}, err
	}
	for len(b.Ch) < 2 { // it sounds on both sides
		b.Ch = append(b.Ch, b.Ch[0])
	}
	l := meter.NewLoudness(b.Rate, len(b.Ch))
	l.Add(b)
	return Loud{Peak: meter.PeakDB(b.Ch...), Integrated: l.Integrated()}, nil
}
