package room

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Stage is the stage Room.
var Stage = stage.Stage{
	Key: stage.Room, Name: "Room", Question: "What else is down there, and can be taken out unheard?",
	Help: []string{
		"Kick and bass above the line, everything else hanging below it. The grey of each row is what nobody hears missing in the mix.",
		"First: Cut all unheard. Dips for mud and for who covers whom are a matter of taste; hear them.",
	},
	Judge: stage.OfLoop(Findings),
	Figures: map[string]stage.Figure{
		"cellar":   {Name: "cellar", Take: cellar, Local: true},
		"overline": {Take: mud},
		"boxover":  {Take: mud},
		"ringover": {Take: ring},
		"covered":  {Take: covered},
	},
	Plans:  map[find.Group]stage.Plan{find.Cuts: planCuts},
	Ahead:  ahead,
	Before: session.Song.Unroomed, BeforeName: "before Room's moves",
	Later: true, Mended: true,
}

func cellar(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	c, err := CellarOn(ctx, b)
	if err != nil {
		return meter.None, err
	}
	return c.Under, nil
}

func mud(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	return MudLeft(ctx, b.Renderer, b.Song, b.RoomWindow(), m.Of, m.Hz, m.Figure == "boxover")
}

func ring(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	return RingLeft(ctx, b.Renderer, b.Song, b.RoomWindow(), m.Of, m.Hz)
}

func covered(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	c, err := CrowdOn(ctx, b)
	if err != nil {
		return meter.None, err
	}
	for _, k := range c.Covers() {
		if k.By == m.By && k.Of == m.Of {
			return meter.Figure(100 * k.Lost), nil
		}
	}
	return 0, nil
}

// planCuts are the cuts that go unheard, all at once where the cellar asks for them.
func planCuts(_ context.Context, _ *bench.Bench, found []find.Finding) (stage.Planned, error) {
	p := stage.Planned{Found: found, Own: found[len(found)-1].Own}
	var fixes []session.Edit
	p.Taste = found[0].Taste
	for _, f := range found {
		if f.Taste == "" { // one of them is a fault
			p.Taste = ""
		}
		if f.ID == "cellar" { // all of them at once
			p.Do, p.Own = f.Do, f.Own
			if len(f.Fix) > 0 {
				p.Edit = session.Together{Said: f.Do, Edits: f.Fix}
				return p, nil
			}
		}
		fixes = append(fixes, f.Fix...)
	}
	if len(fixes) > 0 {
		p.Edit, p.Own = session.Together{Edits: fixes}, found[len(found)-1].Own
		p.Do = "Cut what goes unheard"
	}
	return p, nil
}

// ahead listens to the parts that no duck changes. What it finds is in the renderer's cache.
func ahead(ctx context.Context, b *bench.Bench) error {
	if _, err := CrowdOn(ctx, b); err != nil {
		return err
	}
	if _, err := Rings(ctx, b.Renderer, b.Song, b.RoomWindow()); err != nil {
		return err
	}
	_, err := Mud(ctx, b.Renderer, b.Song, b.RoomWindow())
	return err
}
