package intake

import (
	"context"
	"fmt"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/session"
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
	Plans: map[find.Group]stage.Plan{find.Copies: planCopies},
	Early: true, Loud: true, ByStem: true,
}

// planCopies mutes all stems that are the same sound as another, by one change.
func planCopies(_ context.Context, _ *bench.Bench, found []find.Finding) (stage.Planned, error) {
	p := stage.Planned{Found: found, Taste: doubled}
	fix := session.Together{}
	for _, f := range found {
		fix.Edits, p.Own = append(fix.Edits, f.Fix...), append(p.Own, f.Own...)
	}
	p.Edit, p.Do = fix, found[0].Do
	if n := len(found); n > 1 {
		p.Do = fmt.Sprintf("Mute these %d", n)
	}
	return p, nil
}
