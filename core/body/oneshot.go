package body

import (
	"context"
	"errors"
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

const (
	shotBefore = 0.002 // s that are kept before the first sample that counts
	shotFloor  = 60.0  // dB under the peak: what is softer is cut off
	shotFade   = 0.010 // s, at its end
	shotMost   = 4.0   // s
)

// OneShot is one hit of a part, for a sampler.
type OneShot struct {
	Sound audio.Buffer
	At    float64      // s in the song
	Pitch *meter.Pitch // nil where it has none
	Peak  meter.Figure // dBFS
}

// ErrNoShot is said where a part has no hits to take away.
var ErrNoShot = errors.New("it has no hit to take away in the judged stretch")

// Middle is the index of the item whose weight is nearest to the median; -1 where there is none.
func (w *Weights) Middle() int {
	best, at := math.Inf(1), -1
	for i, it := range w.Items {
		if d := math.Abs(float64(it.Weight - w.Median)); d < best {
			best, at = d, i
		}
	}
	return at
}

// TakeShot is one item of a part behind the chains of its stems, all layers together, without what ducks it, without buses and
// master: cut where it is 60 dB under its peak, or at the next one, with a fade of 10 ms.
func TakeShot(ctx context.Context, r *mix.Renderer, song *session.Song, w *Weights, item int) (*OneShot, error) {
	if item < 0 || item >= len(w.Items) {
		return nil, ErrNoShot
	}
	plain := song.Unducked()
	it, rate := w.Items[item], float64(song.Rate)
	end := math.Min(it.End, it.At+shotMost)
	lead := 0.01 // an onset may be said a moment late
	span := mix.Window{From: int((it.At - lead) * rate), To: int(end * rate)}
	var sum audio.Buffer
	for _, st := range w.Stems(&plain) {
		x, _, err := r.Stem(ctx, &plain, st, span)
		if err != nil {
			return nil, err
		}
		if sum.Ch == nil {
			sum = audio.New(song.Rate, len(x.Ch), x.Frames())
		}
		if len(x.Ch) > len(sum.Ch) {
			sum.Ch = append(sum.Ch, append([]float32(nil), sum.Ch[0]...))
		}
		for c := range sum.Ch {
			for i, v := range x.Ch[min(c, len(x.Ch)-1)] {
				sum.Ch[c][i] += v
			}
		}
	}
	if sum.Ch == nil {
		return nil, ErrNoShot
	}
	from, to, ok := counts(sum)
	if !ok {
		return nil, ErrNoShot
	}
	from = max(0, from-int(shotBefore*rate))
	to = min(sum.Frames(), to+int(shotFade*rate))
	out := &OneShot{At: it.At, Sound: audio.New(song.Rate, len(sum.Ch), to-from)}
	n, fade := to-from, min(int(shotFade*rate), to-from)
	for c, ch := range out.Sound.Ch {
		copy(ch, sum.Ch[c][from:to])
		for i := range fade {
			ch[n-fade+i] *= float32(0.5 + 0.5*math.Cos(math.Pi*float64(i+1)/float64(fade)))
		}
	}
	out.Peak = meter.PeakDB(out.Sound.Ch...)
	out.Pitch = pitchOf(out.Sound, w.ID == Kick)
	return out, nil
}

// counts is where a sound rises over 60 dB under its peak for the first and for the last time.
func counts(b audio.Buffer) (from, to int, ok bool) {
	peak := meter.PeakDB(b.Ch...)
	if !peak.Valid() {
		return 0, 0, false
	}
	floor := float32(dsp.Gain(float64(peak) - shotFloor))
	from, to = b.Frames(), 0
	for _, ch := range b.Ch {
		for i, v := range ch {
			if v > floor || v < -floor {
				from, to = min(from, i), max(to, i+1)
			}
		}
	}
	return from, to, to > from
}

// pitchOf is the pitch of a shot: what a kick settles on, the fundamental of others.
func pitchOf(b audio.Buffer, kick bool) *meter.Pitch {
	low := meter.NewDecimator(b.Rate)
	low.Add(b.Mono())
	fs := float64(b.Rate) / float64(low.Factor)
	p := meter.Fundamental(low.Out, fs)
	if kick {
		p = meter.KickPitch(low.Out, fs, []float64{shotBefore})
	}
	if p == nil || p.Confidence < 0.3 || kick && !p.Settled {
		return nil
	}
	return p
}

// Name names a shot by its part and its pitch, "Kick F1+12c".
func (o *OneShot) Name(part string) string {
	if o.Pitch == nil {
		return part
	}
	return fmt.Sprintf("%s %s%+.0fc", part, o.Pitch.Note, o.Pitch.Cents)
}
