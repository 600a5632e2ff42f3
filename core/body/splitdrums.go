package body

import (
	"context"
	"sort"

	"mellowthump/core/audio"
)

// The split of drums into their kick and the rest: own choice, tried on recorded kits.
const (
	drumFrame  = 0.04  // s of a frame, at least
	drumTop    = 170.0 // Hz: what of a low hit lies under it is the kick
	drumBefore = 0.02  // s before a hit from which it is the kick's
	drumLong   = 0.45  // s that it is the kick's, at the most; until the next hit of another drum otherwise
	drumClose  = 0.03  // s over which it goes
)

// SplitDrums takes drums in one file apart: what lies under 170 Hz while a low hit sounds is their kick (Struck), all else the rest;
// nothing is sustained. low are the times of the low hits, all those of all hits, ascending, s. The parts sum to the file within the
// rounding of a sample; progress may be nil.
func SplitDrums(ctx context.Context, src audio.Source, low, all []float64, progress func(float64), write func(Apart) error) error {
	f := src.Format()
	if err := f.Check(); err != nil {
		return err
	}
	s := newSplitter(f, drumFrame)
	s.half = 0
	s.ring = make([]*splitFrameOf, 1)
	for k := range s.low {
		r := float64(k) * float64(f.Rate) / float64(s.n) / drumTop
		s.low[k] = 1 / (1 + r*r*r*r*r*r*r*r)
	}
	s.gate = func(t float64) float64 {
		i := sort.SearchFloat64s(low, t+drumBefore) - 1 // the last low hit that has begun
		if i < 0 {
			return 0
		}
		end := low[i] + drumLong
		for k := sort.SearchFloat64s(all, low[i]+drumClose); k < len(all) && all[k] < end; k++ {
			if n := sort.SearchFloat64s(low, all[k]-drumBefore); n < len(low) && low[n] < all[k]+drumBefore {
				break // the next low hit: it is the kick's too
			}
			end = all[k] - drumBefore
		}
		return max(0, min(1, (end-t)/drumClose+1))
	}
	return s.run(ctx, src, progress, write)
}
