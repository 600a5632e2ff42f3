package body

import (
	"context"
	"fmt"
	"math"
	"runtime"
	"slices"

	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	ownMost     = 6.0  // dB of an own gain
	ownStep     = 0.05 // of the share
	attackLong  = 30.0 // ms of a compressor: the attack of a hit goes through
	releaseGap  = 0.8  // of the median gap
	releaseLow  = 40.0
	releaseHigh = 400.0
	kneeSteady  = 6.0
	deepest     = 30.0 // dB of a threshold under the loudest sample
)

// steadyRatios are the ratios of a compressor that are tried.
var steadyRatios = [...]float64{2, 3, 4, 8}

// Jumps is by how much an item of a part other than kick and bass has to stand over its median to jump out, dB.
const Jumps = 6.0

// School is a way to even a part out.
type School string

// The schools.
const (
	Own        School = "own"
	Compressor School = "compressor"
)

// Schools lists them with the words for them.
var Schools = []struct {
	School School
	Label  string
}{{Own, "Own gains"}, {Compressor, "Compressor"}}

// Steadied is a part evened out by a school.
type Steadied struct {
	Part    Part
	School  School
	Move    move.Params
	After   *Weights // measured on a render
	Reached bool
	Share   float64 // of own gains: by which each is brought toward the median
	Most    float64 // dB, of the largest own gain; of what a compressor takes of a hit
	Mean    float64 // likewise, the mean of their sizes
	Lost    float64 // dB of the median weight that a compressor takes
	Gap     float64 // ms, the median between the starts
}

// steadyMove is the id of what evens a stem out.
const steadyMove = session.BodySteady

// Edit puts it on every stem of the part.
func (s *Steadied) Edit(song *session.Song) session.Edit {
	out := session.Together{Said: "Even out " + s.Part.Name + ": " + move.Words(s.Move)}
	for _, st := range s.Part.Stems(song) {
		out.Edits = append(
			out.Edits,
			session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: steadyMove, Params: s.Move, Why: "so that all weigh the same"}},
		)
	}
	return out
}

// with is the song with the part evened out by a move.
func with(song *session.Song, p Part, m move.Params) *session.Song {
	c := song.Clone()
	for _, st := range p.Stems(&c) {
		st.SetMove(move.Move{ID: steadyMove, Params: m})
	}
	return &c
}

// gap is the median time between the starts of the items, s.
func (w *Weights) gap() float64 {
	var all []meter.Figure
	for i := 1; i < len(w.Items); i++ {
		all = append(all, meter.Figure(w.Items[i].At-w.Items[i-1].At))
	}
	if g := meter.Median(all); g.Valid() {
		return float64(g)
	}
	return 0.5
}

// gains are the own gains that bring every item toward the median by a share, at most 6 dB.
func (w *Weights) gains(share float64) *move.Gains {
	g := &move.Gains{}
	for _, it := range w.Items {
		db := share * float64(w.Median-it.Weight)
		g.Steps = append(g.Steps, move.GainStep{At: it.At, DB: figure.Tenth(math.Max(-ownMost, math.Min(ownMost, db)))})
	}
	return g
}

// evened is the spread that own gains leave.
func (w *Weights) evened(g *move.Gains) meter.Figure {
	n := *w
	n.Items = slices.Clone(w.Items)
	for i := range n.Items {
		n.Items[i].Weight += meter.Figure(g.Steps[i].DB)
	}
	n.sum()
	return n.Spread
}

// ByOwnGains finds the least share by which the own gains of the whole song bring the spread to a target; where none does, the
// whole. w are the weights over the whole song, in the song without what evens it out.
func ByOwnGains(
	ctx context.Context,
	r *mix.Renderer,
	song *session.Song,
	w *Weights,
	line []meter.BassNote,
	loop mix.Window,
	target float64,
) (*Steadied, error) {
	out := &Steadied{Part: w.Part, School: Own, Share: 1, Gap: 1000 * w.gap()}
	g := w.gains(1)
	for share := ownStep; share < 1; share += ownStep {
		if t := w.gains(share); float64(w.evened(t)) <= target {
			g, out.Share = t, share
			break
		}
	}
	out.Move = g
	for _, s := range g.Steps {
		out.Most = math.Max(out.Most, math.Abs(s.DB))
		out.Mean += math.Abs(s.DB) / float64(len(g.Steps))
	}
	var err error
	out.After, err = Weigh(ctx, r, with(song, w.Part, g), w.Part, line, loop)
	if err == nil {
		out.Reached = float64(w.evened(g)) <= target+0.05
	}
	return out, err
}

// Even says how even a part is to be: over a loop, by the notes of the bass, its spread in dB; a compressor gives the low end back
// with a bell at a frequency, Hz.
type Even struct {
	Line           []meter.BassNote
	Loop           mix.Window
	Target, BackHz float64
}

// ByCompressor finds the compressor that reaches a target with the least reduction, of four ratios; where none does, the one that
// comes nearest. w are the weights over a window in the song without what evens it out.
// Long because what is tried and what is better share what was found.
func ByCompressor(ctx context.Context, r *mix.Renderer, song *session.Song, w *Weights, by Even) (*Steadied, error) {
	line, loop, target, hz := by.Line, by.Loop, by.Target, by.BackHz
	peak, err := peakOf(ctx, r, song, w.Part, loop)
	if err != nil || !peak.Valid() {
		return nil, err
	}
	gap := 1000 * w.gap()
	try := func(ratio, under float64) (*Steadied, error) {
		m := &move.Compress{
			Threshold: math.Round(float64(peak) - under), Ratio: ratio, Knee: kneeSteady, Attack: attackLong,
			Release: math.Round(math.Max(releaseLow, math.Min(releaseHigh, releaseGap*gap))), BackHz: 50,
		}
		s := &Steadied{Part: w.Part, School: Compressor, Move: m, Gap: gap}
		var err error
		if s.After, err = Weigh(ctx, r, with(song, w.Part, m), w.Part, line, loop); err != nil {
			return nil, err
		}
		for i, it := range s.After.Items {
			if i < len(w.Items) && w.Items[i].At == it.At {
				by := float64(w.Items[i].Weight - it.Weight)
				s.Most, s.Mean = math.Max(s.Most, by), s.Mean+by/float64(len(w.Items))
			}
		}
		s.Lost = float64(w.Median - s.After.Median)
		s.Reached = s.After.Spread.Valid() && float64(s.After.Spread) <= target
		return s, nil
	}
	better := func(s, best *Steadied) bool {
		switch {
		case best == nil:
			return true
		case s.Reached != best.Reached:
			return s.Reached
		case s.Reached:
			return s.Mean < best.Mean
		}
		return s.After.Spread < best.After.Spread
	}
	var each [len(steadyRatios)]*Steadied
	var g group.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for k, ratio := range steadyRatios {
		g.Go(func() error {
			lo, hi := 0.0, deepest
			for hi-lo > 1.5 { // the deeper, the more even
				mid := (lo + hi) / 2
				s, err := try(ratio, mid)
				if err != nil {
					return err
				}
				if better(s, each[k]) {
					each[k] = s
				}
				if s.Reached {
					hi = mid
				} else {
					lo = mid
				}
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	var best *Steadied
	for _, s := range each {
		if better(s, best) {
			best = s
		}
	}
	if best == nil || math.Abs(best.Lost) < 0.05 {
		return best, nil
	}
	m := *best.Move.(*move.Compress)
	if w.Low && hz > 0 {
		m.BackHz, m.Back = math.Round(hz), figure.Tenth(math.Min(ownMost, best.Lost))
	} else {
		m.Makeup = figure.Tenth(best.Lost)
	}
	best.Move = &m
	best.After, err = Weigh(ctx, r, with(song, w.Part, &m), w.Part, line, loop)
	return best, err
}

// peakOf is the loudest sample of a part's stems behind their chains.
func peakOf(ctx context.Context, r *mix.Renderer, song *session.Song, p Part, w mix.Window) (meter.Figure, error) {
	peak := meter.None
	for _, st := range p.Stems(song) {
		c := song.Unducked()
		for i := range c.Stems {
			c.Stems[i].Mute = c.Stems[i].ID != st.ID
		}
		o := c.Stem(st.ID)
		o.Fader, o.Pan, o.Width, o.Bus, o.Sends = 0, 0, 0, "", nil
		c.Master = session.Master{}
		x, _, err := r.Solo(mix.Passing(ctx), &c, mix.SoloAll, w)
		if err != nil {
			return meter.None, err
		}
		if l := meter.PeakDB(x.Ch...); l.Valid() && (!peak.Valid() || l > peak) {
			peak = l
		}
	}
	return peak, nil
}

// Says says what a school comes to.
func (s *Steadied) Says() string {
	spread := figure.Short(float64(s.After.Spread))
	if s.School == Own {
		return fmt.Sprintf("Own gains bring them within %s dB, at most %s dB each.", spread, figure.Short(s.Most))
	}
	out := fmt.Sprintf("A compressor comes to %s dB and takes up to %s dB", spread, figure.Short(s.Most))
	if m, ok := s.Move.(*move.Compress); ok && m.Back > 0 {
		out += fmt.Sprintf("; %s dB at %s Hz after it give the low end back", figure.Short(m.Back), figure.Short(m.BackHz))
	}
	return out + "."
}

// played is by how much notes and hits of a part that nobody would call uneven step, dB: own choice, clean sampled basses and kicks
// played by hand reach 5.
const played = 6.0

// Uneven tells of a part whose items weigh too differently, or of which some jump out. own is the part evened out by own gains,
// over the same stretch.
func Uneven(song *session.Song, w *Weights, own, comp *Steadied, target float64) (f find.Finding, ok bool) {
	if !w.Spread.Valid() || own == nil || own.After == nil || !own.After.Spread.Valid() || float64(own.After.Spread) > float64(w.Spread)-0.2 {
		return f, false
	}
	for _, st := range w.Stems(song) {
		if st.Move(steadyMove) != nil {
			return f, false
		}
	}
	worst, off, _ := w.Worst()
	at := song.Position(worst.At)
	hear := w.ID
	switch {
	case w.Low && float64(w.Spread) > target:
		what := "hits"
		if w.Note {
			what = "notes"
		}
		f.What = fmt.Sprintf("%s: its %s step by %s dB", w.Name, what, figure.Short(float64(w.Spread)))
		f.Why = fmt.Sprintf("The furthest off is the one at %s, %s dB. ", at, figure.ShortPlus(off))
	case !w.Low && off >= Jumps && float64(w.Spread) > target:
		f.What = fmt.Sprintf("%s jumps out at %s, %s dB over its median", w.Name, at, figure.Short(off))
		hear = "all"
	default:
		return f, false
	}
	f.ID, f.Hear, f.Why = find.ID("uneven", w.ID), hear, f.Why+own.Says()
	if comp != nil && comp.After != nil {
		f.Why += " " + comp.Says()
	}
	f.Fix = []session.Edit{own.Edit(song)}
	f.Own = []find.Measure{{Figure: "spread", Of: w.ID, Name: w.Name + " spread", In: find.AtMost(target + 0.05)}}
	f.Apply, f.Do = "Even them out", "Even out "+w.Name+" by own gains"
	switch {
	case !w.Low:
		f.Taste = "an accent may be meant"
	case float64(w.Spread) < played:
		f.Taste = "so much may be how it is played"
	}
	if w.ID == Bass { // of which Pocket tells too
		f.Group = find.Even
	}
	if comp != nil {
		f.Values = w.Name + ": " + move.Words(comp.Move)
	}
	return f, true
}

// BoostedBefore tells of a bell or shelf that raises the low end before a compressor on the same stem.
func BoostedBefore(song *session.Song) []find.Finding {
	var out []find.Finding
	for i := range song.Stems {
		st := &song.Stems[i]
		for _, m := range st.Moves {
			c, ok := m.Params.(*move.Compress)
			if !ok || m.Off || c.Ratio <= 1 {
				continue
			}
			for _, b := range st.Moves {
				if f, ok := b.Params.(*move.Filter); ok && !b.Off && f.DB > 0 && f.Hz < 150 {
					out = append(out, find.Finding{
						ID: find.ID(
							"boost-before",
							st.ID,
							b.ID,
						), What: fmt.Sprintf("%s is raised at %s Hz before its compressor", st.Name, figure.Short(f.Hz)), Hear: "stem:" + st.ID,
						Why: "What is raised there makes the compressor work, and is taken away again with all else. " +
							"Raise it after it: the compressor has a bell of its own behind it.",
						Taste: "it changes the tone a little",
						Apply: "Raise it after",
						Do: fmt.Sprintf("Take the bell out, and set the bell after the compressor to %s dB at %s Hz",
							figure.ShortPlus(f.DB), figure.Short(f.Hz)),
						Fix: []session.Edit{
							session.DropMove{At: session.At{Stem: st.ID}, ID: b.ID},
							session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: m.ID, Why: m.Why, Params: raisedAfter(c, f)}},
						},
					})
				}
			}
		}
	}
	return out
}

func raisedAfter(c *move.Compress, f *move.Filter) *move.Compress {
	n := *c
	n.BackHz, n.Back = math.Max(20, f.Hz), math.Min(12, n.Back+f.DB)
	return &n
}
