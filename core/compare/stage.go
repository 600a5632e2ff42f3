package compare

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Stage is the stage Compare.
var Stage = stage.Stage{
	Key: stage.Compare, Name: "Compare", Question: "How does it stand against a finished track, and in other rooms and devices?",
	Help: []string{
		"Your song against a finished track, both equally loud, and on stand-ins of small speakers, phones and rooms.",
		"First: bring a track that you know. It is a companion and no rule; the blind tests say whether you hear what you think you hear.",
	},
	Judge:   stage.OfLoop(Findings),
	Figures: map[string]stage.Figure{"deviation": {Name: "off the finished track", Take: deviation}},
	Before:  session.Song.Unmatched, BeforeName: "before Compare's match",
	Later: true, Anew: true,
}

func deviation(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	_, now, err := MixSound(ctx, b)
	if err != nil {
		return meter.None, err
	}
	other, err := ReferenceSound(ctx, b, b.Song.References[0])
	return Against(now, other).Deviation(), err
}
