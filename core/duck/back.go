package duck

import (
	"context"
	"math"

	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Achieved is what a bounce of the bass that came back did, against the duck that was planned.
type Achieved struct {
	MS      []float64 // after the hit
	Planned []float64 // gain, dB
	Got     []float64
	Worst   float64 // largest difference, dB
	WorstMS float64
	Plan    meter.HitFigures // the old file with the duck
	Now     meter.HitFigures // the new file without it
}

const (
	achievedReach  = 0.002 // s to each side over which a gain is taken
	achievedLeast  = 1e-5  // mean square under which the bass is too soft to tell: -50 dBFS
	achievedStep   = 2.0   // ms
	achievedBefore = 20.0  // ms before the hit
	achievedAfter  = 250.0
)

// Back returns the stem whose new file is compared with its plan: it makes room by a duck that is on, or off because the file
// holds it; nil where there is none.
func Back(song *session.Song) *session.Stem {
	for _, st := range song.ByRole(song.Ducked()) {
		if m, d := st.DuckMove(); d != nil && st.Was != "" && (!m.Off || st.Holds != "") {
			return st
		}
	}
	return nil
}

// ComeBack compares the new file of a bass with the plan: the old file (sha) with the song's duck, on. The
// gain is that between the two sounds, some ms at a time, median over the hits.
// Long because the ways of coming back are tried against the same goal, one after the other.
func ComeBack(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, stem, old string) (*Achieved, error) {
	planned := song.Clone()
	planned.Stem(stem).Audio = old
	if m, d := planned.Stem(stem).DuckMove(); d != nil {
		m.Off = false
	}
	plain := planned.Unducked()
	now := song.Unducked()
	before, err := r.Pair(ctx, &plain, w)
	if err != nil {
		return nil, err
	}
	a := &Achieved{}
	var was meter.HitFigures
	if was, err = r.Figures(ctx, before); err != nil {
		return nil, err
	}
	p, err := r.Pair(ctx, &planned, w)
	if err != nil {
		return nil, err
	}
	if a.Plan, err = r.Figures(ctx, p); err != nil {
		return nil, err
	}
	n, err := r.Pair(ctx, &now, w)
	if err != nil {
		return nil, err
	}
	if a.Now, err = r.Figures(ctx, n); err != nil {
		return nil, err
	}
	plainMono, err := before.Mono()
	if err != nil {
		return nil, err
	}
	ducked, err := p.Mono()
	if err != nil {
		return nil, err
	}
	bounced, err := n.Mono()
	if err != nil {
		return nil, err
	}
	rate := float64(song.Rate)
	reach := int(achievedReach * rate)
	for ms := -achievedBefore; ms <= achievedAfter; ms += achievedStep {
		var plan, got []meter.Figure
		for _, h := range was.Hits {
			if ms/1000 >= h.Gap {
				continue
			}
			k := int(math.Round((h.At+ms/1000)*rate)) - before.Meter.Offset
			if x := meter.LocalGain(plainMono, ducked, k, 0, reach, achievedLeast); x.Valid() {
				plan, got = append(plan, x), append(got, meter.LocalGain(plainMono, bounced, k, 0, reach, achievedLeast))
			}
		}
		x, y := meter.Median(plan), meter.Median(got)
		if !x.Valid() || !y.Valid() {
			continue
		}
		a.MS, a.Planned, a.Got = append(a.MS, ms), append(a.Planned, float64(x)), append(a.Got, float64(y))
		if d := float64(y - x); math.Abs(d) > math.Abs(a.Worst) {
			a.Worst, a.WorstMS = d, ms
		}
	}
	return a, nil
}
