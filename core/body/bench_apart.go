package body

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// ApartState is a stem that was taken apart: its parts, the figures between them before and after what Body does, and what Pocket tells of
// them, as estimates. Trouble says why they cannot be judged.
type ApartState struct {
	Of      *session.Stem
	Parts   []*session.Stem
	Before  ApartFigures
	Now     ApartFigures
	Alone   *bench.Bench // its parts alone, by which Pocket tells of them
	Lowered *Lowered     // what is offered; nil: nothing
	Drums   bool         // they are the kick of drums and the rest: Pocket and Duck judge them
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

// ApartOn measures the parts of a stem over the loop; nil where it is not apart.
func ApartOn(ctx context.Context, b *bench.Bench, id string) (*ApartState, error) {
	of := b.Song.Stem(id)
	if of == nil || len(b.Song.Parts(id)) == 0 {
		return nil, nil
	}
	out := &ApartState{Of: of, Parts: b.Song.Parts(id)}
	if out.Parts[0].Apart.Is == session.Low {
		out.Drums = true
		return out, nil
	}
	alone, ok := b.Song.ApartAlone(id)
	if !ok {
		out.Trouble = "Its struck or its sustained part was taken out; put it together and take it apart again."
		return out, nil
	}
	on := bench.New(b.Renderer, &alone, b.Facts)
	on.Loop, on.Auto = b.Loop, b.Auto
	var err error
	if out.Now, err = OfParts(ctx, b.Renderer, &alone, on.Loop); err != nil {
		if out.Trouble = bench.Trouble(err); out.Trouble != "" {
			return out, nil
		}
		return nil, err
	}
	plain := alone.Unbodied()
	if out.Before, err = OfParts(ctx, b.Renderer, &plain, on.Loop); err != nil {
		return nil, err
	}
	out.Alone = on
	out.Lowered, err = loweredOn(ctx, b, &alone)
	return out, err
}

// loweredOn is what is offered for the parts of a stem, alone.
func loweredOn(ctx context.Context, b *bench.Bench, alone *session.Song) (*Lowered, error) {
	plain := *alone
	plain.Stems = nil
	for _, st := range alone.Stems {
		st.Moves = st.Moves.Without(func(m move.Move) bool { return m.ID == session.BodyShelf })
		plain.Stems = append(plain.Stems, st)
	}
	target := alone.Targets.Clearance
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("lowered", plain.Stems, plain.Buses, plain.Master, b.Loop, target), func() (*Lowered, int, error) {
		mix.Doing(ctx, "Lowering what lasts")
		l, err := LowerSustained(ctx, b.Renderer, &plain, b.Loop, target)
		return l, 4096, err
	})
}

// BuriedOn is what is told of the stems that were taken apart.
func BuriedOn(ctx context.Context, b *bench.Bench) ([]find.Finding, error) {
	var out []find.Finding
	for _, of := range TakenApart(b.Song) {
		a, err := ApartOn(ctx, b, of.ID)
		if err != nil {
			return nil, err
		}
		if a == nil || a.Lowered == nil || b.Song.Stem(a.Lowered.Stem).Move(session.BodyShelf) != nil {
			continue
		}
		if f, ok := Buried(of, a.Lowered, b.Song.Targets.Clearance); ok {
			out = append(out, f)
		}
	}
	return out, nil
}
