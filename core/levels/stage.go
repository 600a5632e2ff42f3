package levels

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Stage is the stage Levels.
var Stage = stage.Stage{
	Key: stage.Levels, Name: "Levels", Question: "How loud is each thing at each step?",
	Help: []string{
		"Every part at every step, from the source to the premaster, as it measures in a real render. The bracket is where such a part usually peaks; the tick " +
			"is where it does.",
		"First: the plan. It sets the kick, then all else about it, at the first step that is free. A fader that is automated elsewhere is locked, and trimmed " +
			"one step earlier.",
	},
	Judge: Findings,
	Figures: map[string]stage.Figure{
		"premaster":  {Name: "premaster", Take: premaster, Local: true},
		"headroom":   {Name: "headroom", Take: headroom},
		"equalpeak":  {Name: "loudness at equal peak", Take: equalPeak},
		"offwindow":  {Name: "furthest off", Take: offWindow, Local: true},
		"songpeak":   {Name: "premaster, all of it", Take: songPeak, Local: true},
		"overothers": {Name: "over the others", Take: overOthers, Local: true},
	},
	Plans:  map[find.Group]stage.Plan{find.Plan: planTrims},
	Before: session.Song.Untrimmed, BeforeName: "before any gain",
	Anew: true, Early: true, Loud: true,
}

func premaster(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	l, err := b.Loudness(ctx, mix.SoloAll)
	return l.Peak, err
}

func headroom(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	f, err := premaster(ctx, b, m)
	return -f, err
}

func equalPeak(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	l, err := b.Loudness(ctx, mix.SoloAll)
	if err != nil || !l.Peak.Valid() || !l.Integrated.Valid() {
		return meter.None, err
	}
	return l.Integrated - l.Peak, nil
}

// offWindow is of all parts but those that a measure is by, ids with spaces between.
func offWindow(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	l, err := LedgerOn(ctx, b, b.Whole())
	if err != nil {
		return meter.None, err
	}
	return meter.Figure(l.Furthest(strings.Fields(m.By)...)), nil
}

func songPeak(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	l, err := LedgerOn(ctx, b, b.Whole())
	if err != nil {
		return meter.None, err
	}
	return l.Master.Out.Peak, nil
}

func overOthers(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	l, err := LedgerOn(ctx, b, b.Whole())
	if err != nil {
		return meter.None, err
	}
	return l.Over(Sounds(b), m.Of), nil
}

// By how much a part may be raised, or moved, against what its song's parts are raised by in the median, dB; common practice, no
// published source.
const (
	muchRaised  = 12.0  // where noise between its sounds comes with it
	quietRaised = 24.0  // where none does
	mostRaised  = 30.0  // whatever the others are
	noiseTell   = -60.0 // dBFS: noise that comes to that is heard
	noiseSpread = 3.0   // dB from the quietest twentieth of its time to the quietest fifth: more is a tail
	mostGuessed = 6.0   // for a drum of which its sound alone says which it is: a tom is not set like a snare
)

// doubtful says why a part is not set by itself, where it is raised by some dB, and others by as much as is usual; empty where
// nothing speaks against it.
func doubtful(b *bench.Bench, c Change, usual float64) string {
	by := c.To - c.From
	raised := fmt.Sprintf("it raises %s by %s dB", c.Name, figure.Short(by))
	st := b.Song.Stem(c.Stem)
	if by-usual >= quietRaised || by >= mostRaised {
		return raised + ", which is nearly silent"
	}
	if st == nil || b.Facts[st.Audio] == nil {
		return ""
	}
	if p := b.Facts[st.Audio].Portrait; by-usual >= muchRaised && p != nil && p.Floor.Valid() &&
		float64(p.FloorSpread) < noiseSpread && float64(p.Floor)+by > noiseTell {
		return raised + ", and its noise with it"
	}
	if st.Role.Struck() && !st.Said && facts.GuessRole(st.Name) == session.Other && math.Abs(by-usual) > mostGuessed {
		return "by its sound alone it is taken for what it is set like"
	}
	return ""
}

// planTrims is the plan of the trims, from the kick's peak.
func planTrims(ctx context.Context, b *bench.Bench, found []find.Finding) (stage.Planned, error) {
	p := stage.Planned{Found: found}
	solved, err := PlanOn(ctx, b)
	if errors.Is(err, ErrNothing) || errors.Is(err, ErrNoKick) {
		p.Singly = true
		return p, nil
	}
	if err != nil {
		return p, err
	}
	kept := leftThere(&p, b.Song, solved.Held)
	left, but, first := []string(nil), slices.Clone(solved.Held), ""
	if len(solved.Changes) == 0 {
		p.Hand, p.Do = true, strings.Join(solved.Blocked, ". ")
		return p, nil
	}
	plan := *solved
	plan.Changes = nil
	usual := usualRaise(b.Song, solved.Changes)
	for _, c := range solved.Changes {
		doubt := doubtful(b, c, usual)
		if doubt == "" {
			plan.Changes = append(plan.Changes, c)
			continue
		}
		left, but, first = append(left, c.Name), append(but, c.Stem), cmp.Or(first, doubt)
		var of []find.Finding
		p.Found, of = parted(p.Found, c.Stem)
		for _, f := range of {
			f.Taste = doubt
			p.Rest = append(p.Rest, f)
		}
	}
	if len(left) > 0 && (len(plan.Changes) == 0 || len(p.Found) == 0) { // there is nothing else to set
		plan, left, but, p.Found, p.Rest = *solved, nil, solved.Held, found, nil
		p.Taste = first
	}
	r := b.Song.LevelRules()
	p.Do, p.Edit = fmt.Sprintf("Set %s, from the kick’s peak", figure.Count(len(plan.Changes), "trim")), plan.Edit()
	if len(left) > 0 {
		p.Do += "; not " + figure.List(left, "and") + ", as said there"
	}
	if len(kept) > 0 {
		p.Do += "; " + figure.List(kept, "and") + " as far under the kick as now, which it would bury"
	}
	peak := find.Measure{Figure: "songpeak", In: find.Bracket{Lo: r.Premaster - 0.15, Hi: r.Limit + 0.05}}
	furthest := Furthest
	furthest.By = strings.Join(but, " ") // what is left out stays where it is
	p.Own = []find.Measure{furthest, peak}
	return p, nil
}

// usualRaise is by how much the parts of a song are raised in the median, dB; 0 where they are lowered.
func usualRaise(song *session.Song, changes []Change) float64 {
	by := make([]meter.Figure, len(song.Stems))
	n := 0
	for _, c := range changes {
		if song.Stem(c.Stem) != nil && n < len(by) {
			by[n] = meter.Figure(c.To - c.From)
			n++
		}
	}
	return math.Max(0, float64(meter.Median(by)))
}

// leftThere lets what is told of basses that are not raised say so, and returns their names.
func leftThere(p *stage.Planned, song *session.Song, held []string) (names []string) {
	for _, id := range held {
		var of []find.Finding
		p.Found, of = parted(p.Found, id)
		for _, f := range of {
			f.Fix, f.Values = nil, ""
			f.Do = "Leave it there: nearer to its window it would bury the kick. Ways out: a shorter bass, another kick, a duck, or let the bass lead"
			p.Rest = append(p.Rest, f)
		}
		names = append(names, song.Stem(id).Name)
	}
	return names
}

// parted takes the findings about a stem out of some.
func parted(all []find.Finding, stem string) (others, of []find.Finding) {
	for _, f := range all {
		if stem != "" && strings.HasSuffix(f.ID, "."+stem) {
			of = append(of, f)
		} else {
			others = append(others, f)
		}
	}
	return others, of
}
