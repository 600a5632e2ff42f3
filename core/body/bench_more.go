package body

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// plainKey is what a song's sound over the loop goes by, for what is worked out once.
func plainKey(b *bench.Bench, s *session.Song, more ...any) string {
	return mix.Key(append([]any{s.Stems, s.Buses, s.Master, s.Triggers, s.BPM, b.Loop}, more...)...)
}

// StackOn compares the layers of a role; nil where it has fewer than two.
func StackOn(ctx context.Context, b *bench.Bench, role session.Role) (*Stack, error) {
	plain := b.Song.Unlike(session.BodyHand).Unlike(session.BodyTurn)
	s, err := mix.Cached(ctx, b.Renderer.Cache, plainKey(b, &plain, "stack", role), func() (*Stack, int, error) {
		mix.Doing(ctx, "Comparing layers")
		s, err := StackOf(ctx, b.Renderer, &plain, role, b.Loop)
		return s, 4096, err
	})
	if s == nil || err != nil {
		return nil, err
	}
	out := *s
	out.Layers = nil
	for _, l := range s.Layers { // with the moves that are in now
		if l.Stem = b.Song.Stem(l.Stem.ID); l.Stem != nil {
			out.Layers = append(out.Layers, l)
		}
	}
	return &out, nil
}

// LayeredRoles are the roles that may have layers.
var LayeredRoles = []session.Role{session.Kick, session.Snare}

// GlueOn fits a compressor to a bus or to the mix; nil where nothing is to be held together.
func GlueOn(ctx context.Context, b *bench.Bench, at session.At) (*Glued, error) {
	plain := b.Song.Unlike(session.BodyGlue)
	return mix.Cached(ctx, b.Renderer.Cache, plainKey(b, &plain, "glue", at), func() (*Glued, int, error) {
		mix.Doing(ctx, "Fitting a glue")
		g, err := Glue(ctx, b.Renderer, &plain, at, b.Loop)
		return g, 4096, err
	})
}

// BandsOn fits the compression in three bands to a place; nil where nothing sounds.
func BandsOn(ctx context.Context, b *bench.Bench, at session.At, depth float64) (*Banded, error) {
	plain := b.Song.Unlike(session.BodyBands)
	return mix.Cached(ctx, b.Renderer.Cache, plainKey(b, &plain, "bands", at, depth), func() (*Banded, int, error) {
		mix.Doing(ctx, "Looking for the middles of three bands")
		g, err := ToBands(ctx, b.Renderer, &plain, at, depth, b.Loop)
		return g, 4096, err
	})
}

// UnderOn measures a tone or a boost under the kick; nil where there is none to be.
func UnderOn(ctx context.Context, b *bench.Bench, db float64, lift bool) (*Under, error) {
	plain := b.Song.Unlike(session.BodySub)
	if lift {
		plain = b.Song.Unlike(session.BodyLift)
	}
	hz, err := b.KickHz()
	if err != nil {
		return nil, err
	}
	return mix.Cached(ctx, b.Renderer.Cache, plainKey(b, &plain, "under", db, lift, hz), func() (*Under, int, error) {
		mix.Doing(ctx, "Weighing what is put under the kick")
		u, err := UnderKick(ctx, b.Renderer, &plain, hz, db, lift, b.Loop)
		return u, 4096, err
	})
}

// FallOn lets the notes of the bass fall by a law; nil where it has none.
func FallOn(ctx context.Context, b *bench.Bench, law move.Drop) (*Fall, error) {
	plain := b.Song.Unlike(session.BodyFall)
	return mix.Cached(ctx, b.Renderer.Cache, plainKey(b, &plain, "fall", law, b.Line()), func() (*Fall, int, error) {
		mix.Doing(ctx, "Letting the notes fall")
		f, err := FallBy(ctx, b.Renderer, &plain, b.Line(), law, b.Loop)
		return f, 65536, err
	})
}

// ShotOn takes one item of a part away, the middle one where item is negative; the error is body.ErrNoShot where there is none.
func ShotOn(ctx context.Context, b *bench.Bench, p Part, item int) (*OneShot, error) {
	w, err := WeighOn(ctx, b, p)
	if err != nil {
		return nil, err
	}
	if item < 0 {
		item = w.Now.Middle()
	}
	return TakeShot(ctx, b.Renderer, b.Song, w.Now, item)
}

// BeatsOn lets a layer sound at its part's hits on chosen beats alone; nil where there is none of them.
func BeatsOn(b *bench.Bench, st *session.Stem, key string) (session.Edit, error) {
	part, ok := Of(b.Song, st.ID)
	if st.Role == session.Kick {
		part, ok = Of(b.Song, Kick)
	}
	if !ok {
		return nil, nil
	}
	items, err := part.Times(b.Renderer, b.Song, b.Line())
	if err != nil {
		return nil, err
	}
	g, ok := OnBeats(b.Song, items, key)
	if !ok {
		return nil, nil
	}
	why := "it sounds " + BeatsLabel(key) + " alone"
	return session.Together{Said: st.Name + " sounds " + BeatsLabel(key) + " alone", Edits: []session.Edit{
		session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: session.BodyBeats, Why: why, Params: g}}}}, nil
}
