package compare

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/device"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// OnDevice is what vanishes on a stand-in, with the notes of the bass that are not heard there.
type OnDevice struct {
	Vanished
	Notes *device.OnSpeaker
}

// DevicesOn says what of the loop vanishes on each stand-in. It takes long the first time.
func DevicesOn(ctx context.Context, b *bench.Bench) ([]OnDevice, error) {
	playback := b.Song.RoomRules().Playback
	key, err := b.Renderer.Identity(b.Song, mix.SoloAll, b.Loop)
	if err != nil {
		return nil, err
	}
	hits, err := b.Renderer.Hits(b.Song, session.KickTrigger)
	if err != nil {
		return nil, err
	}
	all, err := mix.Cached(ctx, b.Renderer.Cache, mix.Key("vanished", key, playback, hits), func() ([]Vanished, int, error) {
		mix.Doing(ctx, "Listening to every stem on every stand-in")
		var parts []StemSound
		if err := b.Alone(ctx, b.Loop, func(st *session.Stem, _ string, x audio.Buffer) error {
			parts = append(parts, StemSound{ID: st.ID, Name: st.Name, Kick: st.Role == session.Kick, Sound: x})
			return nil
		}); err != nil {
			return nil, 0, err
		}
		var in []int
		for _, h := range hits {
			in = append(in, h-b.Loop.From)
		}
		v, err := Vanish(ctx, parts, in, 0, b.Loop.Frames(), playback)
		return v, 64 * len(v) * (1 + len(parts)), err
	})
	if err != nil {
		return nil, err
	}
	out := make([]OnDevice, len(all))
	for i, v := range all {
		out[i].Vanished = v
		if out[i].Notes, err = device.HearNotes(ctx, b.Renderer, b.Song, b.Line(), b.Loop, v.Device, playback); err != nil {
			return nil, err
		}
	}
	return out, nil
}
