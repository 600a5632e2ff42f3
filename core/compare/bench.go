package compare

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// MixSound is what the mix is over the loop: without what Compare does, and as it is. The error is compare.ErrSilent where it is silent.
func MixSound(ctx context.Context, b *bench.Bench) (before, now Sound, err error) {
	plain := b.Song.Unmatched()
	if before, err = soundOf(ctx, b, &plain); err == nil {
		now, err = soundOf(ctx, b, b.Song)
	}
	return before, now, err
}

func soundOf(ctx context.Context, b *bench.Bench, song *session.Song) (Sound, error) {
	x, id, err := b.Renderer.Solo(mix.Passing(ctx), song, mix.SoloAll, b.Loop)
	if err != nil {
		return Sound{}, err
	}
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("compared", id), func() (Sound, int, error) {
		s, err := OfSource(ctx, audio.Memory{Buffer: x})
		return s, 2048, err
	})
}

// ReferenceSound is what a finished track is, over the stretch that was chosen of it.
func ReferenceSound(ctx context.Context, b *bench.Bench, ref session.Reference) (Sound, error) {
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("reference", ref.Audio, ref.Stretch), func() (Sound, int, error) {
		mix.Doing(ctx, "Listening to "+ref.Name)
		src, closeFile, err := b.Opened(ref)
		if err != nil {
			return Sound{}, 0, err
		}
		defer closeFile()
		s, err := OfSource(ctx, src)
		return s, 2048, err
	})
}

// KicksOn is the kick alone: the song's, and that of a finished track where one stands free; a Count of 0 says that none does.
func KicksOn(ctx context.Context, b *bench.Bench, ref session.Reference) (own, other FreeKick, err error) {
	_, now, err := MixSound(ctx, b)
	if err != nil {
		return own, other, err
	}
	x, id, err := b.Renderer.Solo(mix.Passing(ctx), b.Song, mix.SoloKick, b.Loop)
	if err != nil {
		return own, other, err
	}
	if own, err = mix.Cached(ctx, b.Renderer.Cache, mix.Key("own kick", id, now.Loudness), func() (FreeKick, int, error) {
		k, err := FreeKicks(ctx, audio.Memory{Buffer: x}, now.Loudness)
		return k, 64, err
	}); err != nil {
		return own, other, err
	}
	of, err := ReferenceSound(ctx, b, ref)
	if err != nil {
		return own, other, err
	}
	other, err = mix.Cached(ctx, b.Renderer.Cache, mix.Key("free kick", ref.Audio, ref.Stretch), func() (FreeKick, int, error) {
		src, closeFile, err := b.Opened(ref)
		if err != nil {
			return FreeKick{}, 0, err
		}
		defer closeFile()
		k, err := FreeKicks(ctx, src, of.Loudness)
		return k, 64, err
	})
	return own, other, err
}
