package bench

import (
	"context"

	"mellowthump/core/body"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// plainKey is what a song's sound over the loop goes by, for what is worked out once.
func (b *Bench) plainKey(s *session.Song, more ...any) string {
	return mix.Key(append([]any{s.Stems, s.Buses, s.Master, s.Triggers, s.BPM, b.Loop}, more...)...)
}

// Stack compares the layers of a role; nil where it has fewer than two.
func (b *Bench) Stack(ctx context.Context, role session.Role) (*body.Stack, error) {
	plain := b.Song.Unlike(session.BodyHand).Unlike(session.BodyTurn)
	s, err := mix.Cached(ctx, b.Renderer.Cache, b.plainKey(&plain, "stack", role), func() (*body.Stack, int, error) {
		mix.Doing(ctx, "Comparing layers")
		s, err := body.StackOf(ctx, b.Renderer, &plain, role, b.Loop)
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

// Glue fits a compressor to a bus or to the mix; nil where nothing is to be held together.
func (b *Bench) Glue(ctx context.Context, at session.At) (*body.Glued, error) {
	plain := b.Song.Unlike(session.BodyGlue)
	return mix.Cached(ctx, b.Renderer.Cache, b.plainKey(&plain, "glue", at), func() (*body.Glued, int, error) {
		mix.Doing(ctx, "Fitting a glue")
		g, err := body.Glue(ctx, b.Renderer, &plain, at, b.Loop)
		return g, 4096, err
	})
}

// ToBands fits the compression in three bands to a place; nil where nothing sounds.
func (b *Bench) ToBands(ctx context.Context, at session.At, depth float64) (*body.Banded, error) {
	plain := b.Song.Unlike(session.BodyBands)
	return mix.Cached(ctx, b.Renderer.Cache, b.plainKey(&plain, "bands", at, depth), func() (*body.Banded, int, error) {
		mix.Doing(ctx, "Looking for the middles of three bands")
		g, err := body.ToBands(ctx, b.Renderer, &plain, at, depth, b.Loop)
		return g, 4096, err
	})
}

// Under measures a tone or a boost under the kick; nil where there is none to be.
func (b *Bench) Under(ctx context.Context, db float64, lift bool) (*body.Under, error) {
	plain := b.Song.Unlike(session.BodySub)
	if lift {
		plain = b.Song.Unlike(session.BodyLift)
	}
	hz, err := b.KickHz()
	if err != nil {
		return nil, err
	}
	return mix.Cached(ctx, b.Renderer.Cache, b.plainKey(&plain, "under", db, lift, hz), func() (*body.Under, int, error) {
		mix.Doing(ctx, "Weighing what is put under the kick")
		u, err := body.UnderKick(ctx, b.Renderer, &plain, hz, db, lift, b.Loop)
		return u, 4096, err
	})
}

// Fall lets the notes of the bass fall by a law; nil where it has none.
func (b *Bench) Fall(ctx context.Context, law move.Drop) (*body.Fall, error) {
	plain := b.Song.Unlike(session.BodyFall)
	return mix.Cached(ctx, b.Renderer.Cache, b.plainKey(&plain, "fall", law, b.Line()), func() (*body.Fall, int, error) {
		mix.Doing(ctx, "Letting the notes fall")
		f, err := body.FallBy(ctx, b.Renderer, &plain, b.Line(), law, b.Loop)
		return f, 65536, err
	})
}

// Shot takes one item of a part away, the middle one where item is negative; the error is body.ErrNoShot where there is none.
func (b *Bench) Shot(ctx context.Context, p body.Part, item int) (*body.OneShot, error) {
	w, err := b.Weigh(ctx, p)
	if err != nil {
		return nil, err
	}
	if item < 0 {
		item = w.Now.Middle()
	}
	return body.TakeShot(ctx, b.Renderer, b.Song, w.Now, item)
}

// OnBeats lets a layer sound at its part's hits on chosen beats alone; nil where there is none of them.
func (b *Bench) OnBeats(st *session.Stem, key string) (session.Edit, error) {
	part, ok := body.Of(b.Song, st.ID)
	if st.Role == session.Kick {
		part, ok = body.Of(b.Song, body.Kick)
	}
	if !ok {
		return nil, nil
	}
	items, err := part.Times(b.Renderer, b.Song, b.Line())
	if err != nil {
		return nil, err
	}
	g, ok := body.OnBeats(b.Song, items, key)
	if !ok {
		return nil, nil
	}
	why := "it sounds " + body.BeatsLabel(key) + " alone"
	return session.Together{Said: st.Name + " sounds " + body.BeatsLabel(key) + " alone", Edits: []session.Edit{
		session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: session.BodyBeats, Why: why, Params: g}}}}, nil
}
