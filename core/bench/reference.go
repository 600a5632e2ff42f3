package bench

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/audio/resample"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Opened opens the stretch of a finished track that is compared: all of it where none was chosen.
func (b *Bench) Opened(ref session.Reference) (audio.Source, func() error, error) {
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
		src, closeFile, err := b.Opened(ref)
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
