package duck

import (
	"context"
	"fmt"

	"mellowthump/core/bench"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// Where an aim by hearing is looked for: the clearance that a fit is asked for, dB.
const (
	aimFar  = 16.0 // more than this no ear asks for
	aimNear = 0.25 // so near it is found
)

// fitAim fits the least duck of a school with which the bass hides no more of the kick than the song's aim lets it, over a window: the
// least clearance is looked for whose own least duck does it, by halving. by fits to a song's clearance.
func fitAim(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, share float64, by func(*session.Song) (Fitted, error)) (Fitted, error) {
	playback := song.RoomRules().Playback
	heard := func(s *session.Song) (*mix.Pair, pair.Hidden, error) {
		p, err := r.Pair(ctx, s, w)
		if err != nil {
			return nil, pair.Hidden{}, err
		}
		h, err := pair.HiddenIn(ctx, r, p, playback)
		return p, h, err
	}
	plain := song.Unducked()
	p, was, err := heard(&plain)
	if err != nil {
		return Fitted{}, err
	}
	figures, err := r.Figures(ctx, p)
	if err != nil {
		return Fitted{}, err
	}
	const kick, bass = "the kick", "the bass"
	if !was.P90.Valid() || float64(was.P90) <= share {
		return Fitted{Reached: true, P10: figures.ClearanceP10, Loss: meter.None, Reason: was.Says(kick, bass) + "No duck is needed."}, nil
	}
	try := func(clearance float64) (Fitted, pair.Hidden, error) {
		asked := song.Clone()
		asked.Targets.Clearance, asked.Targets.Aim = clearance, session.AimApart
		f, err := by(&asked)
		if err != nil || f.Duck == nil {
			return f, was, err
		}
		asked.SetDuck(f.Duck, false, "")
		_, h, err := heard(&asked)
		return f, h, err
	}
	lo, hi := float64(figures.ClearanceP10), aimFar
	best, now, err := try(hi)
	if err != nil {
		return Fitted{}, err
	}
	best.Reached = float64(now.P90) <= share
	for best.Reached && hi-lo > aimNear {
		mid := (lo + hi) / 2
		f, h, err := try(mid)
		if err != nil {
			return Fitted{}, err
		}
		if float64(h.P90) > share {
			lo = mid
			continue
		}
		best, now, hi = f, h, mid
		best.Reached = true
	}
	best.Needed = true
	without := fmt.Sprintf("Without it %s hides %s %%. ", bass, figure.Signed(float64(was.P90), 0))
	best.Reason = now.Says(kick, bass) + without + best.Reason
	return best, nil
}

// hides says what the bass hides over the loop, and whether that is no more than a share, %.
func hides(ctx context.Context, b *bench.Bench, share float64) (says string, met bool, err error) {
	_, h, err := pair.HiddenOn(ctx, b)
	says = fmt.Sprintf("%s hides %s %% of the kick in one hit of ten, %s asked", b.BassName(), figure.Signed(float64(h.P90), 0), figure.Short(share))
	return says, h.Within(share), err
}
