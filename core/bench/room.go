package bench

import (
	"context"

	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/room"
)

// roomMost is the longest stretch that Room listens to, s: every stem's excitation is held.
const roomMost = 60.0

// Backs tells how stems came back for which moves of a stage were planned; of tells the stage's moves.
func (b *Bench) Backs(ctx context.Context, of func(move.Move) bool) ([]room.Back, error) {
	return room.Backs(ctx, b.Renderer, b.Song, of, b.RoomWindow())
}

// RoomWindow is the judged stretch as far as Room listens: its first minute.
func (b *Bench) RoomWindow() mix.Window {
	w := b.Loop
	w.To = min(w.To, w.From+int(roomMost*float64(b.Song.Rate)))
	return w
}

// Cellar measures what lies under kick and bass in the loop.
func (b *Bench) Cellar(ctx context.Context) (*room.Cellar, error) {
	return b.cellar.get(ctx, func() (*room.Cellar, error) { return room.Measure(ctx, b.Renderer, b.Song, b.RoomWindow()) })
}

// Cuts works out what of each stem may go unheard in the loop. It takes long the first time.
func (b *Bench) Cuts(ctx context.Context) ([]room.Cut, error) {
	return b.cuts.get(ctx, func() ([]room.Cut, error) { return room.Cuts(ctx, b.Renderer, b.Song, b.RoomWindow()) })
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
	var cuts []room.Cut
	var parts []room.Share
	var mud []room.Muddy
	var rings []room.Ringing
	var crowd *room.Crowd
	g, inner := group.WithContext(ctx) // they leave each other a processor now and then
	g.Go(func() (err error) { cuts, err = b.Cuts(inner); return err })
	g.Go(func() (err error) { parts, err = c.Shares(inner, b.Renderer, b.Song, b.RoomWindow()); return err })
	g.Go(func() (err error) { mud, err = room.Mud(inner, b.Renderer, b.Song, b.RoomWindow()); return err })
	g.Go(func() (err error) { rings, err = room.Rings(inner, b.Renderer, b.Song, b.RoomWindow()); return err })
	g.Go(func() (err error) { crowd, err = b.Crowd(inner); return err })
	if err := g.Wait(); err != nil {
		return nil, err
	}
	out := room.Judge(b.Song, c, parts, cuts, mud)
	for _, g := range rings {
		if f, ok := g.Finding(b.Song); ok {
			out = append(out, f)
		}
	}
	return find.At("room", append(out, crowd.Told(b.Song)...)), nil
}

// Crowd is every stem in the loop as it is heard: who covers whom. It takes long the first time.
func (b *Bench) Crowd(ctx context.Context) (*room.Crowd, error) {
	return b.crowd.get(ctx, func() (*room.Crowd, error) { return room.Gather(ctx, b.Renderer, b.Song, b.RoomWindow()) })
}

// Rolls renders the schools of rolling kick and bass off from below, over the loop.
func (b *Bench) Rolls(ctx context.Context) ([]room.Roll, error) {
	return b.rolls.get(ctx, func() ([]room.Roll, error) {
		hz, err := b.KickHz()
		if err != nil {
			return nil, err
		}
		return room.Rolls(ctx, b.Renderer, b.Song, b.RoomWindow(), hz, b.Line())
	})
}

// KickHz is the kick's fundamental, Hz; 0 where it has none, or where there is no kick.
func (b *Bench) KickHz() (float64, error) {
	if b.Song.TriggerStem() == nil {
		return 0, nil
	}
	return b.Renderer.KickHz(b.Song)
}
