package duck

import (
	"context"
	"fmt"

	"mellowthump/core/bench"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// Findings is what is told about the song's own duck over the loop. The error is that of Pair where kick and bass cannot be
// judged.
func Findings(ctx context.Context, b *bench.Bench) ([]find.Finding, error) {
	st, err := pair.On(ctx, b)
	if err != nil {
		return nil, err
	}
	target := b.Song.Targets.Clearance
	if share, ok := pair.Asked(b.Song); ok {
		says, met, err := hides(ctx, b, share)
		out := Judge(st, st.After.ClearanceP10, met, target, b.Song.Fitted())
		for i := range out {
			if out[i].ID == "worst-tenth" {
				out[i].What = says
			}
		}
		return out, err
	}
	return Judge(st, st.WorstTenth(b.Song.Leader), st.Met(b.Song.Leader, target), target, b.Song.Fitted()), nil
}

// FitOn finds the least duck of a school over the whole song, so that it holds everywhere; where the bass leads, the kick's own
// curve. Its duck is nil where none is needed or none helps. The error is that of Pair where kick and bass cannot be judged.
func FitOn(ctx context.Context, b *bench.Bench, school string) (Fitted, error) {
	n, err := b.Renderer.PairLength(b.Song)
	if err != nil {
		return Fitted{}, err
	}
	w := mix.Window{To: n}
	var f Fitted
	if b.Song.Leader == session.BassLeads {
		f, err = FitSongLead(ctx, b.Renderer, b.Song, w, b.Line())
	} else {
		f, err = FitSchool(ctx, b.Renderer, b.Song, w, school)
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
func FitEdit(f Fitted) session.SetDuck {
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

// SchoolOf is the school of the song's duck, a drawn curve where it has none.
func SchoolOf(song *session.Song) string {
	if d, _ := song.Duck(); d != nil {
		return d.School
	}
	return move.CurveSchool
}
