package room

import (
	"context"
	"math"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
)

// together lowers the corners of all stems, a third of an octave at a time, until cutting them all at once is unheard
// too: each is masked by the others only as long as they are there. own renders what a stem brings to the mix, and beside is what is
// not cut. It sets Low.All.
func together(ctx context.Context, e *meter.Ear, beside audio.Buffer, own func(ctx context.Context, i int) (audio.Buffer, error), cuts []Cut, lead, slope int) error {
	from, to := Low.channels(e, LowCorners[len(LowCorners)-1])
	fixed, err := loudFrames(ctx, e, beside, lead, to)
	if err != nil {
		return err
	}
	sum := func(cut bool) ([][]float64, error) {
		all := make([][]float64, len(fixed))
		for k := range fixed {
			all[k] = slices.Clone(fixed[k])
		}
		each := make([][][]float64, len(cuts))
		g, gctx := errgroup.WithContext(ctx)
		g.SetLimit(runtime.GOMAXPROCS(0))
		for i := range cuts {
			g.Go(func() error {
				b, err := own(gctx, i)
				if err == nil && cut && cuts[i].Low.All > 0 {
					b, err = filtered(b, Low.cut(cuts[i].Low.All, slope))
				}
				if err == nil {
					each[i], err = loudFrames(gctx, e, b, lead, to)
				}
				return err
			})
		}
		if err := g.Wait(); err != nil {
			return nil, err
		}
		for _, stem := range each {
			for k := range all {
				for n := range all[k] {
					all[k][n] += stem[k][n]
				}
			}
		}
		return all, nil
	}
	was, err := sum(false)
	if err != nil {
		return err
	}
	for down := 0; ; down++ {
		any := false
		for i := range cuts {
			at := slices.Index(LowCorners, cuts[i].Low.Mix) - down
			if cuts[i].Low.All = 0; at >= 0 && cuts[i].Low.Mix > 0 {
				cuts[i].Low.All, any = LowCorners[at], true
			}
			cuts[i].Low.All = math.Max(cuts[i].Low.All, math.Min(cuts[i].Low.Alone, cuts[i].Low.Mix)) // that much goes unheard whatever the others do
		}
		if !any {
			return nil
		}
		now, err := sum(true)
		if err != nil {
			return err
		}
		sounding, heard := 0, 0
		for k := range was {
			if !e.Heard(was[k], make([]float64, len(was[k])), from, to) { // nothing is there
				continue
			}
			sounding++
			if e.Heard(was[k], now[k], from, to) {
				heard++
			}
		}
		if heard <= int(heardShare*float64(sounding)) {
			return nil
		}
	}
}

// loudFrames are the excitations of a sound in the channels under one, frame by frame.
func loudFrames(ctx context.Context, e *meter.Ear, x audio.Buffer, lead, to int) ([][]float64, error) {
	var out [][]float64
	power := make([]float64, e.Frame/2+1)
	for at := lead; at+e.Frame <= x.Frames() || at == lead; at += e.Frame / 2 {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		w := make([]float64, to)
		e.Power(power, x, at)
		e.Excite(w, power, 0, to)
		out = append(out, w)
	}
	return out, nil
}
