package pocket

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Stage is the stage Pocket.
var Stage = stage.Stage{
	Key: stage.Pocket, Name: "Pocket", Question: "Do kick and bass agree?",
	Help: []string{
		"Kick above the line, bass below it, hit by hit; where they collide is hatched. Clearance is kick over bass in the kick’s own octave.",
		"First: pitch and polarity. Then who leads. What is left is the duck’s work.",
	},
	Judge: stage.OfLoop(Findings),
	Figures: map[string]stage.Figure{
		"p10":       {Name: "worst tenth", Take: clearance, Local: true},
		"notecents": {Name: "bass off pitch", Take: cents},
		"kickcents": {Name: "kick off the bass’s note", Take: kickCents},
		"phase":     {Name: "phase sum", Take: phase},
		"layersum":  {Name: "layers’ phase sum", Take: layerSum},
	},
	Plans:  map[find.Group]stage.Plan{find.Tuning: planTuning},
	Before: session.Song.Disagreed, BeforeName: "before Pocket's moves",
	Anew: true, Early: true, Turns: true,
}

// clearance is the worst tenth of the part that leads.
func clearance(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	st, err := pair.On(ctx, b)
	if err != nil {
		return stage.Unjudged(meter.None, err)
	}
	return st.WorstTenth(b.Song.Leader), nil
}

func cents(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	a, err := AgreementOn(ctx, b)
	if err != nil || len(a.Notes) == 0 {
		return stage.Unjudged(meter.None, err)
	}
	return meter.Figure(a.Notes[0].Cents), nil
}

func kickCents(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	st, err := pair.On(ctx, b)
	if err != nil {
		return stage.Unjudged(meter.None, err)
	}
	a, err := AgreementOn(ctx, b)
	if err != nil {
		return stage.Unjudged(meter.None, err)
	}
	p, err := b.KickPitch()
	if err != nil || !p.Settled {
		return meter.None, err
	}
	return KickOff(p.Hz, a.Notes, len(st.After.Hits)), nil
}

func phase(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	st, err := pair.On(ctx, b)
	if err != nil {
		return stage.Unjudged(meter.None, err)
	}
	return st.After.PhaseSumMedian, nil
}

// layerSum is that of a stem against the other layers of its role.
func layerSum(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	a, err := AgreementOn(ctx, b)
	if err != nil {
		return stage.Unjudged(meter.None, err)
	}
	for _, l := range a.Layers {
		if l.Stem.ID == m.Of {
			return l.Sum, nil
		}
	}
	return meter.None, nil
}

// planTuning detunes all that is off by one change.
func planTuning(_ context.Context, b *bench.Bench, found []find.Finding) (stage.Planned, error) {
	p := stage.Planned{Found: found, Do: "Tune it", Own: []find.Measure{{Figure: "notecents"}}}
	fix := session.Together{Edits: DetuneOn(b)}
	if len(fix.Edits) == 0 {
		p.Singly = true
		return p, nil
	}
	p.Edit = fix
	if _, said, err := session.Made(b.Song, fix); err == nil && said != "" {
		p.Do = said
	}
	return p, nil
}
