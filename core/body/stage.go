package body

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/device"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Stage is the stage Body.
var Stage = stage.Stage{
	Key: stage.Body, Name: "Body", Question: "Does each hit weigh the same, and is the bass heard?",
	Help: []string{
		"Every hit and note as a bar: click and tone above the line, or what it weighs. The spread is how far they lie apart.",
		"First: even out what steps. Attack, harmonics and layers come after.",
	},
	Judge: stage.OfLoop(Findings),
	Figures: map[string]stage.Figure{
		"noteheard": {Name: "heard on a phone", Take: onPhone},
		"spread":    {Take: spread, Local: true},
		"attack":    {Take: attack, Local: true},
		"clearance": {Take: apart},
		"stacksum":  {Name: "layers’ phase sum", Take: stackSum},
	},
	Before: session.Song.Unbodied, BeforeName: "before Body's moves",
	Later: true, Takes: true,
}

func onPhone(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	if len(b.Line()) == 0 {
		return meter.None, nil
	}
	now, _, err := SpeakerOn(ctx, b, device.All[0])
	if err != nil || len(now.Notes) == 0 {
		return meter.None, err
	}
	return meter.Figure(100 * float64(len(now.Notes)-len(now.Unheard())) / float64(len(now.Notes))), nil
}

// weighed is what the items of a part weigh; nil where nothing can be weighed.
func weighed(ctx context.Context, b *bench.Bench, part string) (*Weights, error) {
	p, ok := Of(b.Song, part)
	if !ok {
		return nil, nil
	}
	w, err := WeighOn(ctx, b, p)
	if err != nil {
		return nil, err
	}
	return w.Now, nil
}

func spread(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	w, err := weighed(ctx, b, m.Of)
	if err != nil || w == nil {
		return meter.None, err
	}
	return w.Spread, nil
}

func attack(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	w, err := weighed(ctx, b, m.Of)
	if err != nil || w == nil {
		return meter.None, err
	}
	return w.Attack, nil
}

// apart is the clearance of a stem's own hits over what lasts in it.
func apart(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	a, err := ApartOn(ctx, b, m.Of)
	if err != nil || a == nil {
		return meter.None, err
	}
	return a.Now.Clearance, nil
}

// stackSum is that of all layers of a role.
func stackSum(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	s, err := StackOf(ctx, b.Renderer, b.Song, session.Role(m.By), b.Loop)
	if err != nil || s == nil {
		return meter.None, err
	}
	return s.Sum, nil
}
