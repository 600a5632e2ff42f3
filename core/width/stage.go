package width

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Stage is the stage Width.
var Stage = stage.Stage{
	Key: stage.Width, Name: "Width", Question: "Is the low end mono, does anything cancel when summed?",
	Help: []string{
		"Mid above the line, side below it; hatched is what one speaker would lose.",
		"First: the low end. What lies under 120 Hz is best mono; each part is cut at the lowest corner that makes it so.",
	},
	Judge: stage.OfLoop(Findings),
	Figures: map[string]stage.Figure{
		"worsttenth": {Name: "correlation", Take: between(func(f Figures) meter.Figure { return f.Worst }), Local: true},
		"lowmono":    {Name: "side under 120 Hz", Take: between(func(f Figures) meter.Figure { return f.Low }), Local: true},
		"foldlu":     {Name: "lost in mono", Take: between(func(f Figures) meter.Figure { return f.FoldLU })},
	},
	Before: session.Song.Unwidened, BeforeName: "before Width's moves",
	Later: true,
}

// between takes a figure between the channels of a place.
func between(of func(Figures) meter.Figure) func(context.Context, *bench.Bench, find.Measure) (meter.Figure, error) {
	return func(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
		r, err := Between(ctx, b, session.ParseAt(m.Of))
		return of(r.Now), err
	}
}
