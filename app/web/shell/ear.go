package shell

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// ears are the ways in which the deck plays what stands between the channels.
var ears = map[string]bool{"": true, "mono": true, "side": true}

// heardAs is a sound in mono, on both sides; or its side, which is what vanishes there.
func heardAs(b audio.Buffer, ear string) audio.Buffer {
	if ear != "mono" && ear != "side" {
		return b
	}
	out := audio.New(b.Rate, max(1, len(b.Ch)), b.Frames())
	if len(b.Ch) < 2 {
		if ear == "mono" && len(b.Ch) == 1 {
			copy(out.Ch[0], b.Ch[0])
		}
		return out
	}
	sign := float32(1)
	if ear == "side" {
		sign = -1
	}
	for i, l := range b.Ch[0] {
		v := (l + sign*b.Ch[1][i]) / 2
		out.Ch[0][i], out.Ch[1][i] = v, v
	}
	return out
}

// earLoudness is the loudness of what the deck plays of a song by an ear.
func (s *Server) earLoudness(ctx context.Context, song *session.Song, d *deckView) (meter.Figure, error) {
	b, id, err := s.Renderer.Heard(ctx, song, d.Solo, d.Loop)
	if err != nil {
		return meter.None, err
	}
	return mix.Cached(s.Renderer.Cache, mix.Key("ear", id, d.Ear), func() (meter.Figure, int, error) {
		x := heardAs(b, d.Ear)
		m := meter.NewLoudness(x.Rate, len(x.Ch))
		m.Add(x)
		l := m.Integrated()
		if len(x.Ch) == 1 && l.Valid() { // it sounds on both sides
			l += meter.Figure(dsp.PowerDB(2))
		}
		return l, 16, nil
	})
}
