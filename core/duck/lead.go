package duck

import (
	"context"
	"fmt"
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/search"
	"mellowthump/core/session"
)

// Where the bass leads, the kick makes room: its attack stays, its tail is lowered until the bass has
// the clearance that is asked, from 60 ms after the hit on.

const (
	tailRelease = 40.0   // ms in which the kick comes back before the next hit
	tailReach   = 1500.0 // ms after the hit up to which a tail is lowered
	tailStep    = 0.1    // dB
	attackSlope = 1.5    // dB/ms, the steepest that it falls: half of what may click
	attackLeast = 4.0    // ms
)

var (
	tailStarts = []float64{20, 25, 30, 40, 50} // ms after the hit at which the kick begins to give way: its attack stays
	tailParts  = []float64{0.35, 0.5, 0.7, 1}  // of the time to the end of the tail, or to the next hit
)

// tail is a duck of the kick: from start on it falls, it is back by end.
type tail struct{ start, end float64 } // ms

func (t tail) duck(depth float64) *move.Duck {
	down := t.start + math.Max(attackLeast, depth/attackSlope)
	return &move.Duck{School: move.CurveSchool, Points: []move.Point{
		{
			MS: figure.Tenth(t.start),
			DB: 0,
		}, {MS: figure.Tenth(down), DB: -depth}, {MS: figure.Tenth(t.end - tailRelease), DB: -depth}, {MS: figure.Tenth(t.end), DB: 0},
	}}
}

// fits reports whether the tail has room to go that deep.
func (t tail) fits(depth float64) bool {
	return t.end-tailRelease > t.start+math.Max(attackLeast, depth/attackSlope)+1
}

// tailTrial holds the energies of the kick, ms by ms after every hit: in the octave of the note that the
// bass plays there, and in 20-150 Hz.
type tailTrial struct {
	bass  []float64   // energy in the note's octave from LeadFrom to the next hit; 0 where no note is known
	over  [][]float64 // of the kick there
	wide  [][]float64
	total float64 // of wide over the range
	gap   float64 // the shortest, ms
}

func newTailTrial(m *meter.HitMeter, bass meter.Sound, line []meter.BassNote) (*tailTrial, error) {
	n := len(m.Hits)
	t := &tailTrial{bass: make([]float64, n), over: make([][]float64, n), wide: make([][]float64, n), gap: math.Inf(1)}
	perMS := float64(m.Rate) / 1000
	for i := range m.Hits {
		bins := int(math.Min(tailReach, float64(m.Gaps[i])/perMS))
		t.wide[i], t.over[i] = make([]float64, bins), make([]float64, bins)
		if i+1 < n || !m.Open {
			t.gap = math.Min(t.gap, float64(m.Gaps[i])/perMS-letGo)
		}
	}
	band, err := meter.WideBand(float64(m.Rate))
	if err != nil {
		return nil, err
	}
	filter, at, hit := dsp.NewFilter(band), 0, -1
	var low []float32
	err = m.KickSound().Read(func(x []float32) error {
		low = append(low[:0], x...)
		filter.Process(low, low)
		for k, v := range low {
			frame := at + k
			if hit+1 < n && frame >= m.Hits[hit+1] {
				hit++
			}
			e := float64(v) * float64(v)
			if frame >= m.Range.From && frame < m.Range.To {
				t.total += e
			}
			if hit >= 0 {
				if ms := int(float64(frame-m.Hits[hit]) / perMS); ms < len(t.wide[hit]) {
					t.wide[hit][ms] += e
				}
			}
		}
		at += len(x)
		return nil
	})
	if err != nil {
		return nil, err
	}
	from := int(meter.LeadFrom * float64(m.Rate))
	return t, m.OverNotes(bass, line, func(i int, kick, bass []float32) {
		for ms := range t.over[i] {
			at := int(float64(ms) * perMS)
			t.over[i][ms] = meter.Energy(kick[min(at, len(kick)):min(at+int(perMS), len(kick))])
		}
		if from < len(bass) {
			t.bass[i] = meter.Energy(bass[from:])
		}
	})
}

// judge tries a duck of the kick: the bass's clearance that counts, and the loss of kick in 20-150 Hz.
func (t *tailTrial) judge(d *move.Duck) judged {
	power := make([]float64, int(tailReach))
	for ms := range power {
		power[ms] = math.Pow(10, d.GainDB(float64(ms)+0.5)/10)
	}
	var clear []meter.Figure
	lost := 0.0
	for i := range t.bass {
		for ms, e := range t.wide[i] {
			lost += e * (1 - power[ms])
		}
		if t.bass[i] <= 0 {
			continue
		}
		left := 0.0
		for ms := int(1000 * meter.LeadFrom); ms < len(t.over[i]); ms++ {
			left += t.over[i][ms] * power[ms]
		}
		clear = append(clear, meter.Clearance(t.bass[i], left))
	}
	return judged{worst(clear), -dsp.PowerDB(math.Max(1e-9, 1-lost/math.Max(t.total, 1e-30)))}
}

func (t *tailTrial) tails() []tail {
	last := math.Min(tailReach, t.gap)
	var out []tail
	for _, start := range tailStarts {
		for _, part := range tailParts {
			if e := (tail{start, figure.Tenth(start + part*(last-start))}); e.fits(0) {
				out = append(out, e)
			}
		}
	}
	return out
}

// least returns the tail that reaches a clearance within a cap with the least loss of kick; where none
// does, the one that comes nearest.
func (t *tailTrial) least(tails []tail, clearance, deepest float64) (best tail, depth float64, j judged, ok bool) {
	j = judged{math.Inf(-1), math.Inf(1)}
	for _, e := range tails {
		top := deepest
		for top > 0 && !e.fits(top) {
			top = math.Floor(10*top-1) / 10
		}
		if top <= 0 {
			continue
		}
		d, now := top, t.judge(e.duck(top))
		reach := now.clearance >= clearance
		if !reach && (ok || now.clearance <= j.clearance) {
			continue
		}
		if reach {
			_, d = search.Edge(0, top, tailStep/2, func(deep float64) bool { return t.judge(e.duck(deep)).clearance >= clearance })
			d = math.Ceil(d/tailStep) * tailStep
			if now = t.judge(e.duck(d)); ok && now.loss >= j.loss {
				continue
			}
		}
		best, depth, j, ok = e, figure.Tenth(d), now, reach
	}
	return best, depth, j, ok
}

// FitLead finds the duck of the kick's tail that lets the bass lead by the clearance that is asked in 9 of
// 10 hits, with the least loss of kick in 20-150 Hz: at most as deep as the cap, back before the next hit.
// line is the bass's own in seconds of the song.
// Long because each way in which it may fail is told in its own sentence.
func FitLead(m *meter.HitMeter, bass meter.Sound, line []meter.BassNote, goal Goal) (Fitted, error) {
	plain, err := m.MeasureLead(bass, line, meter.HitFigures{})
	if err != nil {
		return Fitted{}, err
	}
	f := Fitted{P10: plain.P10}
	if plain.Judged() == 0 {
		f.Reason = "No note of the bass is known under the hits, so there is nothing to lead by."
		return f, nil
	}
	t, err := newTailTrial(m, bass, line)
	if err != nil {
		return f, err
	}
	tails := t.tails()
	for c := 0.0; c <= 20; c++ {
		if err := goal.stopped(); err != nil {
			return f, err
		}
		_, depth, j, ok := t.least(tails, c, deepest)
		if now := t.judge(&move.Duck{}); now.clearance >= c {
			depth, j, ok = 0, now, true
		}
		if !ok {
			break
		}
		f.Trade = append(f.Trade, Trade{Clearance: c, Loss: math.Max(0, j.loss), Depth: depth})
	}
	if worst(plain.Clearance) >= goal.Clearance {
		f.Reason = fmt.Sprintf(
			"No duck needed: from 60 ms after the hit the bass leads by %.1f dB in the worst tenth of hits; %.1f dB is asked.",
			float64(plain.P10),
			goal.Clearance,
		)
		return f, nil
	}
	f.Needed = true
	best, depth, _, ok := t.least(tails, goal.Clearance, goal.MaxDepth)
	if depth <= 0 {
		f.Reason = "No duck can be drawn: the cap is 0 dB, or the hits follow each other too closely."
		return f, nil
	}
	for { // the full rate, with its filters' ringing, has the last word
		if err := goal.stopped(); err != nil {
			return f, err
		}
		f.Duck = best.duck(depth)
		after, err := m.WithKick(apply(m, f.Duck, m.KickSound())).MeasureLead(bass, line, meter.HitFigures{})
		if err != nil {
			return f, err
		}
		f.P10 = after.P10
		f.Reached = worst(after.Clearance) >= goal.Clearance+margin
		next := figure.Tenth(depth + tailStep)
		if f.Reached || !ok || next > goal.MaxDepth || !best.fits(next) {
			break
		}
		depth = next
	}
	if f.Reached {
		f.Reason = fmt.Sprintf(
			"The kick lowered by %.1f dB from %.0f ms after each hit to %.0f ms lets the bass lead by %.1f dB in 9 of 10 hits; its attack stays as it is.",
			depth,
			f.Duck.Points[1].MS,
			f.Duck.Points[2].MS,
			goal.Clearance,
		)
		return f, nil
	}
	f.Reason = fmt.Sprintf("%.1f dB cannot be reached in 9 of 10 hits: the worst tenth comes to %.1f dB.", goal.Clearance, float64(f.P10))
	if _, need, _, ok := t.least(tails, goal.Clearance, fullCut); ok && need > goal.MaxDepth {
		f.Reason += fmt.Sprintf(" The cap of %.1f dB stops it; about %.1f dB of depth would do.", goal.MaxDepth, need)
	} else {
		f.Reason += fmt.Sprintf(" The kick is too loud for the bass there even where it is lowered by %.0f dB from %.0f ms after each hit on, as far as it has "+
			"to be back before the next.", fullCut, tailStarts[0])
	}
	return f, nil
}

// FitSongLead is FitLead for a song over a window, whatever ducks it has now.
func FitSongLead(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, line []meter.BassNote) (Fitted, error) {
	plain := song.Unducked()
	p, err := r.Pair(ctx, &plain, w)
	if err != nil {
		return Fitted{}, err
	}
	goal := goalOf(ctx, song)
	return mix.Cached(ctx, r.Cache, mix.Key("fit lead", p.Key(), line, goal), func() (Fitted, int, error) {
		mix.Doing(ctx, "Fitting the kick's tail")
		f, err := FitLead(p.Meter, p.Bass, line, goal)
		if f.Duck != nil {
			f.Duck.Trigger = session.KickTrigger
		}
		return f, 2048, err
	})
}
