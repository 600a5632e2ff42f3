package compare

import (
	"context"
	"errors"
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Turned is a stem that carries a band in which the song differs from a finished track, with what turning it does.
type Turned struct {
	Turn
	Stem *session.Stem // nil: no stem alone carries it
	Edit session.Edit  // nil: likewise, or all its steps are locked
	Left meter.Figure  // dB that the band is off after, as rendered
	All  [2]float64    // mean deviation before and after, dB
}

// TurnsOn says who is to be turned, and by how much, for the song to come nearer to a finished track. The error is
// compare.ErrSilent where one of them is silent.
func TurnsOn(ctx context.Context, b *bench.Bench, ref session.Reference) ([]Turned, error) {
	_, now, err := MixSound(ctx, b)
	if err != nil {
		return nil, err
	}
	other, err := ReferenceSound(ctx, b, ref)
	if err != nil {
		return nil, err
	}
	var stems []*session.Stem
	var bands [][]meter.Figure
	if err := b.Alone(ctx, b.Loop, func(st *session.Stem, key string, x audio.Buffer) error {
		s, err := mix.Cached(ctx, b.Renderer.Cache, mix.Key("stem spectrum", key), func() (meter.Spectrum, int, error) {
			s, err := meter.MeasureSpectrum(audio.Memory{Buffer: x})
			return s, 1024, err
		})
		stems, bands = append(stems, st), append(bands, s.Level)
		return err
	}); err != nil {
		return nil, err
	}
	was := Against(now, other)
	var out []Turned
	for _, t := range was.Turns(bands, b.Song.CompareRules().Tolerance) {
		v := Turned{Turn: t, Left: meter.None}
		if t.Part >= 0 && t.DB != 0 {
			v.Stem = stems[t.Part]
			for _, step := range session.StemSteps {
				if !v.Stem.Locked(step) {
					v.Edit = session.Gain{At: session.At{Stem: v.Stem.ID}, Step: step, DB: figure.Tenth(v.Stem.Gain(step) + t.DB)}
					break
				}
			}
		}
		if v.Edit != nil {
			if song, _, err := session.Made(b.Song, v.Edit); err != nil {
				v.Edit = nil
			} else {
				after, err := soundOf(ctx, b, &song)
				if err != nil {
					return nil, err
				}
				is := Against(after, other)
				for _, s := range is.Smoothed() {
					if s.Hz == t.Hz {
						v.Left = s.Off
					}
				}
				v.All = [2]float64{float64(was.Deviation()), float64(is.Deviation())}
				if !(math.Abs(float64(v.Left)) < math.Abs(t.Off)) {
					v.Edit = nil
				}
			}
		}
		out = append(out, v)
	}
	return out, nil
}

// Findings is what is told about the song against the finished track that it is judged by: the first. Without one there is nothing to tell.
func Findings(ctx context.Context, b *bench.Bench) ([]find.Finding, error) {
	if len(b.Song.References) == 0 {
		return nil, nil
	}
	ref := b.Song.References[0]
	all, err := TurnsOn(ctx, b, ref)
	if errors.Is(err, ErrSilent) {
		return nil, nil
	}
	var out []find.Finding
	for _, t := range all {
		more, turn := "more", "down"
		if t.Off < 0 {
			more, turn = "less", "up"
		}
		f := find.Finding{ID: find.ID("off", ref.ID, fmt.Sprintf("%.0f", t.Hz)), Hear: "all",
			What: fmt.Sprintf("%s dB %s about %s than %s", figure.Short(math.Abs(t.Off)), more, SaidHz(t.Hz), ref.Name)}
		if t.Edit == nil {
			f.Why, f.Do = "No stem alone carries it, or what would turn it is locked.", "A bell on a bus or on the master is what is left."
			if t.Stem != nil {
				f.Why = t.Stem.Name + " carries it."
			}
			out = append(out, f)
			continue
		}
		f.Why = fmt.Sprintf(
			"%s is %.0f %% of what sounds there. Turned %s by %s dB, that octave is off by %s dB, and all bands by %s on the mean, not %s.",
			t.Stem.Name,
			100*t.Of,
			turn,
			figure.Short(math.Abs(t.DB)),
			figure.Short(math.Abs(float64(t.Left))),
			figure.Short(t.All[1]),
			figure.Short(t.All[0]),
		)
		f.Fix, f.Apply, f.Do = []session.Edit{t.Edit}, "Turn it "+turn, fmt.Sprintf("Turn %s %s by %s dB", t.Stem.Name, turn, figure.Short(math.Abs(t.DB)))
		f.Own, f.Taste = []find.Measure{{Figure: "deviation", In: find.AtMost(0)}}, "a finished track is a companion and no rule"
		f.Values = fmt.Sprintf("%s: %s dB", t.Stem.Name, figure.Plus(t.DB, 1))
		out = append(out, f)
	}
	return out, err
}
