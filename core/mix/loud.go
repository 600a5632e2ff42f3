package mix

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// Loud is how loud a part of the song is over a window.
type Loud struct {
	Peak       meter.Figure // sample peak, dBFS
	Integrated meter.Figure // LUFS
}

// Loudness measures what is heard of a solo over a window.
func (r *Renderer) Loudness(ctx context.Context, song *session.Song, solo Solo, w Window) (Loud, error) {
	if long(song.Rate, w) && solo != SoloKey {
		return r.longLoudness(ctx, song, solo, w)
	}
	b, k, err := r.Heard(ctx, song, solo, w)
	if err != nil {
		return Loud{meter.None, meter.None}, err
	}
	return Cached(ctx, r.Cache, key("loud", k), func() (Loud, int, error) {
		l, err := r.loudness(ctx, song, solo, w, b)
		if err != nil {
			return Loud{meter.None, meter.None}, 0, err
		}
		both := 0.0
		if len(b.Ch) == 1 { // it sounds on both sides of the mix
			both = dsp.PowerDB(2)
		}
		return Loud{Peak: meter.PeakDB(b.Ch...), Integrated: l.IntegratedAt(both)}, 200, nil
	})
}

// longLoudness is Loudness in memory that does not grow with the window.
func (r *Renderer) longLoudness(ctx context.Context, song *session.Song, solo Solo, w Window) (Loud, error) {
	in, err := r.graph(song).master(cutOf(song, solo))
	if err != nil {
		return Loud{meter.None, meter.None}, err
	}
	l, err := r.measured(passing(ctx), []input{in}, song.Rate, w, 1)
	if err != nil {
		return Loud{meter.None, meter.None}, err
	}
	if l.channels == 1 { // it sounds on both sides of the mix
		return Loud{Peak: l.Peak, Integrated: l.Turned(dsp.PowerDB(2)).Integrated()}, nil
	}
	return Loud{Peak: l.Peak, Integrated: l.Integrated()}, nil
}

// loudness measures a solo, rendered as b. Weighting is linear: where the moves of buses and master are, too, what no
// duck touches is weighted once and kept, each ducked stem is weighted once for all solos, and they are added up. Where
// they are not, what was rendered is weighted.
func (r *Renderer) loudness(ctx context.Context, song *session.Song, solo Solo, w Window, b audio.Buffer) (*meter.Loudness, error) {
	l := meter.NewLoudness(b.Rate, len(b.Ch))
	var still, live []input
	if solo != SoloKey && solo.Bus() == "" && linear(song, "") {
		g := r.graph(song)
		for i := range song.Stems {
			if !hears(song, &song.Stems[i], solo) {
				continue
			}
			ins, err := g.contributions(&song.Stems[i], "")
			if err != nil {
				return nil, err
			}
			for _, in := range ins {
				if in.node.live {
					live = append(live, in)
				} else {
					still = append(still, in)
				}
			}
		}
	}
	if len(live) == 0 {
		l.Add(b)
		return l, nil
	}
	pad := int(lead * float64(song.Rate))
	wide := Window{w.From - pad, w.To + pad}
	weighted := func(s sound) (audio.Buffer, error) {
		return Cached(ctx, r.Cache, key("weighted", s.key, pad, w.Frames()), func() (audio.Buffer, int, error) {
			x := meter.Weighted(s.buf.Slice(pad, pad+w.Frames()))
			return x, x.Bytes(), nil
		})
	}
	out := audio.New(b.Rate, len(b.Ch), b.Frames())
	if len(still) > 0 {
		s, err := r.sum(ctx, still, song.Rate, wide, 1)
		if err != nil {
			return nil, err
		}
		x, err := weighted(s)
		if err != nil {
			return nil, err
		}
		place{}.addTo(out, x, true)
	}
	for i, in := range live {
		s, err := r.read(ctx, in.node, wide, 1)
		if err != nil {
			return nil, err
		}
		x, err := weighted(s)
		if err != nil {
			return nil, err
		}
		in.at.addTo(out, x, i == 0 && len(still) == 0)
	}
	l.AddWeighted(out)
	return l, nil
}
