package pocket

import (
	"context"
	"fmt"
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Proposal is something that can be done to kick or bass, with what it does, rendered and measured.
type Proposal struct {
	ID     string // of the move
	Stem   *session.Stem
	Name   string // in a few words
	Values string // to be set by hand elsewhere
	Move   move.Move
	On     bool // it is in the chain already
	Warn   string
	Before meter.HitFigures
	After  meter.HitFigures
}

const (
	tailLoud   = -18.0 // dB under its peak at which a kick's tail still covers the note
	tailBefore = 20.0  // ms before the handover at which the tail begins to fade
	tailAfter  = 40.0  // ms after it at which it is gone
	tailLeast  = 30.0  // ms of a kick that stay
	passPart   = 0.55  // of the fundamental: half to six tenths, common practice
	dipQ       = 1.4
	dipLeast   = 1.0
	dipMost    = move.BigCut // dB without a warning
)

// The ids of the moves that place kick and bass.
const (
	TailFade = "tail-fade"
	KickPass = "kick-pass"
	BassDip  = "bass-dip"
	KickDip  = "kick-dip"
)

// Proposals lists what would place the kick beside the bass: its tail faded where the bass takes
// over, its rumble under the fundamental taken out, and a dip of the one that follows at the
// fundamental of the one that leads; each rendered and measured on its own.
// Long because each proposal is rendered and told in its own way.
func Proposals(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, line *meter.Pitch) ([]Proposal, error) {
	p, err := r.Pair(ctx, song, w)
	if err != nil {
		return nil, err
	}
	before, err := r.Figures(ctx, p)
	if err != nil {
		return nil, err
	}
	kick, bass := song.TriggerStem(), song.ByRole(session.Bass)[0]
	hz := p.Meter.HomeHz
	var out []Proposal
	add := func(id string, st *session.Stem, name, values string, params move.Params) {
		out = append(out, Proposal{ID: id, Stem: st, Name: name, Values: values, Move: move.Move{ID: id, Why: name, Params: params}, Before: before})
	}
	if over := before.HandoverMedian; over.Valid() {
		left := tailAt(p.Meter, float64(over))
		if left > tailLoud || kick.Move(TailFade) != nil {
			from := math.Max(tailLeast, float64(over)-tailBefore)
			f := &move.Fade{Trigger: session.KickTrigger, From: math.Round(from), To: math.Round(math.Max(from+20, float64(over)+tailAfter))}
			add(
				TailFade,
				kick,
				fmt.Sprintf("%s is still at %s dB when the bass takes over at %.0f ms: fade its tail", kick.Name, figure.Short(math.Round(left)), float64(over)),
				fmt.Sprintf("fade from %.0f ms after the hit, gone by %.0f ms", f.From, f.To),
				f,
			)
		}
	}
	pass := &move.Filter{Shape: dsp.Highpass, Hz: math.Round(passPart * hz), Slope: 12}
	add(
		KickPass,
		kick,
		fmt.Sprintf("Take out what lies under %s's own fundamental", kick.Name),
		fmt.Sprintf("high-pass at %.0f Hz, 12 dB per octave", pass.Hz),
		pass,
	)
	target := song.Targets.Clearance
	depth := math.Round(2*math.Min(dipMost, math.Max(dipLeast, target-float64(before.ClearanceP10)))) / 2
	if song.Leader == session.BassLeads && line != nil {
		f := &move.Filter{Shape: dsp.Bell, Hz: math.Round(10*line.Hz) / 10, Q: dipQ, DB: -depth}
		add(KickDip, kick, fmt.Sprintf("Dip %s at the bass's fundamental", kick.Name), fmt.Sprintf("bell at %.1f Hz, −%.1f dB, Q %.1f", f.Hz, depth, dipQ), f)
	} else {
		f := &move.Filter{Shape: dsp.Bell, Hz: math.Round(10*hz) / 10, Q: dipQ, DB: -depth}
		add(BassDip, bass, fmt.Sprintf("Dip %s at the kick's fundamental", bass.Name), fmt.Sprintf("bell at %.1f Hz, −%.1f dB, Q %.1f", f.Hz, depth, dipQ), f)
	}
	for i := range out {
		if now := out[i].Stem.Move(out[i].ID); now != nil {
			out[i].On, out[i].Move, out[i].Values = true, *now, move.Words(now.Params)
		}
		c := With(song, out[i].Stem.ID, out[i].Move, !out[i].On)
		q, err := r.Pair(ctx, &c, w)
		if err != nil {
			return nil, err
		}
		if out[i].After, err = r.Figures(ctx, q); err != nil {
			return nil, err
		}
		if out[i].On { // what it does is what would be lost without it
			out[i].Before, out[i].After = out[i].After, before
		}
		if f, ok := out[i].Move.Params.(*move.Filter); ok && math.Abs(f.DB) > move.BigCut {
			out[i].Warn = fmt.Sprintf("More than %.0f dB at one place is a sign that something earlier is wrong.", move.BigCut)
		}
	}
	return out, nil
}

// Helps reports whether the worst tenth is better with it by what can be told: a tenth of a dB.
func (p Proposal) Helps() bool {
	return p.After.ClearanceP10.Valid() && !(float64(p.After.ClearanceP10) < float64(p.Before.ClearanceP10)+0.1)
}

// With returns the song with a move in a stem's chain, or without it.
func With(song *session.Song, stem string, m move.Move, in bool) session.Song {
	c := *song
	c.Stems = append([]session.Stem(nil), song.Stems...)
	if !in {
		m.Params = nil
	}
	if st := c.Stem(stem); st != nil {
		st.SetMove(m)
	}
	return c
}

// tailAt returns the kick's level some ms after its hits against its own peak, dB, from the mean of
// its envelopes.
func tailAt(m *meter.HitMeter, ms float64) float64 {
	var sum []float64
	for i, h := range m.Hits {
		from := int(float64(h) / float64(m.Rate) / meter.EnvelopeStep)
		n := int(float64(m.Gaps[i]) / float64(m.Rate) / meter.EnvelopeStep)
		for k := 0; k < n && from+k < len(m.Kick); k++ {
			if k == len(sum) {
				sum = append(sum, 0)
			}
			sum[k] += float64(m.Kick[from+k])
		}
	}
	peak := 0.0
	for _, v := range sum {
		peak = math.Max(peak, v)
	}
	at := int(ms)
	if peak == 0 || at >= len(sum) || sum[at] == 0 {
		return -60
	}
	return math.Max(-60, 20*math.Log10(sum[at]/peak))
}

// Layer is a layer of the kick against the one that gives the hits.
type Layer struct {
	Stem    *session.Stem
	Sum     meter.Figure // median phase sum of the two, 20-150 Hz
	Flipped meter.Figure // with this one turned over
}

const (
	layerCancels = -1.0 // dB of phase sum from which two layers are said to cancel
	layerGains   = 1.0  // dB by which turning one over must help
)

// Cancels reports whether the layer pulls against the other, and turning it over mends it.
func (l Layer) Cancels() bool {
	return l.Sum.Valid() && float64(l.Sum) < layerCancels && float64(l.Flipped-l.Sum) > layerGains
}

// Layers checks the layers of the kick against each other.
func Layers(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) ([]Layer, error) {
	first := song.TriggerStem()
	if first == nil {
		return nil, nil
	}
	hits, err := r.Hits(song, session.KickTrigger)
	if err != nil {
		return nil, err
	}
	hz, err := r.KickHz(song)
	if err != nil || hz <= 0 {
		return nil, err
	}
	for i := range hits {
		hits[i] -= w.From
	}
	var out []Layer
	for _, st := range song.ByRole(session.Kick) {
		if st.ID == first.ID {
			continue
		}
		a, aKey, err := r.Stem(ctx, song, first, w)
		if err != nil {
			return nil, err
		}
		b, bKey, err := r.Stem(ctx, song, st, w)
		if err != nil {
			return nil, err
		}
		sums, err := mix.Cached(ctx, r.Cache, mix.Key("layer", aKey, bKey, hits, hz), func() ([2]meter.Figure, int, error) {
			m, err := meter.NewHitMeter(a.Mono(), song.Rate, hits, hz, meter.Range{From: 0, To: w.Frames()})
			if err != nil { // no hits here: nothing to say
				return [2]meter.Figure{meter.None, meter.None}, 16, nil
			}
			x := append([]float32(nil), b.Mono()...)
			sum := m.Measure(x).PhaseSumMedian
			for i := range x {
				x[i] = -x[i]
			}
			return [2]meter.Figure{sum, m.Measure(x).PhaseSumMedian}, 16, nil
		})
		if err != nil {
			return nil, err
		}
		out = append(out, Layer{Stem: st, Sum: sums[0], Flipped: sums[1]})
	}
	return out, nil
}
