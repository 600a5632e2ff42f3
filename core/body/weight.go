// Package body measures how much each hit and each note weighs, and evens them out.
package body

import (
	"context"
	"fmt"
	"math"
	"slices"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

const (
	hitWeigh    = 0.2  // s after a hit over which it is weighed
	noteFrom    = 0.02 // s after a note's start from which it is weighed
	clickFor    = 0.03 // s
	clickLow    = 1000 // Hz
	clickHigh   = 8000 // Hz
	attackFor   = 0.02 // s in which the peak is looked for
	attackOver  = 0.12 // s up to which the body is taken
	weighLeast  = 0.03 // s that are left of a hit: a shorter one is not weighed
	softest     = 40.0 // dB under the loudest: what is softer is none
	settle      = 0.25 // s that are rendered ahead, so that filters have settled
	noteLongest = 2.0  // s of a note that may be taken
	spreadLow   = 0.1  // percentiles
	spreadHigh  = 0.9
)

// Part is what is weighed: the kick, the bass, or a stem of another role.
type Part struct {
	ID   string // "kick", "bass" or a stem's id
	Name string
	Low  bool // weighed in 20 to 150 Hz; others over the whole spectrum
	Note bool // its items are notes, weighed from 20 to 220 ms
}

// Kick and Bass are the parts of those roles, all their stems together.
const (
	Kick = "kick"
	Bass = "bass"
)

// Item is one hit or note.
type Item struct {
	At, End float64      // s in the song
	Weight  meter.Figure // dBFS RMS, see Weigh
	Click   meter.Figure // dBFS RMS in 1 to 8 kHz over its first 30 ms
	Tone    meter.Figure // weight less click, dB
	Attack  meter.Figure // peak of its first 20 ms over the RMS of 20 to 120 ms, dB
}

// Weights is what the items of a part weigh.
type Weights struct {
	Part
	Items  []Item
	Median meter.Figure // dBFS
	Spread meter.Figure // 10th to 90th percentile, dB; None where fewer than two were weighed
	Attack meter.Figure // median, dB
}

// Parts lists what of a song can be weighed: kick, bass, then every other stem that is not muted.
func Parts(song *session.Song) []Part {
	var out []Part
	named := func(role session.Role, one string) string {
		if all := song.ByRole(role); len(all) == 1 {
			return all[0].Name
		}
		return one
	}
	if song.TriggerStem() != nil {
		out = append(out, Part{ID: Kick, Name: named(session.Kick, "Kick"), Low: true})
	}
	if len(song.ByRole(session.Bass)) > 0 {
		out = append(out, Part{ID: Bass, Name: named(session.Bass, "Bass"), Low: true, Note: true})
	}
	for _, st := range song.Stems {
		if st.Role != session.Kick && st.Role != session.Bass && !st.Mute {
			out = append(out, Part{ID: st.ID, Name: st.Name})
		}
	}
	return out
}

// Of returns the part with an id; ok is false where there is none.
func Of(song *session.Song, id string) (p Part, ok bool) {
	i := slices.IndexFunc(Parts(song), func(p Part) bool { return p.ID == id })
	if i < 0 {
		return p, false
	}
	return Parts(song)[i], true
}

// Stems are the stems of a part.
func (p Part) Stems(song *session.Song) []*session.Stem {
	switch p.ID {
	case Kick:
		return song.ByRole(session.Kick)
	case Bass:
		return song.ByRole(session.Bass)
	}
	if st := song.Stem(p.ID); st != nil {
		return []*session.Stem{st}
	}
	return nil
}

// Times are when the items of a part begin and end in the song, s; line is that of the bass. A hit ends with the next one.
func (p Part) Times(r *mix.Renderer, song *session.Song, line []meter.BassNote) ([]Item, error) {
	var out []Item
	if p.Note {
		for _, n := range line {
			out = append(out, Item{At: n.Start, End: n.End})
		}
		return out, nil
	}
	s, id := song, session.KickTrigger
	if p.ID != Kick {
		if id = song.TriggerOf(p.ID); id == "" {
			id = "weighed"
			c := *song
			c.Triggers = append(slices.Clip(song.Triggers), session.Trigger{ID: id, Stem: p.ID})
			s = &c
		}
	}
	hits, err := r.Hits(s, id)
	if err != nil {
		return nil, err
	}
	for i, h := range hits {
		at := float64(h) / float64(song.Rate)
		end := at + noteLongest
		if i+1 < len(hits) {
			end = float64(hits[i+1]) / float64(song.Rate)
		}
		out = append(out, Item{At: at, End: end})
	}
	return out, nil
}

// Weigh weighs the items of a part that begin in a window, as they leave its chains before any duck: the RMS, in 20 to 150 Hz for
// kick and bass, of a hit's first 200 ms or of a note's 20 to 220 ms, or until it ends.
func Weigh(ctx context.Context, r *mix.Renderer, song *session.Song, p Part, line []meter.BassNote, w mix.Window) (*Weights, error) {
	items, err := p.Times(r, song, line)
	if err != nil {
		return nil, err
	}
	rate := float64(song.Rate)
	inside := items[:0]
	for _, it := range items {
		if n := int(it.At * rate); n >= w.From && n < w.To {
			inside = append(inside, it)
		}
	}
	c := song.Unducked()
	stems := p.Stems(song)
	for i := range c.Stems {
		c.Stems[i].Mute = !slices.ContainsFunc(stems, func(st *session.Stem) bool { return st.ID == c.Stems[i].ID })
		c.Stems[i].Bus, c.Stems[i].Sends = "", nil
	}
	c.Master = session.Master{}
	in := mix.Window{From: w.From - int(settle*rate), To: w.To + int(0.3*rate)}
	key, err := r.Identity(&c, mix.SoloAll, in)
	if err != nil {
		return nil, err
	}
	return mix.Cached(ctx, r.Cache, mix.Key("weights", key, p, inside), func() (*Weights, int, error) {
		b, _, err := r.Solo(mix.Passing(ctx), &c, mix.SoloAll, in)
		if err != nil {
			return nil, 0, err
		}
		out, err := weigh(b.Mono(), song.Rate, in.From, p, inside)
		return out, 80 * len(inside), err
	})
}

// weigh weighs items of a sound whose first sample is a frame of the song.
func weigh(x []float32, rate, from int, p Part, items []Item) (*Weights, error) {
	low := x
	if p.Low {
		s, err := meter.WideBand(float64(rate))
		if err != nil {
			return nil, err
		}
		low = make([]float32, len(x))
		dsp.NewFilter(s).Process(low, x)
	}
	s, err := dsp.Bandpass(clickLow, math.Min(clickHigh, 0.45*float64(rate)), float64(rate))
	if err != nil {
		return nil, err
	}
	click := make([]float32, len(x))
	dsp.NewFilter(s).Process(click, x)
	out := &Weights{Part: p}
	level := func(y []float32, a, b float64) meter.Figure {
		lo, hi := int(math.Round(a*float64(rate)))-from, int(math.Round(b*float64(rate)))-from
		lo, hi = min(max(lo, 0), len(y)), min(max(hi, 0), len(y))
		if hi <= lo {
			return meter.None
		}
		if e := meter.Energy(y[lo:hi]); e > 0 {
			return meter.Figure(dsp.PowerDB(e / float64(hi-lo)))
		}
		return meter.None
	}
	loudest := meter.Figure(math.Inf(-1))
	for _, it := range items {
		begin := it.At
		if p.Note {
			begin += noteFrom
		}
		end := math.Min(begin+hitWeigh, it.End)
		if end-begin < weighLeast {
			continue
		}
		it.Weight = level(low, begin, end)
		if !it.Weight.Valid() {
			continue
		}
		loudest = max(loudest, it.Weight)
		it.Click = level(click, it.At, math.Min(it.At+clickFor, it.End))
		it.Tone = meter.None
		if it.Click.Valid() {
			it.Tone = it.Weight - it.Click
		}
		lo, hi := int(it.At*float64(rate))-from, int((it.At+attackFor)*float64(rate))-from
		it.Attack = meter.None
		if rms := level(x, it.At+attackFor, math.Min(it.At+attackOver, it.End)); rms.Valid() && lo >= 0 && hi <= len(x) && hi > lo {
			it.Attack = meter.PeakDB(x[lo:hi]) - rms
		}
		out.Items = append(out.Items, it)
	}
	out.Items = slices.DeleteFunc(out.Items, func(it Item) bool { return it.Weight < loudest-softest })
	out.sum()
	return out, nil
}

func (w *Weights) sum() {
	var all, attacks []meter.Figure
	for _, it := range w.Items {
		all = append(all, it.Weight)
		if it.Attack.Valid() {
			attacks = append(attacks, it.Attack)
		}
	}
	w.Median, w.Spread, w.Attack = meter.Median(all), meter.None, meter.Median(attacks)
	if len(all) > 1 {
		w.Spread = meter.Percentile(all, spreadHigh) - meter.Percentile(all, spreadLow)
	}
}

// Worst is the item that is furthest from the median; ok is false where there is none.
func (w *Weights) Worst() (it Item, off float64, ok bool) {
	for _, i := range w.Items {
		if d := float64(i.Weight - w.Median); !ok || math.Abs(d) > math.Abs(off) {
			it, off, ok = i, d, true
		}
	}
	return it, off, ok
}

// says is how a part is told.
func (w *Weights) says(target float64) string {
	what := "hits"
	if w.Note {
		what = "notes"
	}
	switch {
	case !w.Spread.Valid():
		return ""
	case float64(w.Spread) <= target:
		return fmt.Sprintf("%s is even (%s dB).", w.Name, figure.Short(float64(w.Spread)))
	}
	return fmt.Sprintf("%s steps by %s dB from %s to %s.", w.Name, figure.Short(float64(w.Spread)), what[:len(what)-1], what[:len(what)-1])
}

// Sentence tells of kick and bass.
func Sentence(all []*Weights, target float64) string {
	out := ""
	for _, w := range all {
		if s := w.says(target); s != "" && (w.ID == Kick || w.ID == Bass) {
			if out != "" {
				out += " "
			}
			out += s
		}
	}
	if out == "" {
		return "There are no hits and no notes to weigh here. Say on Intake, in the column “role”, which stem is the kick and which the bass, or judge a stretch " +
			"in which they play."
	}
	return out
}

// piece is how much of a song is weighed at once, s.
const piece = 60

// WeighWhole weighs the items of a part over a window of any length, a minute at a time.
func WeighWhole(ctx context.Context, r *mix.Renderer, song *session.Song, p Part, line []meter.BassNote, w mix.Window) (*Weights, error) {
	out := &Weights{Part: p}
	for from := w.From; from < w.To; from += piece * song.Rate {
		part, err := Weigh(ctx, r, song, p, line, mix.Window{From: from, To: min(w.To, from+piece*song.Rate)})
		if err != nil {
			return nil, err
		}
		out.Items = append(out.Items, part.Items...)
		mix.Did(ctx, float64(from-w.From)/float64(max(1, w.To-w.From)))
	}
	out.sum()
	return out, nil
}
