package duck

import (
	"context"
	"fmt"
	"math"
	"sort"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	falseDepth  = 1.0   // dB of reduction that counts
	falseRise   = 0.030 // s within which it comes about
	falseBefore = 0.030 // s before a hit that belong to it
	falseAfter  = 0.120 // s behind a hit that belong to it
	falseNear   = 0.030 // s within which another stem's onset is its cause
)

// False is the times at which a keyed duck ducks without a hit.
type False struct {
	At     []float64 // s in the song
	Cause  string    // the stem whose onsets most of them meet; empty: not known
	Filter *move.KeyFilter
	Why    string // in words
}

// FalseTriggers finds where the song's duck lowers the bass by 1 dB and more with no hit of its trigger
// near, names the stem whose onsets fall there, and the gentlest key filter that would stop it. onsets
// gives the onsets of a stem's file.
func FalseTriggers(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, onsets func(sha string) []float64) (*False, error) {
	d, off := song.Duck()
	if d == nil || off || !d.Keyed() {
		return nil, nil
	}
	hits, err := r.Hits(song, d.Trigger)
	if err != nil {
		return nil, err
	}
	at, err := falseAt(r, song, w, hits)
	if err != nil || len(at) == 0 {
		return nil, err
	}
	f := &False{At: at}
	most := 0
	trigger := song.TriggerStem()
	for i := range song.Stems {
		st := &song.Stems[i]
		if trigger != nil && st.ID == trigger.ID || st.Role == session.Bass {
			continue
		}
		n := 0
		on := onsets(st.Audio)
		for _, t := range at {
			k := sort.SearchFloat64s(on, t-falseNear)
			if k < len(on) && on[k] <= t+falseNear {
				n++
			}
		}
		if n > most && 2*n >= len(at) {
			most, f.Cause = n, st.Name
		}
	}
	for _, hz := range []float64{250, 180, 130, 100, 80} { // the gentlest first
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		c := *song
		c.Stems = append([]session.Stem(nil), song.Stems...)
		k := *d
		k.Key = &move.KeyFilter{Low: hz, Slope: 24}
		if d.Key != nil {
			k.Key.High = d.Key.High
		}
		if k.Key.Validate() != nil {
			continue
		}
		c.SetDuck(&k, false, "")
		left, err := falseAt(r, &c, w, hits)
		if err != nil {
			return nil, err
		}
		if len(left) == 0 {
			f.Filter = k.Key
			break
		}
	}
	f.Why = fmt.Sprintf("It ducks %d times with no hit near", len(at))
	if f.Cause != "" {
		f.Why += ", where " + f.Cause + " plays"
	}
	return f, nil
}

// falseAt lists the times at which the gain falls without a hit.
func falseAt(r *mix.Renderer, song *session.Song, w mix.Window, hits []int) ([]float64, error) {
	var st *session.Stem
	for _, b := range song.ByRole(session.Bass) {
		if m, _ := b.DuckMove(); m != nil {
			st = b
		}
	}
	if st == nil {
		return nil, nil
	}
	gain, err := r.Gain(song, st, w)
	if err != nil {
		return nil, err
	}
	rate := float64(song.Rate)
	step := max(1, song.Rate/1000)
	reach := int(falseRise * rate)
	limit := float32(dsp.Gain(-falseDepth))
	var out []float64
	for i := reach; i < len(gain); i += step {
		if gain[i] > limit*gain[i-reach] { // no fall of 1 dB
			continue
		}
		at := w.From + i
		k := sort.SearchInts(hits, at-int(falseAfter*rate))
		if k < len(hits) && hits[k] <= at+int(falseBefore*rate) {
			continue
		}
		t := float64(at) / rate
		if len(out) == 0 || t-out[len(out)-1] > falseAfter {
			out = append(out, t)
		}
	}
	return out, nil
}

// Achieved is what a bounce of the bass that came back did, against the duck that was planned.
type Achieved struct {
	MS      []float64 // after the hit
	Planned []float64 // gain, dB
	Got     []float64
	Worst   float64 // largest difference, dB
	WorstMS float64
	Plan    meter.HitFigures // the old file with the duck
	Now     meter.HitFigures // the new file without it
}

const (
	achievedStep   = 2.0  // ms
	achievedBefore = 20.0 // ms before the hit
	achievedAfter  = 250.0
)

// ComeBack compares the new file of a bass with the plan: the old file (sha) with the song's duck. The
// gain is that of the envelopes' ratio, median over the hits.
func ComeBack(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, stem, old string) (*Achieved, error) {
	planned := song.Clone()
	planned.Stem(stem).Audio = old
	plain := planned.Unducked()
	now := song.Unducked()
	before, err := r.Pair(ctx, &plain, w)
	if err != nil {
		return nil, err
	}
	a := &Achieved{}
	var was meter.HitFigures
	if was, err = r.Figures(before); err != nil {
		return nil, err
	}
	p, err := r.Pair(ctx, &planned, w)
	if err != nil {
		return nil, err
	}
	if a.Plan, err = r.Figures(p); err != nil {
		return nil, err
	}
	n, err := r.Pair(ctx, &now, w)
	if err != nil {
		return nil, err
	}
	if a.Now, err = r.Figures(n); err != nil {
		return nil, err
	}
	offset := float64(before.Meter.Offset) / float64(song.Rate)
	for ms := -achievedBefore; ms <= achievedAfter; ms += achievedStep {
		var plan, got []meter.Figure
		for _, h := range was.Hits {
			if ms/1000 >= h.Gap {
				continue
			}
			k := int((h.At + ms/1000 - offset) / meter.EnvelopeStep)
			if k < 0 || k >= len(was.Bass) || k >= len(a.Plan.Bass) || k >= len(a.Now.Bass) || was.Bass[k] < 1e-4 {
				continue
			}
			ratio := func(v float32) meter.Figure {
				return meter.Figure(math.Max(-60, dsp.DB(math.Max(1e-6, float64(v/was.Bass[k])))))
			}
			plan, got = append(plan, ratio(a.Plan.Bass[k])), append(got, ratio(a.Now.Bass[k]))
		}
		if len(plan) == 0 {
			continue
		}
		x, y := float64(meter.Median(plan)), float64(meter.Median(got))
		a.MS, a.Planned, a.Got = append(a.MS, ms), append(a.Planned, x), append(a.Got, y)
		if d := y - x; math.Abs(d) > math.Abs(a.Worst) {
			a.Worst, a.WorstMS = d, ms
		}
	}
	return a, nil
}
