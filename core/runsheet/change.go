package runsheet

import (
	"context"
	"fmt"
	"math"
	"runtime"
	"strings"

	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Change is a figure before and after a change.
type Change struct {
	figure.Figure
	Name          string // of what it is here
	Before, After meter.Figure
	Bracket       find.Bracket // that is asked of it
}

// Said shows a figure's value as it is shown everywhere.
func (c Change) Said(f meter.Figure) string {
	if !f.Valid() {
		return "–"
	}
	return figure.Signed(float64(f), c.Decimals)
}

// Short is the unit where it says anything beside a number.
func (c Change) Short() string {
	if strings.Contains(c.Unit, " to ") {
		return ""
	}
	return c.Unit
}

// Asked reports whether anything is asked of it.
func (c Change) Asked() bool { return !math.IsInf(c.Bracket.Lo, 0) || !math.IsInf(c.Bracket.Hi, 0) }

// Moved reports whether the two differ as they are shown.
func (c Change) Moved() bool { return c.Said(c.Before) != c.Said(c.After) }

// Nearer is by how much the figure came nearer to what is asked of it; under 0 it is further off.
func (c Change) Nearer() float64 {
	if !c.Before.Valid() || !c.After.Valid() {
		return 0
	}
	switch {
	case math.IsInf(c.Bracket.Lo, 1): // the more the better
		return float64(c.After - c.Before)
	case math.IsInf(c.Bracket.Hi, -1): // the less
		return float64(c.Before - c.After)
	}
	return c.Bracket.Off(c.Before) - c.Bracket.Off(c.After)
}

// step is the least that is shown of a figure.
func (c Change) step() float64 {
	s := 1.0
	for range c.Decimals {
		s /= 10
	}
	return s
}

// Worse reports whether the figure is further off than before, as it is shown.
func (c Change) Worse() bool { return c.Nearer() < -c.step()/2 }

// Better reports whether it is nearer, as it is shown.
func (c Change) Better() bool { return c.Nearer() > c.step()/2 }

// In reports whether it is where it is asked to be.
func (c Change) In() bool { return c.Bracket.Off(c.After) == 0 }

// String says it in a line: "worst tenth −2.1 → 8.0 dB".
func (c Change) String() string {
	return strings.TrimSpace(fmt.Sprintf("%s %s → %s %s", c.Name, c.Said(c.Before), c.Said(c.After), c.Short()))
}

// changed takes a figure before and after.
func changed(ctx context.Context, was, now *state, m find.Measure) (Change, error) {
	c := Change{Figure: figure.Of(m.Figure), Name: called(m), Bracket: m.In}
	var err error
	if c.Before, err = was.take(ctx, m); err == nil {
		c.After, err = now.take(ctx, m)
	}
	return c, err
}

// changes takes some, beside each other.
func changes(ctx context.Context, was, now *state, all []find.Measure) ([]Change, error) {
	out := make([]Change, len(all))
	var g group.Group // with no context of its own: what the bench keeps is read again later, and must not end with this
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, m := range all {
		g.Go(func() (err error) { out[i], err = changed(ctx, was, now, m); return err })
	}
	return out, g.Wait()
}

// Figures are those at the end of the sheet, of a song as it is: both sides of each are the same.
func Figures(ctx context.Context, r *mix.Renderer, song *session.Song, known map[string]*facts.Analysis) ([]Change, error) {
	w := &walk{renderer: r, known: known}
	s := w.put(song)
	return changes(ctx, s, s, won(s.Bench))
}
