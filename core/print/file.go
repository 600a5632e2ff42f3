package print

import (
	"context"
	"errors"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/field"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// loudest is the stretch of a file on which the split between clip and limiter is looked for, s.
const loudest = 20.0

// ErrSilent is said of a sound in which there is nothing to print.
var ErrSilent = errors.New("it is silent: there is nothing to print")

// Whole solves a whole sound: the split on its loudest 20 s, the drive on all of it. hits are frames of it, where they are
// known. The error is ErrSilent where it is silent.
func Whole(ctx context.Context, x audio.Buffer, hits []int, asked session.Print) (*Solved, Result, error) {
	if err := field.All(asked.Fields()); err != nil {
		return nil, Result{}, err
	}
	from, to, err := meter.Loudest(ctx, audio.Memory{Buffer: x}, loudest)
	if err != nil {
		return nil, Result{}, err
	}
	a, b := int(from*float64(x.Rate)), min(x.Frames(), int(math.Ceil(to*float64(x.Rate))))
	lead := min(a, x.Rate)
	var in []int
	for _, h := range hits {
		if h >= a && h < b {
			in = append(in, h-a)
		}
	}
	s, err := Solve(ctx, x.Slice(a-lead, b), lead, in, asked, 0)
	if err != nil {
		return nil, Result{}, err
	}
	if s == nil {
		return nil, Result{}, ErrSilent
	}
	plain, err := Run(nil, x, 0)
	if err != nil {
		return nil, Result{}, err
	}
	before := plain.Measure(hits)
	if !before.Loudness.Valid() {
		return nil, Result{}, ErrSilent
	}
	if asked.School == "none" {
		return &Solved{Print: asked, Before: before, After: before, Reached: true}, plain, nil
	}
	before.TruePeak = meter.Figure(math.Max(float64(before.TruePeak), float64(s.Before.TruePeak)))
	if s, err = (driven{x, 0, hits, before}).drive(ctx, asked, s.Clip, 0); err != nil {
		return nil, Result{}, err
	}
	r, err := Run(s.Chain, x, 0)
	return s, r, err
}
