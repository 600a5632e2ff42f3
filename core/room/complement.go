package room

import (
	"context"
	"errors"
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
	complementQ    = 1.4  // own choice: about an octave
	complementNear = 0.05 // dB to which the peak stays
	complementStep = 0.1  // dB
)

// Complement lifts one of kick and bass at the kick's fundamental and lowers the other there, so that the peak of both
// together stays.
type Complement struct {
	Up, Down session.Role
	Hz       float64
	Lift     float64 // dB
	Lower    float64 // dB, at least as much
	Peak     [2]meter.Figure
}

// Errors of a complement.
var (
	errComplementLift = fmt.Errorf("a lift of 0.5 to %g dB is taken", move.BigCut)
	errComplementPair = errors.New("it needs a kick with a pitch, and a bass")
)

// FindComplement finds, by renders of kick and bass over a window, how far the other has to be lowered, at most 6 dB, for
// their peak to stay where it was.
func FindComplement(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, kickHz, lift float64, up session.Role) (Complement, error) {
	c := Complement{Up: up, Down: session.Bass, Hz: math.Round(kickHz*10) / 10, Lift: math.Round(lift*10) / 10}
	if up == session.Bass {
		c.Down = session.Kick
	}
	switch {
	case !(c.Lift >= 0.5 && c.Lift <= move.BigCut):
		return c, errComplementLift
	case kickHz <= 0 || len(song.ByRole(session.Kick)) == 0 || len(song.ByRole(session.Bass)) == 0 || up != session.Kick && up != session.Bass:
		return c, errComplementPair
	}
	plain := song.Uncomplemented()
	peak := func(lower float64) (meter.Figure, error) {
		t := plain.Clone()
		c.Lower = lower
		if _, err := c.Edit(&t).Apply(&t); err != nil {
			return meter.None, err
		}
		l, err := r.Loudness(ctx, &t, mix.SoloBoth, w)
		return l.Peak, err
	}
	was, err := r.Loudness(ctx, &plain, mix.SoloBoth, w)
	if err != nil {
		return c, err
	}
	c.Peak[0] = was.Peak
	for lower := c.Lift; lower <= move.BigCut+1e-9; lower += complementStep {
		lower = math.Round(lower*10) / 10
		if c.Peak[1], err = peak(lower); err != nil {
			return c, err
		}
		if float64(c.Peak[1]) <= float64(was.Peak)+complementNear {
			return c, nil
		}
	}
	return c, fmt.Errorf(
		"%s dB up on the %s at %s Hz lifts the peak of both by %s dB even with the %s %s dB down there; lift it less",
		figure.Short(c.Lift),
		c.Up,
		figure.Short(c.Hz),
		figure.Short(float64(c.Peak[1]-was.Peak)),
		c.Down,
		figure.Short(move.BigCut),
	)
}

// Edit puts the bells in, on all stems of both roles.
func (c Complement) Edit(song *session.Song) session.Together {
	e := session.Together{
		Said: fmt.Sprintf("Give the %s %s dB at %s Hz, and take %s there from the %s", c.Up, figure.Short(c.Lift), figure.Short(c.Hz), figure.Short(c.Lower), c.Down),
	}
	add := func(role session.Role, db float64) {
		for _, st := range song.ByRole(role) {
			e.Edits = append(e.Edits, session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{
				ID: session.RoomLift, Params: &move.Filter{Shape: dsp.Bell, Hz: c.Hz, Q: complementQ, DB: db}, Why: "kick and bass complement each other"}})
		}
	}
	add(c.Up, c.Lift)
	add(c.Down, -c.Lower)
	return e
}
