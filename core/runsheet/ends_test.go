package runsheet

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"testing"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/core/stage"
	"mellowthump/core/stages"
	"mellowthump/internal/outside"
)

// counting puts a judge in the place of each stage's, and ends the test where it is asked more than so often.
func counting(t *testing.T, most int, judge func(stage string, ctx context.Context, b *bench.Bench) ([]find.Finding, error)) (asked func() int) {
	t.Helper()
	was := stages.All
	t.Cleanup(func() { stages.All = was })
	stages.All = slices.Clone(was)
	var n atomic.Int64
	for i, s := range was {
		counted := *s
		counted.Judge = func(ctx context.Context, b *bench.Bench, _ mix.Window) ([]find.Finding, error) {
			if n := n.Add(1); n > int64(most) {
				return nil, fmt.Errorf("judged %d times", n)
			}
			return judge(s.Key, ctx, b)
		}
		stages.All[i] = &counted
	}
	return func() int { return int(n.Load()) }
}

// small is a beat of two bars.
func small(seed uint64) beat {
	b := beats[seed%uint64(len(beats))]
	b.bars, b.seed = 2, seed
	return b
}

// mostJudged is how often stages may be judged for one sheet: each once, three of them three times more; Pocket's layers
// with Intake; Levels once more at the end; two ahead for each row that is kept.
var mostJudged = len(stages.All) + 3*mostAnew + 2 + 2*8

// Whatever the stages find, anew each time, the sheet ends.
func TestEndsWhateverIsFound(t *testing.T) {
	outside.Slow(t)
	d := small(1).song(nil)
	d.Stems = d.Stems[2:] // without kick and bass every measurement is short
	r, song, facts := brought(t, d)
	for seed := range uint64(20) {
		rng := rand.New(rand.NewPCG(seed, 28))
		var mu sync.Mutex // what comes next is judged ahead
		asked := counting(t, mostJudged, func(stage string, _ context.Context, b *bench.Bench) (out []find.Finding, err error) {
			mu.Lock()
			defer mu.Unlock()
			for range 1 + rng.IntN(4) {
				st := b.Song.Stems[rng.IntN(len(b.Song.Stems))]
				kind := []string{"window", "near-the-kick", "over-line", "lost-trigger", "boost-before"}[rng.IntN(5)]
				f := find.Finding{ID: find.ID(kind, st.ID), What: "made up", Do: "turn it"}
				if rng.IntN(4) > 0 { // the last changes nothing
					f.Fix = []session.Edit{session.Gain{At: session.At{Stem: st.ID}, Step: session.ClipStep, DB: []float64{-3, 1.5, 0}[rng.IntN(3)]}}
				}
				out = append(out, f)
			}
			return out, nil
		})
		sheet, err := Make(t.Context(), r, song, facts, Choice{}, nil)
		if err != nil {
			t.Fatalf("seed %d: %v", seed, err)
		}
		if asked() < len(stages.All) || len(sheet.Rows) == 0 {
			t.Errorf("seed %d: judged %d times, %d rows", seed, asked(), len(sheet.Rows))
		}
	}
}

// A row that is kept, judged anew and found again does not bring the walk back to it: this was a sheet without an end.
func TestEndsWhereARowStays(t *testing.T) {
	d := small(1).song(nil)
	d.Stems = d.Stems[2:]
	r, song, facts := brought(t, d)
	stays := find.Finding{
		ID:   "boost-before.snare",
		What: "it stays",
		Fix:  []session.Edit{session.Gain{At: session.At{Stem: "snare"}, Step: session.ClipStep, DB: -3}},
	}
	asked := counting(t, mostJudged, func(stage string, _ context.Context, b *bench.Bench) ([]find.Finding, error) {
		if stage == "pocket" {
			return []find.Finding{stays}, nil
		}
		return nil, nil
	})
	sheet, err := Make(t.Context(), r, song, facts, Choice{On: []string{"pocket/boost-before.snare"}}, nil)
	if err != nil || len(sheet.Rows) == 0 || len(sheet.Rows) > 2 || !sheet.Rows[0].Kept {
		t.Errorf("judged %d times: %v", asked(), err)
	}
}

// On made songs with and without kick, bass and hits, with faults on top of each other, every sheet ends after as many
// judgements as it may take. One of each here, more where MELLOWTHUMP_SEEDS asks for them (make long).
func TestEnds(t *testing.T) {
	outside.Slow(t)
	real := slices.Clone(stages.All)
	seeds, _ := strconv.ParseUint(os.Getenv("MELLOWTHUMP_SEEDS"), 10, 32)
	for seed := range max(4, seeds) {
		rng := rand.New(rand.NewPCG(seed, 29))
		b := small(seed)
		d := b.song(nil)
		for range 1 + rng.IntN(3) {
			f := faults[rng.IntN(len(faults))]
			own := beats[f.beat]
			own.bars = b.bars
			e := own.song(nil)
			f.plant(own, &e)
			d.Stems = append(d.Stems, e.Stems[rng.IntN(len(e.Stems))])
		}
		for i := range d.Stems {
			s := &d.Stems[i]
			s.Stem.ID = fmt.Sprintf("s%d", i)
			if rng.IntN(3) == 0 {
				peaking(s.Sound, -20+24*rng.Float64())
			}
			switch drop := seed % 4; {
			case drop == 1 && s.Stem.Role == session.Kick, drop == 2 && s.Stem.Role == session.Bass:
				s.Stem.Role = session.Melodic
			case drop == 3 && s.Stem.Role == session.Kick: // no hits
				for _, ch := range s.Sound.Ch {
					clear(ch)
				}
			}
		}
		d.Song.Buses = nil
		for i := range d.Stems {
			d.Stems[i].Stem.Bus = ""
		}
		r, song, facts := brought(t, d)
		asked := counting(t, mostJudged, func(of string, ctx context.Context, b *bench.Bench) ([]find.Finding, error) {
			i := slices.IndexFunc(real, func(s *stage.Stage) bool { return s.Key == of })
			return real[i].Judge(ctx, b, b.Whole())
		})
		if _, err := Make(mix.Watched(t.Context(), &mix.Work{}), r, song, facts, Choice{}, nil); err != nil {
			t.Errorf("seed %d, judged %d times: %v", seed, asked(), err)
		}
	}
}
