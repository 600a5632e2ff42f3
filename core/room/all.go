package room

import (
	"context"
	"math"
	"runtime"
	"slices"
	"sync"

	"mellowthump/core/group"
)

// together lowers the corners of all stems, a third of an octave at a time, until cutting them all at once is unheard
// too: each is masked by the others only as long as they are there. It sets All of one end.
// Long because the corners are settled against one sum that all of them share.
func (a *cutting) together(ctx context.Context, cuts []Cut, side Side) error {
	e := a.crowd.ear
	corners := side.corners()
	from, to := side.channels(e, corners[len(corners)-1])
	set := func(down int) {
		for i := range cuts {
			k := cuts[i].end(side)
			mix := slices.Index(corners, k.Mix)
			at := max(mix-down, min(slices.Index(corners, k.Alone), mix)) // so much goes unheard whatever the others do
			if k.All = 0; at >= 0 {
				k.All = corners[at]
			}
		}
	}
	unheard := func() (bool, error) {
		now := make([][]float64, len(a.crowd.sum))
		for f, w := range a.crowd.sum {
			now[f] = slices.Clone(w)
		}
		var mu sync.Mutex
		g, gctx := group.WithContext(ctx)
		g.SetLimit(runtime.GOMAXPROCS(0))
		for i := range cuts {
			k := cuts[i].end(side)
			if k.All == 0 {
				continue
			}
			g.Go(func() error {
				own := a.part(i)
				t, err := a.trimmed(ctx, i, side, k.All)
				if err != nil {
					return err
				}
				less := make([][]float64, len(now))
				err = t.each(gctx, a.sound(i), own.Sounding(), func(f int, row []float32) bool {
					less[f] = make([]float64, len(row))
					for n := range row {
						less[f][n] = float64(row[n]) - own.was[f][t.from+n]
					}
					return true
				})
				mu.Lock()
				defer mu.Unlock()
				for f, l := range less {
					for n, v := range l {
						now[f][t.from+n] = math.Max(0, now[f][t.from+n]+v)
					}
				}
				return err
			})
		}
		if err := g.Wait(); err != nil {
			return false, err
		}
		sounding, heard, nothing := 0, 0, make([]float64, len(e.Hz))
		for f, was := range a.crowd.sum {
			if !e.Heard(was, nothing, from, to) { // nothing is there
				continue
			}
			sounding++
			if e.Heard(was, now[f], from, to) {
				heard++
			}
		}
		return heard <= int(heardShare*float64(sounding)), nil
	}
	lo, hi := -1, len(corners) // so far down nothing is left that is not unheard alone
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
