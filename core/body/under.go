package body

import (
	"context"
	"fmt"
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	subUnder  = 12.0 // dB of the tone under the kick's own peak, where none is asked
	subLeast  = 22.0 // Hz: a lower octave is no sound
	subAttack = 4.0  // ms
	subLength = 300.0
	liftDB    = 3.0
	liftQ     = 1.4
	fallLow   = 25.0 // Hz between which a note may fall
	fallHigh  = 1000.0
)

// Under is a low end that is put under the hits of the kick: a tone an octave under it, or a boost at its pitch.
type Under struct {
	Stem   string // the stem that gives the hits
	ID     string // of the move
	Move   move.Params
	Gained meter.Figure // dB of the kick's weight
	Cost   meter.Figure // dB of the mix's peak
}

// UnderKick puts a tone of its own, an octave under its pitch, under every hit of the kick; or, where lift is set, a bell at
// its pitch. db is the tone under the kick's own peak, or the bell's gain. What it brings and costs is measured on renders.
// The song is one without it. nil where there is no kick, or its octave is no sound.
func UnderKick(ctx context.Context, r *mix.Renderer, song *session.Song, hz, db float64, lift bool, w mix.Window) (*Under, error) {
	st, part := song.TriggerStem(), Part{ID: Kick, Name: "Kick", Low: true}
	if st == nil || hz <= 0 {
		return nil, nil
	}
	out := &Under{Stem: st.ID}
	if lift {
		out.ID, out.Move = session.BodyLift, &move.Filter{Shape: dsp.Bell, Hz: figure.Tenth(hz), Q: liftQ, DB: db}
	} else {
		if hz /= 2; hz < subLeast {
			return nil, nil
		}
		peak, err := peakOf(ctx, r, song, Part{ID: st.ID}, w)
		if err != nil || !peak.Valid() {
			return nil, err
		}
		level := math.Max(-59, math.Min(0, math.Round(2*(float64(peak)-db))/2))
		out.ID, out.Move = session.BodySub, &move.Sub{Trigger: session.KickTrigger, Hz: figure.Tenth(hz), Level: level, Attack: subAttack, Length: subLength}
	}
	c := song.Clone()
	c.Stem(st.ID).SetMove(move.Move{ID: out.ID, Params: out.Move})
	was, err := Weigh(ctx, r, song, part, nil, w)
	if err != nil {
		return nil, err
	}
	is, err := Weigh(ctx, r, &c, part, nil, w)
	if err != nil {
		return nil, err
	}
	a, err := r.Loudness(ctx, song, mix.SoloAll, w)
	if err != nil {
		return nil, err
	}
	b, err := r.Loudness(ctx, &c, mix.SoloAll, w)
	out.Gained, out.Cost = is.Median-was.Median, b.Peak-a.Peak
	return out, err
}

// SubUnder is the level of a tone under the kick's peak that is offered, dB; LiftBy is the boost.
const (
	SubUnder = subUnder
	LiftBy   = liftDB
)

// Says says what it brings and costs.
func (u *Under) Says() string {
	out := fmt.Sprintf("The kick weighs %s dB more; the peak of the mix moves by %s dB.", figure.ShortPlus(float64(u.Gained)), figure.ShortPlus(float64(u.Cost)))
	if _, tone := u.Move.(*move.Sub); tone {
		out += " Small speakers do not give it, and large ones give much of it: go gently."
	}
	return out
}

// Edit puts it in.
func (u *Under) Edit() session.Edit {
	return session.Together{Said: "Under the kick: " + move.Words(u.Move), Edits: []session.Edit{
		session.SetMove{At: session.At{Stem: u.Stem}, Move: move.Move{ID: u.ID, Params: u.Move, Why: "more under the kick"}}}}
}

// Fall is a pitch drop on the notes of the bass.
type Fall struct {
	Move      *move.Drop
	Before    meter.HitFigures // kick against bass
	After     meter.HitFigures // measured on a render; the kick is what it was
	Clearance meter.Figure     // by how much it moves in the worst tenth of the hits, dB
}

// FallBy lets every note of the line fall by a law; the kick is held. line is that of the bass over the whole song. nil where no note may
// fall. The song is one without it.
func FallBy(ctx context.Context, r *mix.Renderer, song *session.Song, line []meter.BassNote, law move.Drop, w mix.Window) (*Fall, error) {
	m := law
	m.Notes = nil
	for _, n := range line {
		if n.Hz < fallLow || n.Hz > fallHigh || n.Start < 0 {
			continue
		}
		if k := len(m.Notes); k > 0 && m.Notes[k-1].End > n.Start {
			if m.Notes[k-1].End = n.Start; m.Notes[k-1].End <= m.Notes[k-1].At {
				m.Notes = m.Notes[:k-1]
			}
		}
		if n.End > n.Start {
			m.Notes = append(m.Notes, move.DropNote{At: n.Start, End: n.End, Hz: n.Hz})
		}
	}
	if len(m.Notes) == 0 {
		return nil, nil
	}
	out := &Fall{Move: &m, Clearance: meter.None}
	if err := move.Validate(&m); err != nil {
		return nil, err
	}
	if song.TriggerStem() == nil {
		return out, nil
	}
	c := song.Clone()
	for _, st := range c.ByRole(session.Bass) {
		st.SetMove(move.Move{ID: session.BodyFall, Params: &m})
	}
	for _, x := range []struct {
		song *session.Song
		to   *meter.HitFigures
	}{{song, &out.Before}, {&c, &out.After}} {
		p, err := r.Pair(ctx, x.song, w)
		if err != nil {
			return out, ctx.Err() // nothing to hold it against
		}
		if *x.to, err = r.Figures(ctx, p); err != nil {
			return nil, err
		}
	}
	out.Clearance = out.After.ClearanceP10 - out.Before.ClearanceP10
	return out, nil
}

// Edit lets the notes of every bass fall.
func (f *Fall) Edit(song *session.Song) session.Edit {
	out := session.Together{Said: "The bass: " + move.Words(f.Move)}
	for _, st := range song.ByRole(session.Bass) {
		out.Edits = append(out.Edits, session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: session.BodyFall, Params: f.Move, Why: "its notes fall"}})
	}
	return out
}
