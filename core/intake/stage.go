package intake

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/stage"
)

// Stage is the stage Intake.
var Stage = stage.Stage{
	Key: stage.Intake, Name: "Intake", Question: "What did I bring, what is it, is any of it broken?",
	Help: []string{
		"Drop all stems of the beat, bounced from the same start. Each is measured once; what is odd about a file is said under it.",
		"First: look whether the roles are right. Kick and bass decide what all other stages judge. Then the tempo and the first bar.",
	},
	Judge: func(_ context.Context, b *bench.Bench, _ mix.Window) ([]find.Finding, error) {
		return FindingsOn(b), nil
	},
	Figures: map[string]stage.Figure{
		"rumble":  {Take: rumble, Local: true},
		"pairsum": {Name: "sum of the pair", Take: pairSum, Local: true},
	},
	Early: true, Loud: true, ByStem: true,
}
