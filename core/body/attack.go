package body

import (
	"context"
	"fmt"

	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	shapeStep = 0.5 // dB
	shapeMost = 6.0 // dB of attack and of sustain that are offered
	softBy    = 2.0 // dB under what is asked from which an attack is told
)

// Shaped is a part whose attack was brought to what is asked.
type Shaped struct {
	Part    Part
	Move    *move.Attack
	Before  meter.Figure // attack, dB
	After   *Weights     // measured on a render
	Reached bool
}

// Drum reports whether a part is one that is struck.
func (p Part) Drum(song *session.Song) bool {
	for _, st := range p.Stems(song) {
		switch st.Role {
		case session.Kick, session.Snare, session.Perc, session.Drums:
			return true
		}
	}
	return false
}

// Shape finds the least raise of a part's attack, in steps of half a decibel up to 6, that brings it to what is asked over a
// window; where 6 are not enough, the sustain is lowered too, up to 6. The song is one without Body's shaping.
func Shape(ctx context.Context, r *mix.Renderer, song *session.Song, p Part, line []meter.BassNote, w mix.Window, asked float64) (*Shaped, error) {
	before, err := Weigh(ctx, r, song, p, line, w)
	if err != nil || !before.Attack.Valid() {
		return nil, err
	}
	out := &Shaped{Part: p, Before: before.Attack}
	steps := int(shapeMost / shapeStep)
	lo, hi := 0, 2*steps // steps of attack, then of sustain
	for hi-lo > 1 || out.After == nil {
		at := (lo + hi + 1) / 2
		if out.After == nil {
			at = hi
		}
		m := &move.Attack{Attack: shapeStep * float64(min(at, steps)), Sustain: figure.Tenth(-shapeStep * float64(max(0, at-steps)))}
		after, err := Weigh(ctx, r, shapedBy(song, p, m), p, line, w)
		if err != nil {
			return nil, err
		}
		switch reached := float64(after.Attack) >= asked; {
		case reached || out.After == nil:
			out.Move, out.After, out.Reached, hi = m, after, reached, at
			if !reached {
				return out, nil
			}
		default:
			lo = at
		}
	}
	return out, nil
}

func shapedBy(song *session.Song, p Part, m move.Params) *session.Song {
	c := song.Clone()
	for _, st := range p.Stems(&c) {
		st.SetMove(move.Move{ID: session.BodyAttack, Params: m})
	}
	return &c
}

// ShapeEdit shapes the stems of a part; at 0 dB of both it takes the shaping out.
func ShapeEdit(song *session.Song, p Part, m *move.Attack, why string) session.Edit {
	out := session.Together{Said: p.Name + ": " + move.Words(m)}
	if m.Attack == 0 && m.Sustain == 0 {
		out.Said = p.Name + ": attack and sustain as they were"
		for _, st := range p.Stems(song) {
			out.Edits = append(out.Edits, session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: session.BodyAttack}})
		}
		return out
	}
	for _, st := range p.Stems(song) {
		out.Edits = append(out.Edits, session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: session.BodyAttack, Params: m, Why: why}})
	}
	return out
}

// Soft tells of a struck part whose attack stays under what is asked.
func Soft(song *session.Song, s *Shaped, asked float64) (f find.Finding, ok bool) {
	if s == nil || s.Move == nil || float64(s.Before) > asked-softBy || float64(s.After.Attack) < float64(s.Before)+0.5 {
		return f, false
	}
	for _, st := range s.Part.Stems(song) {
		if st.Move(session.BodyAttack) != nil {
			return f, false
		}
	}
	hear := s.Part.ID
	if !s.Part.Low {
		hear = "stem:" + s.Part.ID
	}
	what := fmt.Sprintf("%s: its attack is %s dB over its body", s.Part.Name, figure.Short(float64(s.Before)))
	return find.Finding{
		ID: find.ID("soft", s.Part.ID), What: what, Hear: hear,
		Why: fmt.Sprintf(
			"%s dB are asked. %s dB of attack and %s dB of sustain bring it to %s.",
			figure.Short(asked),
			figure.ShortPlus(s.Move.Attack),
			figure.ShortPlus(s.Move.Sustain),
			figure.Short(float64(s.After.Attack)),
		),
		Fix:   []session.Edit{ShapeEdit(song, s.Part, s.Move, "its attack was soft")},
		Apply: "Shape it", Do: "Shape the attack of " + s.Part.Name, Values: s.Part.Name + ": " + move.Words(s.Move),
		Own: []find.Measure{{Figure: "attack", Of: s.Part.ID, In: find.AtLeast(asked - 0.05)}}, Taste: "how hard a hit is to hit is a matter of taste",
	}, true
}
