package mix

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// Taken is what is taken away between two songs in a solo: the one before less the one after, made to be played round and
// round as Looped is.
func (r *Renderer) Taken(ctx context.Context, before, after *session.Song, solo Solo, w Window) (audio.Buffer, error) {
	a, err := r.Looped(ctx, before, solo, w)
	if err != nil {
		return a, err
	}
	b, err := r.Looped(ctx, after, solo, w)
	if err != nil {
		return b, err
	}
	out := audio.New(a.Rate, max(len(a.Ch), len(b.Ch)), a.Frames())
	for c, x := range out.Ch {
		p, q := a.Ch[min(c, len(a.Ch)-1)], b.Ch[min(c, len(b.Ch)-1)]
		for i := range x {
			x[i] = p[i] - q[i]
		}
	}
	return out, nil
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
