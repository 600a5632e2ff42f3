package bench

import (
	"context"

	"mellowthump/core/find"
	"mellowthump/core/room"
)

// Cellar measures what lies under kick and bass in the loop.
func (b *Bench) Cellar(ctx context.Context) (*room.Cellar, error) {
	return b.cellar.get(func() (*room.Cellar, error) { return room.Measure(ctx, b.Renderer, b.Song, b.Loop) })
}

// Cuts works out what of each stem may go unheard in the loop. It takes long the first time.
func (b *Bench) Cuts(ctx context.Context) ([]room.Cut, error) {
	return b.cuts.get(func() ([]room.Cut, error) { return room.Cuts(ctx, b.Renderer, b.Song, b.Loop) })
}

// Room is what is told about the room under and around kick and bass in the loop. It takes long the first time.
func (b *Bench) Room(ctx context.Context) ([]find.Finding, error) {
	if len(b.Song.Stems) == 0 {
		return nil, nil
	}
	c, err := b.Cellar(ctx)
	if err != nil {
		return nil, err
	}
	cuts, err := b.Cuts(ctx)
	if err != nil {
		return nil, err
	}
	parts, err := c.Shares(ctx, b.Renderer, b.Song, b.Loop)
	if err != nil {
		return nil, err
	}
	mud, err := room.Mud(ctx, b.Renderer, b.Song, b.Loop)
	if err != nil {
		return nil, err
	}
	return find.At("room", room.Judge(b.Song, c, parts, cuts, mud)), nil
}
