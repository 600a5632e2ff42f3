package bench

import (
	"context"
	"fmt"

	"mellowthump/core/duck"
	"mellowthump/core/figure"
	"mellowthump/core/levels"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Fit finds the least duck of a school over the whole song, so that it holds everywhere; where the bass leads, the kick's own
// curve. Its duck is nil where none is needed or none helps. The error is that of Pair where kick and bass cannot be judged.
func (b *Bench) Fit(ctx context.Context, school string) (duck.Fitted, error) {
	n, err := b.Renderer.PairLength(b.Song)
	if err != nil {
		return duck.Fitted{}, err
	}
	w := mix.Window{To: n}
	var f duck.Fitted
	if b.Song.Leader == session.BassLeads {
		f, err = duck.FitSongLead(ctx, b.Renderer, b.Song, w, b.Line())
	} else {
		f, err = duck.FitSchool(ctx, b.Renderer, b.Song, w, school)
	}
	if err != nil || f.Duck == nil {
		return f, err
	}
	d := *f.Duck
	d.Trigger = b.Song.DuckTrigger()
	f.Duck = &d
	if says := b.Song.SaysRests(); says != "" && !d.Keyed() { // it is fitted as if it went as deep wherever it does not rest
		f.Reason += " By section it " + says + "."
	}
	return f, nil
}

// FitEdit is the edit that a fit comes to.
func FitEdit(f duck.Fitted) session.SetDuck {
	if f.Duck == nil {
		return session.SetDuck{Said: "Fit: " + f.Reason}
	}
	return session.SetDuck{Duck: f.Duck, Why: f.Reason, Said: fitSaid(f.Duck), Fit: true}
}

// fitSaid says what a fit came to.
func fitSaid(d *move.Duck) string {
	switch d.School {
	case move.CompressorSchool:
		return fmt.Sprintf("Fit a keyed compressor, threshold %s dB", figure.Signed(d.Comp.Threshold, 1))
	case move.BandSchool:
		return fmt.Sprintf("Fit a keyed band dip of %s dB", figure.Signed(d.Band.Range, 1))
	}
	return fmt.Sprintf("Fit a duck of %s dB", figure.Signed(d.Depth(), 1))
}

// School is the school of the song's duck, a drawn curve where it has none.
func School(song *session.Song) string {
	if d, _ := song.Duck(); d != nil {
		return d.School
	}
	return move.CurveSchool
}

// Plan solves the levels over the whole song from the kick's peak.
func (b *Bench) Plan(ctx context.Context) (*levels.Plan, error) {
	return levels.Solve(ctx, b.Renderer, b.Song, b.Whole(), levels.Options{Anchor: levels.KickPeak})
}
