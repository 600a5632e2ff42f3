package print

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// printLead is how much of what comes before the loop a limiter hears, s.
const printLead = 1.0

// premaster renders the loop as it comes to Print, with what comes before it.
func premaster(ctx context.Context, b *bench.Bench, solo mix.Solo) (x audio.Buffer, lead int, id string, err error) {
	lead = int(printLead * float64(b.Song.Rate))
	x, id, err = b.Renderer.Solo(mix.Passing(ctx), b.Song, solo, mix.Window{From: b.Loop.From - lead, To: b.Loop.To})
	return x, lead, id, err
}

// byHand is the premaster behind what was put into the chain of Print by hand, which is what a school works on.
func byHand(ctx context.Context, b *bench.Bench) (x audio.Buffer, lead int, id string, err error) {
	x, lead, id, err = premaster(ctx, b, mix.SoloAll)
	chain, _ := plainChain(b)
	if chain = chain.Without(session.OfSchool); err != nil || len(chain) == 0 {
		return x, lead, id, err
	}
	r, err := Run(chain, x, 0)
	return r.Sound, lead, mix.Key(id, chain), err
}

// loopHits are the kick's hits, frames of the loop.
func loopHits(b *bench.Bench) ([]int, error) {
	all, err := b.Renderer.Hits(b.Song, session.KickTrigger)
	if err != nil {
		return nil, err
	}
	var out []int
	for _, h := range all {
		if h >= b.Loop.From && h < b.Loop.To {
			out = append(out, h-b.Loop.From)
		}
	}
	return out, nil
}

// SolveOn finds the chain that brings the loop to what is asked; nil where it is silent.
func SolveOn(ctx context.Context, b *bench.Bench, asked session.Print) (*Solved, error) {
	x, lead, id, err := byHand(ctx, b)
	if err != nil {
		return nil, err
	}
	hits, err := loopHits(b)
	if err != nil {
		return nil, err
	}
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("solved", id, hits, asked, b.Song.Master.Fader), func() (*Solved, int, error) {
		mix.Doing(ctx, "Looking for the split that harms the attack least")
		s, err := Solve(ctx, x, lead, hits, asked, b.Song.Master.Fader)
		return s, 4096, err
	})
}

// CostsOn is what loudness costs by a school, from the premaster's own on.
func CostsOn(ctx context.Context, b *bench.Bench, asked session.Print) ([]Cost, error) {
	x, lead, id, err := byHand(ctx, b)
	if err != nil {
		return nil, err
	}
	hits, err := loopHits(b)
	if err != nil {
		return nil, err
	}
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("costs", id, hits, asked.School, asked.Ceiling), func() ([]Cost, int, error) {
		mix.Doing(ctx, "Finding what loudness costs")
		c, err := Curve(ctx, x, lead, hits, asked)
		return c, 2048, err
	})
}

// PrintedLoop is the loop behind the master chain of Print.
type PrintedLoop struct {
	Before, Now Figures
	Hits        []Hit
	Drive       float64
}

// plainChain is the song's chain of Print as it is before the master's fader, and what the fader gives taken into its
// ceilings: the premaster is rendered behind it.
func plainChain(b *bench.Bench) (chain move.Chain, drive float64) {
	for _, m := range b.Chain {
		if m.Off {
			continue
		}
		m.Params = move.Copy(m.Params)
		switch p := m.Params.(type) {
		case *move.Limit:
			p.Ceiling += b.Song.Master.Fader
			drive += p.Drive
		case *move.SoftClip:
			p.Threshold += b.Song.Master.Fader
		case *move.Compress:
			p.Threshold += b.Song.Master.Fader
		}
		chain = append(chain, m)
	}
	return chain, drive
}

// PrintedOn measures it.
func PrintedOn(ctx context.Context, b *bench.Bench) (*PrintedLoop, error) {
	x, lead, id, err := premaster(ctx, b, mix.SoloAll)
	if err != nil {
		return nil, err
	}
	hits, err := loopHits(b)
	if err != nil {
		return nil, err
	}
	chain, drive := plainChain(b)
	ceiling := b.Song.PrintRules().Ceiling
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("printed", id, hits, chain, ceiling), func() (*PrintedLoop, int, error) {
		plain, err := Run(nil, x, lead)
		if err != nil {
			return nil, 0, err
		}
		r, err := Run(chain, x, lead)
		if err != nil {
			return nil, 0, err
		}
		var low [2]audio.Buffer
		for i, solo := range []mix.Solo{mix.SoloKick, mix.SoloBass} {
			if low[i], _, _, err = premaster(ctx, b, solo); err != nil {
				return nil, 0, err
			}
		}
		out := &PrintedLoop{Before: plain.Measure(hits), Now: r.Measure(hits), Drive: drive}
		hz, err := b.KickHz()
		if err != nil {
			return nil, 0, err
		}
		if hz > 0 {
			out.Before.Clearance, out.Now.Clearance = Clearance(low, r, hits, lead, hz)
		}
		out.Hits = Hits(Pressed{x, lead, low, drive, ceiling}, r, hits)
		return out, 64 * (8 + len(out.Hits)), nil
	})
}

// FindingsOn is what is told of the loop behind the chain of Print; nothing where none is on.
func FindingsOn(ctx context.Context, b *bench.Bench) ([]find.Finding, error) {
	if chain, _ := plainChain(b); len(chain) == 0 {
		return nil, nil
	}
	p, err := PrintedOn(ctx, b)
	if err != nil {
		return nil, err
	}
	return Findings(p.Before, p.Now, b.Song.PrintRules().Ceiling), nil
}

// WhoOn says who made the limiters of Print work; nil where none is on.
func WhoOn(ctx context.Context, b *bench.Bench) (*Work, []*session.Stem, error) {
	chain, _ := plainChain(b)
	if len(chain) == 0 {
		return nil, nil, nil
	}
	x, lead, id, err := premaster(ctx, b, mix.SoloAll)
	if err != nil {
		return nil, nil, err
	}
	var stems []*session.Stem
	var parts []StemSound
	if err := b.Alone(ctx, mix.Window{From: b.Loop.From - lead, To: b.Loop.To}, func(st *session.Stem, _ string, y audio.Buffer) error {
		stems, parts = append(stems, st), append(parts, StemSound{ID: st.ID, Name: st.Name, Sound: y})
		return nil
	}); err != nil {
		return nil, nil, err
	}
	w, err := mix.Cached(ctx, b.Renderer.Cache, mix.Key("who", id, chain), func() (*Work, int, error) {
		mix.Doing(ctx, "Leaving out one stem after the other")
		w, err := Who(ctx, x, parts, chain, lead)
		return w, 4096, err
	})
	return w, stems, err
}
