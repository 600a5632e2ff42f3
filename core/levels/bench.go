package levels

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// Findings is what is told about the levels over a window.
func Findings(ctx context.Context, b *bench.Bench, w mix.Window) ([]find.Finding, error) {
	if len(b.Song.Stems) == 0 {
		return nil, nil
	}
	l, err := LedgerOn(ctx, b, w)
	if err != nil {
		return nil, err
	}
	out := Judge(l, Sounds(b), func(frame int) string {
		return b.Song.Position(float64(frame) / float64(b.Song.Rate))
	})
	if len(b.Song.ByRole(session.Kick)) == 0 {
		for i := range out {
			if out[i].Kind() == "window" {
				out[i].Taste = "no stem is the kick, by which levels are set"
			}
		}
	}
	return out, nil
}

// LedgerOn measures the levels over a window.
func LedgerOn(ctx context.Context, b *bench.Bench, w mix.Window) (*Ledger, error) {
	type key struct{ mix.Window }
	return bench.Keep(ctx, b, key{w}, func() (*Ledger, error) { return Measure(ctx, b.Renderer, b.Song, w) })
}

// Sounds is what the files sound like, as far as it bears on levels.
func Sounds(b *bench.Bench) map[string]Sound {
	out := map[string]Sound{}
	for sha, a := range b.Facts {
		if a.Portrait != nil {
			out[sha] = Sound{Spectrum: a.Portrait.Spectrum, Sustain: a.Portrait.Sustain}
		}
	}
	return out
}

// PlanOn solves the levels over the whole song from the kick's peak. A bass that does not leave the kick the clearance asked is not
// raised against it.
func PlanOn(ctx context.Context, b *bench.Bench) (*Plan, error) {
	o := Options{Anchor: KickPeak}
	if b.Song.Leader == session.KickLeads {
		st, err := pair.On(ctx, b)
		if err != nil && bench.Trouble(err) == "" {
			return nil, err
		}
		if err == nil {
			p10 := st.WorstTenth(b.Song.Leader)
			o.HoldBass = p10.Valid() && float64(p10) < b.Song.Targets.Clearance
			if share, ok := pair.Asked(b.Song); ok {
				_, h, err := pair.HiddenOn(ctx, b)
				if err != nil {
					return nil, err
				}
				o.HoldBass = !h.Within(share)
			}
		}
	}
	return Solve(ctx, b.Renderer, b.Song, b.Whole(), o)
}
