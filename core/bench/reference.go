package bench

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/audio/resample"
	"mellowthump/core/compare"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// opened opens the stretch of a finished track that is compared: all of it where none was chosen.
func (b *Bench) opened(ref session.Reference) (audio.Source, func() error, error) {
	src, closeFile, err := b.Renderer.Library.Open(ref.Audio)
	if err != nil {
		return nil, nil, err
	}
	from, to := ref.Stretch.Ends()
	return audio.Stretch(src, from, to), closeFile, nil
}

// ReferenceLoop is a finished track from the start of its stretch on, as long as a window, at the song's rate, made to go
// round; where it is shorter, it begins again.
func (b *Bench) ReferenceLoop(ctx context.Context, ref session.Reference, w mix.Window) (audio.Buffer, error) {
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("reference loop", ref.Audio, ref.Stretch, w.Frames(), b.Song.Rate), func() (audio.Buffer, int, error) {
		if err := ctx.Err(); err != nil {
			return audio.Buffer{}, 0, err
		}
		src, closeFile, err := b.opened(ref)
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		defer closeFile()
		if rate := b.Song.Rate; src.Format().Rate != rate {
			if src, err = resample.New(src, rate); err != nil {
				return audio.Buffer{}, 0, err
			}
		}
		out, err := mix.Round(src, w.Frames())
		return out, out.Bytes(), err
	})
}

// LoudestOf is the loudest stretch of a finished track of so many seconds.
func (b *Bench) LoudestOf(ctx context.Context, ref session.Reference, seconds float64) (session.Span, error) {
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("loudest", ref.Audio, seconds), func() (session.Span, int, error) {
		src, closeFile, err := b.Renderer.Library.Open(ref.Audio)
		if err != nil {
			return session.Span{}, 0, err
		}
		defer closeFile()
		from, to, err := meter.Loudest(ctx, src, seconds)
		return session.Span{From: from, To: to}, 32, err
	})
}

// Kicks is the kick alone: the song's, and that of a finished track where one stands free; a Count of 0 says that none does.
func (b *Bench) Kicks(ctx context.Context, ref session.Reference) (own, other compare.FreeKick, err error) {
	_, now, err := b.MixSound(ctx)
	if err != nil {
		return own, other, err
	}
	x, id, err := b.Renderer.Solo(mix.Passing(ctx), b.Song, mix.SoloKick, b.Loop)
	if err != nil {
		return own, other, err
	}
	if own, err = mix.Cached(ctx, b.Renderer.Cache, mix.Key("own kick", id, now.Loudness), func() (compare.FreeKick, int, error) {
		k, err := compare.FreeKicks(ctx, audio.Memory{Buffer: x}, now.Loudness)
		return k, 64, err
	}); err != nil {
		return own, other, err
	}
	of, err := b.ReferenceSound(ctx, ref)
	if err != nil {
		return own, other, err
	}
	other, err = mix.Cached(ctx, b.Renderer.Cache, mix.Key("free kick", ref.Audio, ref.Stretch), func() (compare.FreeKick, int, error) {
		src, closeFile, err := b.opened(ref)
		if err != nil {
			return compare.FreeKick{}, 0, err
		}
		defer closeFile()
		k, err := compare.FreeKicks(ctx, src, of.Loudness)
		return k, 64, err
	})
	return own, other, err
}
