package room

import (
	"context"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

const (
	cellarLo, cellarHi = 20.0, 150.0 // Hz
	cellarFrame        = 16384       // frames of a transform: its lines stand 2.7 Hz apart
)

// lowEnergy is the energy in 20 to 150 Hz of all channels from a frame on, by the lines of overlapping transforms: what lies beside the
// band counts for nothing, where a snare's own note is 20 dB louder than all of the cellar.
func lowEnergy(x audio.Buffer, from int) float64 {
	fft, window := dsp.NewFFT(cellarFrame), dsp.Hann(cellarFrame)
	power := 0.0
	for _, w := range window {
		power += w * w
	}
	line := float64(x.Rate) / cellarFrame
	lo, hi := int(math.Ceil(cellarLo/line)), int(cellarHi/line)
	frame, spectrum := make([]float64, cellarFrame), make([]complex128, cellarFrame/2+1)
	sum := 0.0
	for _, ch := range x.Ch {
		ch = ch[min(from, len(ch)):]
		for at := -cellarFrame / 2; at < len(ch); at += cellarFrame / 2 {
			for i := range frame {
				frame[i] = 0
				if k := at + i; k >= 0 && k < len(ch) {
					frame[i] = float64(ch[k]) * window[i]
				}
			}
			fft.Coefficients(spectrum, frame)
			for _, v := range spectrum[lo : hi+1] {
				sum += real(v)*real(v) + imag(v)*imag(v)
			}
		}
	}
	return sum / power // of halves that overlap, and of one side of the spectrum: as if each line stood once
}

// lowIn is lowEnergy of what some stems bring to the mix.
func lowIn(ctx context.Context, r *mix.Renderer, song *session.Song, keep func(*session.Stem) bool, in mix.Window, lead int) (float64, error) {
	key, hear, err := heard(r, song, keep, in)
	if err != nil {
		return 0, err
	}
	return mix.Cached(ctx, r.Cache, mix.Key("low energy", key, lead), func() (float64, int, error) {
		x, err := hear(ctx)
		return lowEnergy(x, lead), 8, err
	})
}

// Measure measures the cellar of a song as it is over a window.
func Measure(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) (*Cellar, error) {
	in, lead := wide(song, w)
	pair, pairKey, err := r.Solo(ctx, song, mix.SoloBoth, in)
	if err != nil {
		return nil, err
	}
	restKey, hear, err := heard(r, song, besides, in)
	if err != nil {
		return nil, err
	}
	return mix.Cached(ctx, r.Cache, mix.Key("cellar", pairKey, restKey), func() (*Cellar, int, error) {
		rest, err := hear(ctx)
		if err != nil {
			return nil, 0, err
		}
		c := &Cellar{Under: meter.None}
		under := lowEnergy(pair, lead)
		if e := lowEnergy(rest, lead); e > 0 && under > 0 {
			c.Under = meter.Figure(dsp.PowerDB(under / e))
		}
		for k, x := range []audio.Buffer{pair, rest} {
			s, err := meter.MeasureSpectrum(audio.Memory{Buffer: x.Slice(lead, x.Frames())})
			if err != nil {
				return nil, 0, err
			}
			if k == 0 {
				c.Pair = s.Level
			} else {
				c.Rest = s.Level
			}
		}
		c.Energy = under
		return c, 4096, nil
	})
}
