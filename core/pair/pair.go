// Package pair judges kick and bass together over a window, as several stages need it: every hit before and after the ducks, what
// the duck costs, how the bass leads where it does.
package pair

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Met reports whether a clearance reaches a target as it is shown, to a tenth of a dB.
func Met(clearance meter.Figure, target float64) bool { return float64(clearance) > target-0.05 }

// MetBy reports whether the share that is asked of hits, 9 of 10, reaches a target as it is shown.
func MetBy(f meter.HitFigures, target float64) bool { return f.Under(target-0.05) <= len(f.Hits)/10 }

// State is a song's duck over a window: every figure before and after, from real renders.
type State struct {
	Pair    *mix.Pair // after
	Without *mix.Pair // before
	Before  meter.HitFigures
	After   meter.HitFigures
	Duck    *move.Duck     // nil where there is none, or it is off
	Readout *Readout       // nil likewise
	Gain    []float32      // of the duck over the window, as amplitude; nil likewise, and over a long one
	Led     meter.BassLead // where the bass leads: how, before the duck; of On alone
	Lead    meter.BassLead // and after it
}

// WorstTenth is the clearance of the worst tenth of hits, of the part that leads, dB.
func (s *State) WorstTenth(leader session.Leader) meter.Figure {
	if leader == session.BassLeads {
		return s.Lead.P10
	}
	return s.After.ClearanceP10
}

// Met reports whether the share of hits that is asked reaches a target.
func (s *State) Met(leader session.Leader, target float64) bool {
	if leader == session.BassLeads {
		return Met(s.Lead.P10, target)
	}
	return MetBy(s.After, target)
}

// Measure renders a song with and without its ducks over a window and judges both.
func Measure(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) (*State, error) {
	bypassed := song.Unducked()
	mix.Doing(ctx, "Judging every hit before the duck")
	s := &State{}
	var err error
	if s.Without, err = r.Pair(ctx, &bypassed, w); err != nil {
		return nil, err
	}
	if s.Before, err = r.Figures(ctx, s.Without); err != nil {
		return nil, err
	}
	s.Pair, s.After = s.Without, s.Before
	d, off := song.Duck()
	if d == nil || off {
		return s, nil
	}
	s.Duck = d
	mix.Doing(ctx, "Judging every hit with the duck")
	if s.Pair, err = r.Pair(ctx, song, w); err != nil {
		return nil, err
	}
	if s.After, err = r.Figures(ctx, s.Pair); err != nil {
		return nil, err
	}
	before, err := sides(ctx, r, &bypassed, s.Without, s.Before, w)
	if err != nil {
		return nil, err
	}
	after, err := sides(ctx, r, song, s.Pair, s.After, w)
	if err != nil {
		return nil, err
	}
	var ducked *session.Stem
	for _, st := range song.ByRole(song.Ducked()) {
		if m, _ := st.DuckMove(); m != nil && ducked == nil {
			ducked = st
		}
	}
	if ducked == nil {
		return s, nil
	}
	m := s.Pair.Meter
	gain, err := r.GainOf(ctx, song, ducked, s.Pair.Wide())
	if err != nil {
		return nil, err
	}
	if held, ok := gain.(meter.Held); ok && len(held) >= m.Range.To {
		s.Gain = held[m.Range.From:m.Range.To]
	}
	readout, err := Read(d, song.BPM, m, gain, before, after)
	s.Readout = &readout
	return s, err
}

// sides gathers one side of a duck, of the bass or of the kick.
func sides(ctx context.Context, r *mix.Renderer, song *session.Song, p *mix.Pair, f meter.HitFigures, w mix.Window) (Sides, error) {
	s := Sides{Low: f.Low, SumPeak: f.SumPeak}
	part := mix.SoloBass
	if song.Ducked() == session.Kick {
		part = mix.SoloKick
		var err error
		s.Low, err = mix.Cached(ctx, r.Cache, mix.Key("kick's low end", p.Key()), func() (float64, int, error) {
			e, err := p.Meter.LowEnergy(p.Meter.KickSound())
			return e, 8, err
		})
		if err != nil {
			return s, err
		}
	}
	loud, err := r.Loudness(ctx, song, part, w)
	s.Loudness = loud.Integrated
	return s, err
}

// On judges kick and bass over the loop, before and after the ducks. Where they cannot be judged, Trouble says why.
func On(ctx context.Context, b *bench.Bench) (*State, error) {
	type key struct{}
	return bench.Keep(ctx, b, key{}, func() (*State, error) {
		s, err := Measure(ctx, b.Renderer, b.Song, b.Loop)
		if err != nil || b.Song.Leader != session.BassLeads {
			return s, err
		}
		line := b.Line()
		if s.Led, err = Lead(ctx, b.Renderer, s.Without, s.Before, line); err != nil {
			return nil, err
		}
		s.Lead, err = Lead(ctx, b.Renderer, s.Pair, s.After, line)
		return s, err
	})
}

// Lead returns how the bass leads in a pair, by its line.
func Lead(ctx context.Context, r *mix.Renderer, p *mix.Pair, f meter.HitFigures, line []meter.BassNote) (meter.BassLead, error) {
	return mix.Cached(ctx, r.Cache, mix.Key("lead", p.Key(), line), func() (meter.BassLead, int, error) {
		l, err := p.Meter.MeasureLead(p.Bass, line, f)
		return l, 8 * len(p.Meter.Hits), err
	})
}
