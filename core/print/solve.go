package print

import (
	"context"
	"math"

	"golang.org/x/sync/errgroup"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	clipStep   = 1.5 // dB, between the soft clips that are tried
	clipDeep   = 6.0 // dB of the deepest
	driveLeast = -24.0
	driveMost  = 18.0
	enough     = 0.05 // LU
	tries      = 6
	Within     = 0.3 // LU: so near a loudness that is asked counts as met
)

// Solved is a chain that meets a loudness, with what it costs.
type Solved struct {
	Print   session.Print
	Chain   move.Chain
	Drive   float64 // dB
	Clip    float64 // dB over which the clip takes, under the driven peak; 0: none
	Before  Figures
	After   Figures
	Reached bool
}

// Harm is what it takes off the hits' attack, dB; where no hits are known, off the crest.
func (s Solved) Harm() float64 {
	if s.Before.Attack.Valid() && s.After.Attack.Valid() {
		return float64(s.Before.Attack - s.After.Attack)
	}
	return float64(s.Before.Crest - s.After.Crest)
}

// Solve finds the drive that brings a premaster to a loudness under a ceiling by a school, to 0.05 LU where it can be; with a soft clip, the one of those tried, in steps of 1.5 dB up to 6,
// that takes least off the hits' attack. The first lead frames are what comes before the stretch; hits are frames of it. Where the loudness cannot be reached it is the loudest.
func Solve(ctx context.Context, premaster audio.Buffer, lead int, hits []int, asked session.Print, fader float64) (*Solved, error) {
	plain, err := Run(nil, premaster, lead)
	if err != nil {
		return nil, err
	}
	before := plain.Measure(hits)
	if !before.Loudness.Valid() {
		return nil, nil
	}
	if asked.School == "none" {
		return &Solved{Print: asked, Before: before, After: before, Reached: true}, nil
	}
	clips := []float64{0}
	if asked.School == "clip" {
		for c := clipStep; c <= clipDeep; c += clipStep {
			clips = append(clips, c)
		}
	}
	all := make([]*Solved, len(clips))
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(2)
	for i, c := range clips {
		g.Go(func() (err error) {
			all[i], err = drive(inner, premaster, lead, hits, asked, fader, c, before)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	best := all[0]
	for _, s := range all[1:] {
		if s.Reached && !best.Reached || s.Reached == best.Reached && s.Harm() < best.Harm()-0.02 {
			best = s
		}
	}
	return best, nil
}

// drive finds the drive for one soft clip.
func drive(ctx context.Context, premaster audio.Buffer, lead int, hits []int, asked session.Print, fader, clip float64, before Figures) (*Solved, error) {
	hold := func(db float64) float64 { // so far over the ceiling that it takes what passes the driven peak less clip
		if clip == 0 {
			return noClip
		}
		return math.Max(0, float64(before.TruePeak)+db-asked.Ceiling-clip)
	}
	s := &Solved{Print: asked, Clip: clip, Before: before}
	var best Result
	least := math.Inf(1)
	lo, hi := driveLeast, driveMost
	at := tenth(math.Max(lo, math.Min(hi, asked.LUFS-float64(before.Loudness))))
	was, had := 0.0, math.NaN() // the drive and the loudness before
	for range tries {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		r, err := Run(Chain(asked.School, at, hold(at), asked.Ceiling, 0), premaster, lead)
		if err != nil {
			return nil, err
		}
		is := float64(meter.IntegratedLoudness(stereo(r.Sound)))
		off := asked.LUFS - is
		if math.Abs(off) < least {
			best, least, s.Drive = r, math.Abs(off), at
		}
		if off > 0 {
			lo = at
		} else {
			hi = at
		}
		slope := 0.6 // LU per dB
		if !math.IsNaN(had) && at != was {
			slope = math.Max(0.05, math.Min(1, (is-had)/(at-was)))
		}
		was, had = at, is
		next := tenth(at + off/slope)
		if !(next > lo && next < hi) {
			next = tenth((lo + hi) / 2)
			if slope <= 0.1 && off > 0 { // it is as loud as it gets
				next = hi
			}
		}
		if math.Abs(off) <= enough || next == at || hi-lo < 0.15 {
			break
		}
		at = next
	}
	s.After = best.Measure(hits)
	s.Chain = Chain(asked.School, s.Drive, hold(s.Drive), asked.Ceiling, fader)
	s.Reached = least <= Within
	return s, nil
}

// Cost is a point of the curve of loudness against harm.
type Cost struct {
	LUFS, Harm, Most float64
	Reached          bool
}

// curveStep is the step of the curve of loudness against harm, LU.
const curveStep = 1.5

// Curve is what loudness costs by a school: from the premaster's own in steps of 1.5 LU to what is asked and two steps beyond, as far as it can be reached. It is worked out by drive and without
// looking for the best soft clip: with the school of the clip, by one of 3 dB.
func Curve(ctx context.Context, premaster audio.Buffer, lead int, hits []int, asked session.Print) ([]Cost, error) {
	plain, err := Run(nil, premaster, lead)
	if err != nil {
		return nil, err
	}
	before := plain.Measure(hits)
	if !before.Loudness.Valid() || asked.School == "none" {
		return nil, nil
	}
	clip := 0.0
	if asked.School == "clip" {
		clip = 2 * clipStep
	}
	var out []Cost
	for l := math.Ceil(float64(before.Loudness)); l <= asked.LUFS+2*curveStep+1e-9; l += curveStep {
		p := asked
		p.LUFS = l
		s, err := drive(ctx, premaster, lead, hits, p, 0, clip, before)
		if err != nil {
			return nil, err
		}
		most := 0.0
		if s.After.Most.Valid() {
			most = float64(s.After.Most)
		}
		if !s.Reached {
			break
		}
		out = append(out, Cost{LUFS: l, Harm: s.Harm(), Most: most, Reached: true})
	}
	return out, nil
}
