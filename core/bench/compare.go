package bench

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/compare"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// MixSound is what the mix is over the loop: without what Compare does, and as it is. The error is compare.ErrSilent where it is silent.
func (b *Bench) MixSound(ctx context.Context) (before, now compare.Sound, err error) {
	plain := b.Song.Unmatched()
	if before, err = b.soundOf(ctx, &plain); err == nil {
		now, err = b.soundOf(ctx, b.Song)
	}
	return before, now, err
}

func (b *Bench) soundOf(ctx context.Context, song *session.Song) (compare.Sound, error) {
	x, id, err := b.Renderer.Solo(mix.Passing(ctx), song, mix.SoloAll, b.Loop)
	if err != nil {
		return compare.Sound{}, err
	}
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("compared", id), func() (compare.Sound, int, error) {
		s, err := compare.OfSource(ctx, audio.Memory{Buffer: x})
		return s, 2048, err
	})
}

// ReferenceSound is what a finished track is, over the stretch that was chosen of it.
func (b *Bench) ReferenceSound(ctx context.Context, ref session.Reference) (compare.Sound, error) {
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("reference", ref.Audio, ref.Stretch), func() (compare.Sound, int, error) {
		mix.Doing(ctx, "Listening to "+ref.Name)
		src, closeFile, err := b.opened(ref)
		if err != nil {
			return compare.Sound{}, 0, err
		}
		defer closeFile()
		s, err := compare.OfSource(ctx, src)
		return s, 2048, err
	})
}
