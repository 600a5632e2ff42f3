package duck

import (
	"context"
	"errors"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// keptTrial is the trial of a pair: all schools and targets are tried on the same.
func keptTrial(ctx context.Context, r *mix.Renderer, p *mix.Pair) (*trial, error) {
	return mix.Cached(ctx, r.Cache, mix.Key("trial", p.Key()), func() (*trial, int, error) {
		t, err := lowTrial(p.Meter, p.Bass)
		if err != nil {
			return nil, 0, err
		}
		return t, 12 * len(t.bass), nil
	})
}

// FitSong fits a duck to a song over a window, whatever duck it has now.
func FitSong(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) (Fitted, error) {
	bypassed := song.Unducked()
	p, err := r.Pair(ctx, &bypassed, w)
	if err != nil {
		return Fitted{}, err
	}
	before, err := r.Figures(ctx, p)
	if err != nil {
		return Fitted{}, err
	}
	goal := goalOf(ctx, song)
	return mix.Cached(ctx, r.Cache, mix.Key("fit", p.Key(), goal), func() (Fitted, int, error) {
		mix.Doing(ctx, "Fitting the drawn curve")
		held, err := inHand(p.Bass)
		if err != nil {
			return Fitted{}, 0, err
		}
		t, err := keptTrial(ctx, r, p)
		if err != nil {
			return Fitted{}, 0, err
		}
		f, err := t.fit(p.Meter, before, held[0], goal)
		return f.unlessMono(p, err)
	})
}

// SongTradeOff is what clearances would cost a song over a window, whatever duck it has now.
func SongTradeOff(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) ([]Trade, error) {
	plain := song.Unducked()
	p, err := r.Pair(ctx, &plain, w)
	if err != nil {
		return nil, err
	}
	goal := goalOf(ctx, song)
	goal.Clearance = 0 // of no target alone
	return mix.Cached(ctx, r.Cache, mix.Key("trade-off", p.Key(), goal), func() ([]Trade, int, error) {
		mix.Doing(ctx, "Weighing what each clearance costs")
		t, err := keptTrial(ctx, r, p)
		if err != nil {
			return nil, 0, err
		}
		trade := t.TradeOff(p.Meter, goal)
		return trade, 40 * len(trade), goal.stopped()
	})
}

// BoundAt returns the least that any curve would lose for a clearance, by a trade-off, dB; None beyond its ends.
func BoundAt(trade []Trade, clearance float64) meter.Figure {
	for i := 1; i < len(trade); i++ {
		a, b := trade[i-1], trade[i]
		if clearance >= a.Clearance && clearance <= b.Clearance {
			return meter.Figure(a.Bound + (clearance-a.Clearance)/(b.Clearance-a.Clearance)*(b.Bound-a.Bound))
		}
	}
	return meter.None
}

// monoLeast is the part of a bass's energy that is left in mono: less is none, its channels are opposite.
const monoLeast = 1e-3

// unlessMono is what is kept of a fit: with a reason put right that speaks of a bass that cancels in mono as of one that
// is silent or out of the way.
func (f Fitted) unlessMono(p *mix.Pair, err error) (Fitted, int, error) {
	if f.Needed || err != nil {
		return f, 2048, err
	}
	gone, err := p.Cancels(monoLeast)
	if gone {
		f.Reason = "The bass cancels in mono: its channels are upside down against each other, and nothing of it is left to clear. Turn one of them over; then " +
			"it can be judged."
	}
	return f, 2048, err
}

const (
	handoverBefore = 20.0 // ms before the handover at which the kick's tail begins to fade
	handoverAfter  = 40.0 // ms after it at which it is gone
	tailLeast      = 30.0 // ms of a kick that stay
)

// MoveHandover moves the meeting of kick and bass by some ms, from where it is measured: the duck is held
// longer or shorter, and the tail of every kick that gives the hits fades around the new place. The id is
// that of the fade.
func MoveHandover(song *session.Song, from, to float64, fadeID string) error {
	d, off := song.Duck()
	if d == nil {
		return errors.New("there is no duck to move; press Fit first")
	}
	if song.Leader == session.BassLeads {
		return errors.New("where the bass leads, the handover is moved by the curve on the kick itself")
	}
	by := to - from
	var c move.Duck
	if d.Keyed() {
		c = *d
		comp := *d.Comp
		comp.Hold = math.Max(0, comp.Hold+by)
		c.Comp = &comp
	} else {
		at, err := d.AtTempo(song.BPM)
		if err != nil {
			return err
		}
		c = *at
		c.Points = nil
		last := 0.0
		for i, p := range at.Points {
			if p.MS > 0 {
				p.MS = figure.Tenth(math.Max(p.MS+by, last+0.1))
				if p.Note != "" { // no longer on the note
					p.Note = ""
				}
			}
			if i > 0 && p.MS <= last {
				p.MS = figure.Tenth(last + 0.1)
			}
			last = p.MS
			c.Points = append(c.Points, p)
		}
	}
	if err := c.Validate(); err != nil {
		return err
	}
	song.SetDuck(&c, off, "")
	if st := song.TriggerStem(); st != nil {
		start := math.Round(math.Max(tailLeast, to-handoverBefore))
		f := &move.Fade{Trigger: session.KickTrigger, From: start, To: math.Round(math.Max(start+20, to+handoverAfter))}
		st.SetMove(move.Move{ID: fadeID, Why: "the handover was moved", Params: f})
	}
	return song.Validate()
}
