package intake

import (
	"context"
	"fmt"
	"math"

	"mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// What stands lower than anything that a part plays takes headroom and moves cones, and nobody hears it. Bounds: common practice, no
// published source; clean sampled kicks and basses have 18 dB and more between the two, what is played over 80 Hz 25 and more.
const (
	lowestOf    = 0.75 // of the lowest own tone: what is under that is none of it
	lowPartFrom = 30.0 // Hz, of a kick, a bass and what may hold one, at the most
	partFrom    = 42.0 // Hz, of all others
	rumbleLow   = -14.0
	rumbleElse  = -20.0 // dB over the rest, from which it is told
	noteLeast   = 27.0  // Hz: lower is no note
	noteOften   = 0.1   // of the time of all notes: what is rarer is a misreading
	cutOver     = 1.4   // times the rumble: a corner there takes it away
	cutFar      = 2.0   // where the part has no low tone that it could take
	cutUnder    = 0.85  // of the lowest own tone: a corner there leaves it, within 0.4 dB
	cutTop      = 60.0  // Hz, of a part that has no low tone
	cutSteep    = 2.2   // the rumble is as close under the corner as that: the cut is steeper
)

// Rumble is what stands under a part.
type Rumble struct {
	DB     meter.Figure // over all the rest of it
	Hz     float64      // where it is strongest
	Edge   float64      // Hz: under that it is none of the part
	Limit  float64      // dB, from which it is told
	Corner float64      // Hz, of the cut that takes it away
	Slope  int          // dB per octave
}

// rumbleOf looks for what stands under a part of a role; ok is false where nothing is to be told.
func rumbleOf(role session.Role, a *facts.Analysis) (r Rumble, ok bool) {
	if a.Portrait == nil || len(a.Portrait.Lows) == 0 {
		return r, false
	}
	own := 0.0 // its lowest tone, Hz
	r.Edge, r.Limit = partFrom, rumbleElse
	switch role {
	case session.Kick:
		if a.Kick != nil {
			own = a.Kick.Hz
		}
		r.Edge, r.Limit = lowPartFrom, rumbleLow
	case session.Bass:
		own = lowestNote(a.Portrait.Line)
		r.Edge, r.Limit = lowPartFrom, rumbleLow
	case session.Drums, session.Perc, session.Other: // there may be a kick in it
		r.Edge, r.Limit = lowPartFrom, rumbleLow
	case session.Melodic:
		own = lowestNote(a.Portrait.Line)
	}
	if own >= noteLeast {
		r.Edge = math.Min(r.Edge, lowestOf*own)
	}
	if r.DB, r.Hz = meter.UnderDB(a.Portrait.Lows, r.Edge); !r.DB.Valid() || float64(r.DB) < r.Limit {
		return r, false
	}
	over := cutFar
	if r.Limit == rumbleLow || own >= noteLeast {
		over = cutOver
	}
	r.Corner = math.Max(r.Edge, over*r.Hz)
	if own >= noteLeast {
		r.Corner = math.Min(r.Corner, cutUnder*own)
	}
	r.Corner = math.Round(math.Min(r.Corner, cutTop))
	r.Slope = 24
	if r.Hz*cutSteep > r.Corner {
		r.Slope = 48
	}
	return r, true
}

// lowestNote is the lowest of a line's notes that is played for some of the time, Hz; 0 where there is none.
func lowestNote(line []meter.BassNote) float64 {
	all, of := 0.0, map[string]float64{}
	for _, n := range line {
		if n.Hz >= noteLeast {
			all, of[n.Note] = all+n.End-n.Start, of[n.Note]+n.End-n.Start
		}
	}
	lowest := 0.0
	for _, n := range line {
		if n.Hz >= noteLeast && of[n.Note] >= noteOften*all && (lowest == 0 || n.Hz < lowest) {
			lowest = n.Hz
		}
	}
	return lowest
}

// finding tells it of a stem.
func (r Rumble) finding(st *session.Stem) find.Finding {
	by := "under"
	if r.DB > 0 {
		by = "over"
	}
	hz, corner := figure.Short(r.Hz), figure.Short(r.Corner)
	return find.Finding{
		ID: "rumble", What: fmt.Sprintf("rumbles at %s Hz: %s dB %s all the rest of it", hz, figure.Short(math.Abs(float64(r.DB))), by),
		Why: fmt.Sprintf("Nothing of it plays under %s Hz, so nobody hears it; it takes the headroom of what they do, and moves the cones.", figure.Short(r.Edge)),
		Do:  fmt.Sprintf("High-pass %s at %s Hz, %d dB per octave", st.Name, corner, r.Slope), Apply: "Cut it",
		Values: fmt.Sprintf("%s: high-pass at %s Hz, %d dB per octave", st.Name, corner, r.Slope),
		Fix: []session.Edit{session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{
			ID: session.IntakeRumble, Why: fmt.Sprintf("it rumbled at %s Hz", hz), Params: &move.Filter{Shape: "highpass", Hz: r.Corner, Slope: r.Slope},
		}}},
		Own: []find.Measure{{Figure: "rumble", Of: st.ID, Hz: r.Edge, In: find.AtMost(r.Limit)}},
	}
}

// rumble takes the figure of a stem behind its chain over the loop: what lies under a frequency over all the rest.
func rumble(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	st := b.Song.Stem(m.Of)
	if st == nil {
		return meter.None, nil
	}
	x, key, err := b.Renderer.Stem(mix.Passing(ctx), b.Song, st, b.Loop)
	if err != nil {
		return meter.None, err
	}
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("rumble", key, m.Hz), func() (meter.Figure, int, error) {
		mono := x.Mono()
		low, fs := meter.Low(mono, x.Rate)
		db, _ := meter.UnderDB(meter.LowShares(low, fs, meter.Energy(mono)/float64(max(1, len(mono)))), m.Hz)
		return db, 8, nil
	})
}
