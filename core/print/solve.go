package print

import (
	"context"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/group"
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

// Solve finds the drive that brings a premaster to a loudness under a ceiling by a school, to 0.05 LU where it can be; with a
// soft clip, the one of those tried, in steps of 1.5 dB up to 6, that takes least off the hits' attack. The first lead frames
// are what comes before the stretch; hits are frames of it. Where the loudness cannot be reached it is the loudest.
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
	on := driven{premaster, lead, hits, before}
	all := make([]*Solved, len(clips))
	g, inner := group.WithContext(ctx)
	g.SetLimit(2)
	for i, c := range clips {
		g.Go(func() (err error) {
			all[i], err = on.drive(inner, asked, c, fader)
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

// driven is a stretch that is driven: the premaster with what comes before it, its hits, and what it is as it is.
type driven struct {
	premaster audio.Buffer
	lead      int
	hits      []int
	before    Figures
}

// drive finds the drive for one soft clip.
func (on driven) drive(ctx context.Context, asked session.Print, clip, fader float64) (*Solved, error) {
	premaster, lead, hits, before := on.premaster, on.lead, on.hits, on.before
	hold := func(db float64) float64 { return holdOf(clip, before, db, asked.Ceiling) }
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
		is := float64(meter.IntegratedLoudness(r.Sound))
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
}

// curveStep is the step of drive between the points of the curve, dB; curveBeyond how far it goes beyond what is asked, LU.
const (
	curveStep   = 1.5
	curveBeyond = 2.0
)

// Curve is what loudness costs by a school: from the drive at which nothing passes the ceiling in steps of 1.5 dB until it is
// 2 LU beyond what is asked, or gets no louder. With the school of the clip it is that of a clip of 3 dB.
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
	for db := tenth(asked.Ceiling - float64(before.TruePeak)); db <= driveMost; db += curveStep {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		r, err := Run(Chain(asked.School, db, holdOf(clip, before, db, asked.Ceiling), asked.Ceiling, 0), premaster, lead)
		if err != nil {
			return nil, err
		}
		s := Solved{Before: before, After: r.Measure(hits)}
		c := Cost{LUFS: float64(s.After.Loudness), Harm: s.Harm()}
		if s.After.Most.Valid() {
			c.Most = float64(s.After.Most)
		}
		if n := len(out); n > 0 && c.LUFS < out[n-1].LUFS+0.25 { // it hardly gets louder any more
			break
		}
		if out = append(out, c); c.LUFS > asked.LUFS+curveBeyond {
			break
		}
	}
	return out, nil
}

// holdOf is how far over the ceiling a soft clip holds that takes what passes the driven peak less so many dB; noClip where it takes none.
func holdOf(clip float64, before Figures, drive, ceiling float64) float64 {
	if clip == 0 {
		return noClip
	}
	return math.Max(0, float64(before.TruePeak)+drive-ceiling-clip)
}
