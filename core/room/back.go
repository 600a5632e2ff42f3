package room

import (
	"context"
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	backWithin = 1.0  // dB in every third-octave: it came back as planned
	backFloor  = 50.0 // dB under its loudest third-octave, under which a sound is too soft to tell
	backDeep   = 24.0 // dB: what was taken out by more counts as gone
	backNear   = 3.0  // dB within which two bands are about as far off
	backStill  = 0.5  // dB that a plan takes out of a band that is to stay
)

// Back is how a stem came back for which moves were planned.
type Back struct {
	Stem  string
	Worst float64 // dB of what is there over what was planned, in the third-octave where it is furthest off
	Hz    float64 // of that band
	Gain  float64 // dB by which all of it came back louder
}

// Landed reports whether it came back as planned.
func (b Back) Landed() bool { return math.Abs(b.Worst) <= backWithin }

// Says says it of a stem of that name.
func (b Back) Says(name string) string {
	out := name + " came back as planned."
	switch {
	case !b.Landed() && b.Worst > 0:
		out = fmt.Sprintf("%s came back with %s dB more at %s than was planned.", name, figure.Short(b.Worst), fmt.Sprintf("%.0f Hz", b.Hz))
	case !b.Landed():
		out = fmt.Sprintf("%s came back with %s dB less at %s than was planned.", name, figure.Short(-b.Worst), fmt.Sprintf("%.0f Hz", b.Hz))
	}
	if math.Abs(b.Gain) >= backStill {
		more := "louder"
		if b.Gain < 0 {
			more = "softer"
		}
		out += fmt.Sprintf(" All of it is %s dB %s.", figure.Short(math.Abs(b.Gain)), more)
	}
	return out
}

// Backs compares the new file of every stem that has moves of a stage, on, or off because the file holds them, with the plan:
// the old file with those moves, by third-octaves over a window, before the fader. of tells the stage's moves.
func Backs(ctx context.Context, r *mix.Renderer, song *session.Song, of func(move.Move) bool, w mix.Window) ([]Back, error) {
	var out []Back
	in, lead := wide(song, w)
	for i := range song.Stems {
		st := &song.Stems[i]
		planned := false
		for _, m := range st.Moves {
			planned = planned || of(m) && (!m.Off || st.Holds != "")
		}
		if !planned || st.Was == "" {
			continue
		}
		plan := song.Clone()
		p := plan.Stem(st.ID)
		p.Audio = st.Was
		for k := range p.Moves {
			if of(p.Moves[k]) && st.Holds != "" {
				p.Moves[k].Off = false
			}
		}
		old, now := plan.Without(of), song.Without(of)
		var levels [3][]meter.Figure
		var key [3]string
		var sound [3]Hearing
		for k, s := range []*session.Song{&old, &plan, &now} {
			var err error
			if key[k], sound[k], err = chained(r, s, st.ID, in); err != nil {
				return nil, err
			}
		}
		b, err := mix.Cached(ctx, r.Cache, mix.Key("room back", key, lead), func() (Back, int, error) {
			for k, hear := range sound {
				x, err := hear(ctx)
				if err != nil {
					return Back{}, 0, err
				}
				s, err := meter.MeasureSpectrum(audio.Memory{Buffer: x.Slice(lead, x.Frames())})
				if err != nil {
					return Back{}, 0, err
				}
				levels[k] = s.Level
			}
			return compared(levels[0], levels[1], levels[2]), 64, nil
		})
		if err != nil {
			return nil, err
		}
		b.Stem = st.ID
		out = append(out, b)
	}
	return out, nil
}

// compared compares third-octave levels of what was, of what was planned, and of what is there.
func compared(was, plan, now []meter.Figure) Back {
	top := meter.Figure(math.Inf(-1))
	for _, l := range was {
		if l.Valid() {
			top = max(top, l)
		}
	}
	level := func(l meter.Figure, at meter.Figure) float64 { // against what was, as far as it is to be told
		if !l.Valid() {
			return -backDeep
		}
		return math.Max(-backDeep, float64(l-at))
	}
	var still []meter.Figure
	for i, l := range was {
		if l.Valid() && l >= top-backFloor && math.Abs(level(plan[i], l)) < backStill {
			still = append(still, meter.Figure(level(now[i], l)-level(plan[i], l)))
		}
	}
	b := Back{}
	if g := meter.Median(still); g.Valid() {
		b.Gain = float64(g)
	}
	off, worst := make([]float64, len(was)), 0.0
	for i, l := range was {
		if l.Valid() && l >= top-backFloor {
			off[i] = level(now[i], l+meter.Figure(b.Gain)) - level(plan[i], l)
			worst = math.Max(worst, math.Abs(off[i]))
		}
	}
	at, near := -1, math.Max(worst-backNear, math.Min(worst, backWithin))
	for i, d := range off { // of those about as far off, the loudest
		if math.Abs(d) >= near && d != 0 && (at < 0 || was[i] > was[at]) {
			at = i
		}
	}
	if at >= 0 {
		b.Worst, b.Hz = off[at], nominal(meter.BandHz(at))
	}
	return b
}
