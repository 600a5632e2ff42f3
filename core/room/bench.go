package room

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/move"
)

// BacksOn tells how stems came back for which moves of a stage were planned; of tells the stage's moves.
func BacksOn(ctx context.Context, b *bench.Bench, of func(move.Move) bool) ([]Back, error) {
	return Backs(ctx, b.Renderer, b.Song, of, b.RoomWindow())
}

// CellarOn measures what lies under kick and bass in the loop.
func CellarOn(ctx context.Context, b *bench.Bench) (*Cellar, error) {
	type key struct{}
	return bench.Keep(ctx, b, key{}, func() (*Cellar, error) { return Measure(ctx, b.Renderer, b.Song, b.RoomWindow()) })
}

// CutsOn works out what of each stem may go unheard in the loop. It takes long the first time.
func CutsOn(ctx context.Context, b *bench.Bench) ([]Cut, error) {
	type key struct{}
	return bench.Keep(ctx, b, key{}, func() ([]Cut, error) { return Cuts(ctx, b.Renderer, b.Song, b.RoomWindow()) })
}

// Findings is what is told about the room under and around kick and bass in the loop. It takes long the first time.
func Findings(ctx context.Context, b *bench.Bench) ([]find.Finding, error) {
	if len(b.Song.Stems) == 0 {
		return nil, nil
	}
	c, err := CellarOn(ctx, b)
	if err != nil {
		return nil, err
	}
	var cuts []Cut
	var parts []Share
	var mud []Muddy
	var rings []Ringing
	var crowd *Crowd
	g, inner := group.WithContext(ctx) // they leave each other a processor now and then
	g.Go(func() (err error) { cuts, err = CutsOn(inner, b); return err })
	g.Go(func() (err error) { parts, err = c.Shares(inner, b.Renderer, b.Song, b.RoomWindow()); return err })
	g.Go(func() (err error) { mud, err = Mud(inner, b.Renderer, b.Song, b.RoomWindow()); return err })
	g.Go(func() (err error) { rings, err = Rings(inner, b.Renderer, b.Song, b.RoomWindow()); return err })
	g.Go(func() (err error) { crowd, err = CrowdOn(inner, b); return err })
	if err := g.Wait(); err != nil {
		return nil, err
	}
	out := Judge(b.Song, c, parts, cuts, mud)
	for _, g := range rings {
		if f, ok := g.Finding(b.Song); ok {
			out = append(out, f)
		}
	}
	return append(out, crowd.Told(b.Song)...), nil
}

// CrowdOn is every stem in the loop as it is heard: who covers whom. It takes long the first time.
func CrowdOn(ctx context.Context, b *bench.Bench) (*Crowd, error) {
	type key struct{}
	return bench.Keep(ctx, b, key{}, func() (*Crowd, error) { return Gather(ctx, b.Renderer, b.Song, b.RoomWindow()) })
}

// RollsOn renders the schools of rolling kick and bass off from below, over the loop.
func RollsOn(ctx context.Context, b *bench.Bench) ([]Roll, error) {
	type key struct{}
	return bench.Keep(ctx, b, key{}, func() ([]Roll, error) {
		hz, err := b.KickHz()
		if err != nil {
			return nil, err
		}
		return Rolls(ctx, b.Renderer, b.Song, b.RoomWindow(), hz, b.Line())
	})
}
