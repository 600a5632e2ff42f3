package body

import (
	"context"
	"fmt"
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	shelfHz    = 120.0 // where a shelf on what is sustained stands
	shelfQ     = 0.7
	shelfMost  = 12.0 // dB
	shelfFine  = 0.5  // dB, of a step
	shelfCosts = 1.5  // LU that the whole may lose
)

// ApartFigures are those of a stem that was taken apart, between its parts: estimates, as no split is perfect.
type ApartFigures struct {
	Pair      *mix.Pair // the struck part as its kick, the sustained one as its bass
	Hits      meter.HitFigures
	Clearance meter.Figure // dB of the struck part over the sustained one, in the worst tenth of its hits
	Loudness  meter.Figure // LUFS, of all parts together
}

// OfParts measures the parts of a stem over a window. song is one of session.ApartAlone; the errors are those of mix.Pair.
func OfParts(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) (out ApartFigures, err error) {
	p, err := r.Pair(ctx, song, w)
	if err != nil {
		return out, err
	}
	out.Pair = p
	if out.Hits, err = r.Figures(ctx, p); err != nil {
		return out, err
	}
	l, err := r.Loudness(ctx, song, mix.SoloAll, w)
	out.Clearance, out.Loudness = out.Hits.ClearanceP10, l.Integrated
	return out, err
}

// Lowered is what is sustained, brought down so that what is struck stands clear of it.
type Lowered struct {
	Stem    string // id of the sustained part
	Move    *move.Filter
	Before  ApartFigures
	After   ApartFigures // measured on a render
	Reached bool
}

// LowerSustained finds the least low shelf on the sustained part, in steps of half a decibel up to 12, that brings the clearance of
// the struck part to a target; it takes at most 1.5 LU off the whole. nil where nothing is to be done. song is one of
// session.ApartAlone, without a shelf of Body's.
func LowerSustained(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, target float64) (*Lowered, error) {
	before, err := OfParts(ctx, r, song, w)
	if err != nil || !before.Clearance.Valid() || float64(before.Clearance) >= target {
		return nil, err
	}
	out := &Lowered{Before: before, Stem: song.ByRole(session.Bass)[0].ID}
	lo, hi := 0, int(shelfMost/shelfFine)
	for out.Move == nil || hi-lo > 1 { // the deepest first: it says whether the target is in reach
		at := (lo + hi) / 2
		if out.Move == nil {
			at = hi
		}
		m := &move.Filter{Shape: dsp.LowShelf, Hz: shelfHz, Q: shelfQ, DB: figure.Tenth(-shelfFine * float64(at))}
		c := song.Clone()
		c.Stem(out.Stem).SetMove(move.Move{ID: session.BodyShelf, Params: m})
		after, err := OfParts(ctx, r, &c, w)
		if err != nil {
			return nil, err
		}
		bearable := float64(before.Loudness-after.Loudness) < shelfCosts
		reached := float64(after.Clearance) >= target
		first := out.Move == nil
		if first || bearable && (reached || !out.Reached) {
			out.Move, out.After, out.Reached = m, after, reached && bearable
		}
		if first && reached && bearable {
			continue
		}
		if reached || !bearable {
			hi = at
		} else {
			lo = at
		}
	}
	if float64(before.Loudness-out.After.Loudness) >= shelfCosts {
		return nil, nil
	}
	return out, nil
}

// Edit puts the shelf on the sustained part.
func (l *Lowered) Edit() session.Edit {
	return session.SetMove{
		At:   session.At{Stem: l.Stem},
		Move: move.Move{ID: session.BodyShelf, Params: l.Move, Why: "so that what is struck stands clear of what lasts"},
	}
}

// Says says what the shelf comes to.
func (l *Lowered) Says() string {
	return fmt.Sprintf("%s dB under %g Hz on what lasts bring the hits from %s to %s dB over it; the whole loses %s LU.", figure.ShortPlus(l.Move.DB), shelfHz,
		figure.Short(float64(l.Before.Clearance)), figure.Short(float64(l.After.Clearance)), figure.Short(math.Max(0, float64(l.Before.Loudness-l.After.Loudness))))
}

// Buried tells of a stem that was taken apart whose hits do not stand clear of what lasts.
func Buried(of *session.Stem, l *Lowered, target float64) (f find.Finding, ok bool) {
	if l == nil || float64(l.After.Clearance) < float64(l.Before.Clearance)+0.5 {
		return f, false
	}
	return find.Finding{
		ID: find.ID(
			"buried",
			of.ID,
		), What: fmt.Sprintf("%s: its hits stand %s dB over what lasts, an estimate", of.Name, figure.Short(float64(l.Before.Clearance))), Hear: "all",
		Why: fmt.Sprintf("%s dB are asked, in 9 of 10 hits. %s", figure.Short(target), l.Says()),
		Fix: []session.Edit{l.Edit()}, Apply: "Lower what lasts", Do: "Lower the low end of what lasts in " + of.Name, Values: move.Words(l.Move),
		Own: []find.Measure{{Figure: "clearance", Of: of.ID, Name: "its hits over what lasts", In: find.AtLeast(target - 0.05)}}, Taste: "it rests on an estimate",
	}, true
}
