package bench

import (
	"context"

	"mellowthump/core/body"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Apart is a stem that was taken apart: its parts, the figures between them before and after what Body does, and what Pocket tells of
// them, as estimates. Trouble says why they cannot be judged.
type Apart struct {
	Of      *session.Stem
	Parts   []*session.Stem
	Before  body.ApartFigures
	Now     body.ApartFigures
	Found   []find.Finding
	Lowered *body.Lowered // what is offered; nil: nothing
	Trouble string
}

// TakenApart lists the stems that were taken apart, in order.
func TakenApart(song *session.Song) []*session.Stem {
	var out []*session.Stem
	for i := range song.Stems {
		if len(song.Parts(song.Stems[i].ID)) > 0 {
			out = append(out, &song.Stems[i])
		}
	}
	return out
}

// ApartOf measures the parts of a stem over the loop; nil where it is not apart.
func (b *Bench) ApartOf(ctx context.Context, id string) (*Apart, error) {
	of := b.Song.Stem(id)
	if of == nil || len(b.Song.Parts(id)) == 0 {
		return nil, nil
	}
	out := &Apart{Of: of, Parts: b.Song.Parts(id)}
	alone, ok := b.Song.ApartAlone(id)
	if !ok {
		out.Trouble = "Its struck or its sustained part was taken out; put it together and take it apart again."
		return out, nil
	}
	on := New(b.Renderer, &alone, b.Facts)
	on.Loop, on.Auto = b.Loop, b.Auto
	var err error
	if out.Now, err = body.OfParts(ctx, b.Renderer, &alone, on.Loop); err != nil {
		if out.Trouble = Trouble(err); out.Trouble != "" {
			return out, nil
		}
		return nil, err
	}
	plain := alone.Unbodied()
	if out.Before, err = body.OfParts(ctx, b.Renderer, &plain, on.Loop); err != nil {
		return nil, err
	}
	if out.Found, err = on.Pocket(ctx); err != nil {
		return nil, err
	}
	out.Lowered, err = b.lowered(ctx, &alone)
	return out, err
}

// lowered is what is offered for the parts of a stem, alone.
func (b *Bench) lowered(ctx context.Context, alone *session.Song) (*body.Lowered, error) {
	plain := *alone
	plain.Stems = nil
	for _, st := range alone.Stems {
		st.Moves = st.Moves.Without(func(m move.Move) bool { return m.ID == session.BodyShelf })
		plain.Stems = append(plain.Stems, st)
	}
	target := alone.Targets.Clearance
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("lowered", plain.Stems, plain.Buses, plain.Master, b.Loop, target), func() (*body.Lowered, int, error) {
		mix.Doing(ctx, "Lowering what lasts")
		l, err := body.LowerSustained(ctx, b.Renderer, &plain, b.Loop, target)
		return l, 4096, err
	})
}

// buried is what is told of the stems that were taken apart.
func (b *Bench) buried(ctx context.Context) ([]find.Finding, error) {
	var out []find.Finding
	for _, of := range TakenApart(b.Song) {
		a, err := b.ApartOf(ctx, of.ID)
		if err != nil {
			return nil, err
		}
		if a == nil || a.Lowered == nil || b.Song.Stem(a.Lowered.Stem).Move(session.BodyShelf) != nil {
			continue
		}
		if f, ok := body.Buried(of, a.Lowered, b.Song.Targets.Clearance); ok {
			out = append(out, f)
		}
	}
	return out, nil
}
