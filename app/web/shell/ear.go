package shell

import (
	"context"
	"math"

	"mellowthump/app/web/ask"
	"mellowthump/core/audio"
	"mellowthump/core/compare"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// heard renders a loop of a song as it is listened to: as it is, in mono, in a band, on a stand-in.
func (s *Server) heard(ctx context.Context, song *session.Song, solo mix.Solo, w mix.Window, ear string) (audio.Buffer, error) {
	through, ok := compare.ThroughOf(ear)
	if !ok || ear == "" {
		return s.Renderer.Looped(ctx, song, solo, w)
	}
	playback := song.RoomRules().Playback
	listen := func() (audio.Buffer, int, error) {
		b, err := s.Renderer.Looped(ctx, song, solo, w)
		if err == nil {
			b, err = through.Listen(b, playback)
		}
		return b, b.Bytes(), err
	}
	if solo == mix.SoloKey {
		b, _, err := listen()
		return b, err
	}
	id, err := s.Renderer.Identity(song, solo, w)
	if err != nil {
		return audio.Buffer{}, err
	}
	return mix.Cached(ctx, s.Renderer.Cache, mix.Key("through", id, ear, playback), listen)
}

// earLoudness is the loudness of what the deck plays of a song so.
func (s *Server) earLoudness(ctx context.Context, song *session.Song, d *deckView) (meter.Figure, error) {
	id, err := s.Renderer.Identity(song, d.Solo, d.Loop)
	if err != nil {
		return meter.None, err
	}
	return mix.Cached(ctx, s.Renderer.Cache, mix.Key("ear", id, d.Solo == mix.SoloKey, d.Ear, song.RoomRules().Playback), func() (meter.Figure, int, error) {
		x, err := s.heard(ctx, song, d.Solo, d.Loop, d.Ear)
		if err != nil {
			return meter.None, 0, err
		}
		return playedLoudness(x), 16, nil
	})
}

// playedLoudness is the loudness of a sound as the deck plays it: one channel sounds on both sides.
func playedLoudness(x audio.Buffer) meter.Figure {
	l := meter.IntegratedLoudness(x)
	if len(x.Ch) == 1 && l.Valid() {
		l += meter.Figure(dsp.PowerDB(2))
	}
	return l
}

// referenceDown is by how much a finished track is turned down where it is not as loud as the song: common practice.
const referenceDown = 10.0

// reference returns the finished track that Before is; nil where it is none.
func (v *View) reference(of ask.Before) *session.Reference {
	if of.As != ask.OfTrack {
		return nil
	}
	for i := range v.Song.References {
		if r := &v.Song.References[i]; r.ID == of.Of {
			return r
		}
	}
	return nil
}

// turnedBy is what a finished track is turned by on the deck, dB: to the loudness of the song, or down.
func (s *Server) turnedBy(ctx context.Context, v *View, ref session.Reference, w mix.Window, down bool) (float64, error) {
	if down {
		return -referenceDown, nil
	}
	l, err := s.Renderer.Loudness(ctx, &v.Song.Song, mix.SoloAll, w)
	if err != nil {
		return 0, err
	}
	x, err := v.Bench.ReferenceLoop(ctx, ref, w)
	if err != nil {
		return 0, err
	}
	r, err := mix.Cached(ctx, s.Renderer.Cache, mix.Key("reference loud", ref, w.Frames(), v.Rate), func() (meter.Figure, int, error) {
		return playedLoudness(x), 16, nil
	})
	if by := float64(l.Integrated - r); err == nil && !math.IsNaN(by) && !math.IsInf(by, 0) {
		return math.Max(-matchDown, math.Min(matchUp, by)), nil
	}
	return 0, err
}

// referenceHeard renders the stretch of a finished track as the deck plays it.
func (s *Server) referenceHeard(ctx context.Context, v *View, ref session.Reference, w mix.Window, ear string, down bool) (audio.Buffer, error) {
	by, err := s.turnedBy(ctx, v, ref, w, down)
	if err != nil {
		return audio.Buffer{}, err
	}
	playback := v.Song.RoomRules().Playback
	return mix.Cached(ctx, s.Renderer.Cache, mix.Key("reference heard", ref, w.Frames(), v.Rate, by, ear, playback), func() (audio.Buffer, int, error) {
		x, err := v.Bench.ReferenceLoop(ctx, ref, w)
		if err != nil {
			return x, 0, err
		}
		y := audio.New(x.Rate, len(x.Ch), x.Frames())
		g := float32(dsp.Gain(by))
		for c, ch := range x.Ch {
			for i, a := range ch {
				y.Ch[c][i] = g * a
			}
		}
		through, _ := compare.ThroughOf(ear)
		y, err = through.Listen(y, playback)
		return y, y.Bytes(), err
	})
}
