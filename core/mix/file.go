package mix

import (
	"context"
	"math"

	"mellowthump/core/audio"
)

// File reads a stretch of a file in mono, at a rate.
func (r *Renderer) File(ctx context.Context, sha string, rate int, w Window) ([]float32, error) {
	b, err := r.source(passing(ctx), sha, rate, w)
	if err != nil {
		return nil, err
	}
	return b.Mono(), nil
}

// Loudest is the stretch of a file, of at most so many seconds, in which it sounds most; all of a shorter one.
func (r *Renderer) Loudest(ctx context.Context, sha string, rate int, seconds float64) (Window, error) {
	return Cached(ctx, r.Cache, key("loudest", sha, rate, seconds), func() (Window, int, error) {
		in, closeFile, err := r.Library.Open(sha)
		if err != nil {
			return Window{}, 0, err
		}
		n := int(math.Ceil(in.Format().Duration() * float64(rate)))
		closeFile()
		long := int(seconds * float64(rate))
		if n <= long {
			return Window{To: n}, 16, nil
		}
		power := make([]float64, n/rate+1) // of each second
		err = pieces(ctx, rate, Window{To: n}, func(ctx context.Context, w Window) error {
			var b audio.Buffer
			b, err := r.source(ctx, sha, rate, w)
			if err != nil {
				return err
			}
			for i, v := range b.Mono() {
				power[(w.From+i)/rate] += float64(v) * float64(v)
			}
			return nil
		})
		if err != nil {
			return Window{}, 0, err
		}
		span, sum, best, at := long/rate, 0.0, -1.0, 0
		for i, p := range power {
			sum += p
			if i >= span {
				sum -= power[i-span]
			}
			if i >= span-1 && sum > best*1.01 {
				best, at = sum, i-span+1
			}
		}
		from := min(at*rate, n-long)
		return Window{From: from, To: from + long}, 16, nil
	})
}
