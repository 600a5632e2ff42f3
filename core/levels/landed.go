package levels

import (
	"context"
	"math"

	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// landedWithin is how near to its trim a new bounce must come, dB.
const landedWithin = 0.3

// Landing is how one trim of a plan that is carried out elsewhere came back.
type Landing struct {
	Stem    *session.Stem
	Planned float64      // dB
	Got     meter.Figure // dB; None while no new version is in
	Alike   float64      // correlation of old and new
}

// Back reports whether a new version of the stem is in.
func (l Landing) Back() bool { return l.Got.Valid() }

// Landed reports whether the trim came back as planned, within 0.3 dB.
func (l Landing) Landed() bool {
	return l.Back() && math.Abs(float64(l.Got)-l.Planned) <= landedWithin
}

// Landings compares the new versions of stems with the plan that is carried out elsewhere.
func Landings(ctx context.Context, r *mix.Renderer, song *session.Song) ([]Landing, error) {
	if song.Plan == nil {
		return nil, nil
	}
	var out []Landing
	for _, t := range song.Plan.Trims {
		st := song.Stem(t.Stem)
		if st == nil {
			continue
		}
		l := Landing{Stem: st, Planned: t.DB, Got: meter.None}
		if st.Audio != t.Audio {
			c, err := r.Changed(ctx, t.Audio, st.Audio, song.Rate)
			if err != nil {
				return nil, err
			}
			l.Got, l.Alike = c.Gain, c.Alike
		}
		out = append(out, l)
	}
	return out, nil
}
