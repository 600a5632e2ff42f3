package duck

import (
	"context"
	"fmt"
	"reflect"
	"slices"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Stage is the stage Duck.
var Stage = stage.Stage{
	Key: stage.Duck, Name: "Duck", Question: "How does the bass get out of the way, and back?",
	Help: []string{
		"The curve is the gain of the bass at each hit. Fit finds the least that reaches the clearance asked in nine hits of ten; the trade-off says what more " +
			"or less would cost.",
		"First: Fit, then X to hear it before and after, equally loud.",
	},
	Judge: stage.OfLoop(Findings),
	Figures: map[string]stage.Figure{
		"loss":   {Name: "bass lost", Take: loss},
		"hidden": {Name: "kick hidden", Take: hidden},
	},
	Plans:  map[find.Group]stage.Plan{find.Fit: planFit},
	Before: session.Song.Unducked, BeforeName: "without the ducks",
	Takes: true,
}

func loss(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	st, err := pair.On(ctx, b)
	if err != nil || st.Readout == nil {
		return stage.Unjudged(meter.None, err)
	}
	return st.Readout.BassLoss, nil
}

// hidden is how much of the kick the bass hides in the worst tenth of hits; of a bass that leads nothing is said.
func hidden(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	if b.Song.Leader == session.BassLeads {
		return meter.None, nil
	}
	_, after, err := pair.HiddenOn(ctx, b)
	if err != nil {
		return stage.Unjudged(meter.None, err)
	}
	return after.P90, nil
}

// lastResort is the depth from which a duck is heard, dB: it is not made unasked; own choice.
const lastResort = 9.0

// lossHeard is what such a duck takes off the low end on the whole, dB, from which it is one: a short one takes less. Own choice.
const lossHeard = 2.0

// waysOut are those where no usual duck does it.
const waysOut = "Ways out: a shorter bass, another kick, the bass leads, or this"

// planFit is the fit, where a clearance is asked that is not there; of nothing that was found it is a fit to a song that changed.
func planFit(ctx context.Context, b *bench.Bench, found []find.Finding) (stage.Planned, error) {
	p := stage.Planned{Found: found, Hand: true}
	if len(found) > 0 && b.Song.Fitted() {
		return p, nil
	}
	f, err := FitOn(Brief(ctx), b, SchoolOf(b.Song))
	if t := bench.Trouble(err); t != "" {
		p.Do = t
		return p, nil
	}
	if err != nil {
		return p, err
	}
	if d, off := b.Song.Duck(); f.Duck == nil || d != nil && !off && reflect.DeepEqual(d, f.Duck) { // it stands as it would be fitted
		p.Do = f.Reason
		return p, nil
	}
	e := FitEdit(f)
	p.Hand, p.Edit, p.Do = false, e, e.Said+", the least that does it"
	if !f.Reached {
		p.Do = e.Said + ", as far as it can be drawn"
	}
	p.Own = []find.Measure{{Figure: "p10", In: find.AtLeast(b.Song.Targets.Clearance - 0.05)}}
	if share, ok := pair.Asked(b.Song); ok {
		p.Own = []find.Measure{{Figure: "hidden", In: find.AtMost(share)}}
	}
	switch deep := -f.Duck.Depth(); {
	case !f.Reached:
		p.Taste = "it misses its own aim. " + waysOut
	case deep > lastResort && float64(f.Loss) > lossHeard:
		p.Taste = fmt.Sprintf("a duck of %.0f dB that takes %.1f dB off the bass is heard to pump. %s", deep, float64(f.Loss), waysOut)
	}
	for _, st := range b.Song.ByRole(session.Bass) {
		if a := b.Facts[st.Audio]; a != nil && a.Portrait != nil && a.Portrait.Ducked > 0 {
			p.Taste = fmt.Sprintf("%s is ducked in its file already, by about %.0f dB: better bounce it without", st.Name, a.Portrait.Ducked)
		}
	}
	if len(found) > 0 {
		p.Found = slices.Clone(found)
		p.Found[0].Why, p.Found[0].Values = f.Reason, e.Said
	}
	return p, nil
}
