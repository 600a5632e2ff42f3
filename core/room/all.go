package room

import (
	"context"
	"math"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"
)

// together lowers the corners of all stems, a third of an octave at a time, until cutting them all at once is unheard
// too: each is masked by the others only as long as they are there. It sets Low.All.
func (a *cutting) together(ctx context.Context, cuts []Cut) error {
	e := a.crowd.ear
	from, to := Low.channels(e, LowCorners[len(LowCorners)-1])
	set := func(down int) {
		for i := range cuts {
			at := slices.Index(LowCorners, cuts[i].Low.Mix) - down
			if cuts[i].Low.All = 0; at >= 0 && cuts[i].Low.Mix > 0 {
				cuts[i].Low.All = LowCorners[at]
			}
			cuts[i].Low.All = math.Max(cuts[i].Low.All, math.Min(cuts[i].Low.Alone, cuts[i].Low.Mix)) // that much goes unheard whatever the others do
		}
	}
	unheard := func() (bool, error) {
		now := make([][]float64, len(a.crowd.sum))
		for f, w := range a.crowd.sum {
			now[f] = slices.Clone(w[:to])
		}
		var mu sync.Mutex
		g, gctx := errgroup.WithContext(ctx)
		g.SetLimit(runtime.GOMAXPROCS(0))
		for i, k := range cuts {
			if k.Low.All == 0 {
				continue
			}
			g.Go(func() error {
				own := a.part(i)
				t, err := a.trimmed(i, Low, k.Low.All)
				if err != nil {
					return err
				}
				less := make([][]float64, len(now))
				err = t.each(gctx, a.sound(i), own.Sounding(), func(f int, row []float32) bool {
					less[f] = make([]float64, min(to, t.to))
					for n := range less[f] {
						less[f][n] = float64(row[n]) - own.was[f][n]
					}
					return true
				})
				mu.Lock()
				defer mu.Unlock()
				for f, l := range less {
					for n, v := range l {
						now[f][n] = math.Max(0, now[f][n]+v)
					}
				}
				return err
			})
		}
		if err := g.Wait(); err != nil {
			return false, err
		}
		sounding, heard := 0, 0
		for f, was := range a.crowd.sum {
			if !e.Heard(was, make([]float64, to), from, to) { // nothing is there
				continue
			}
			sounding++
			if e.Heard(was, now[f], from, to) {
				heard++
			}
		}
		return heard <= int(heardShare*float64(sounding)), nil
	}
	lo, hi := -1, len(LowCorners) // so far down nothing is left that is not unheard alone
	for down := 0; hi-lo > 1; down = (lo + hi) / 2 {
		set(down)
		ok, err := unheard()
		if err != nil {
			return err
		}
		if ok {
			hi = down
		} else {
			lo = down
		}
	}
	set(hi)
	return nil
}
