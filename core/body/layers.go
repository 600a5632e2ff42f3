package body

import (
	"context"
	"fmt"
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// LayerBands are the bands in which layers are compared, Hz.
var LayerBands = [3][2]float64{{20, 150}, {150, 1000}, {1000, 8000}}

const (
	handLow, handHigh = 60.0, 400.0 // Hz between which two layers hand over
	handSteps         = 6           // an octave
	handOver          = 0.2         // s of a hit that are taken
	handLoses         = -0.5        // dB of phase sum from which two layers are said to lose
	handTurns         = 0.5         // dB that turning one over must win
	handGains         = 0.5         // dB that a corner must win
	handShares        = -15.0       // dB under the other from which a layer does not share the low end
)

// LayerOf is a layer of a kick or a snare, with what it carries.
type LayerOf struct {
	Stem   *session.Stem
	Bands  [3]meter.Figure // dBFS in LayerBands, over the first 200 ms of the hits
	Lowest bool            // it is the low source
}

// Stack are the layers of a drum, and the corner at which the low source hands over to the others.
type Stack struct {
	Role   session.Role
	Name   string
	Layers []LayerOf
	// Sum is the energy of the layers together in 20 to 150 Hz over the sum of their energies, dB: 0 where they neither add
	// nor cancel, 3 at most of two alike, under 0 where they cancel.
	Sum    meter.Figure
	Turn   meter.Figure // likewise with the others turned over
	Corner float64      // Hz; 0: none is better
	Turned bool         // the others turned over there
	After  meter.Figure // Sum about the corner, an octave to each side, with it
	Before meter.Figure // Sum there without it
}

// StackOf compares the layers of a role over a window and finds the corner at which they hand over with the least loss of phase sum:
// the low source low-passed, the others high-passed there, 24 dB per octave. The song is one without Body's handing over. nil
// where there are fewer than two layers, or no hits.
// Long because each candidate is laid on the same rendered layers.
func StackOf(ctx context.Context, r *mix.Renderer, song *session.Song, role session.Role, w mix.Window) (*Stack, error) {
	stems := song.ByRole(role)
	if len(stems) < 2 {
		return nil, nil
	}
	part, ok := Of(song, Kick)
	if role != session.Kick {
		part, ok = Of(song, stems[0].ID)
	}
	if !ok {
		return nil, nil
	}
	items, err := part.Times(r, song, nil)
	if err != nil {
		return nil, err
	}
	rate := float64(song.Rate)
	var hits []int
	for _, it := range items {
		if n := int(it.At*rate) - w.From; n >= 0 && n < w.Frames() {
			hits = append(hits, n)
		}
	}
	if len(hits) == 0 {
		return nil, nil
	}
	out := &Stack{Role: role, Name: part.Name}
	plain := song.Unducked()
	var sounds [][]float32
	low := 0
	for _, st := range stems {
		x, _, err := r.Stem(mix.Passing(ctx), &plain, plain.Stem(st.ID), w)
		if err != nil {
			return nil, err
		}
		l := LayerOf{Stem: st}
		m := append([]float32(nil), x.Mono()...)
		for i, b := range LayerBands {
			l.Bands[i] = meter.Figure(dsp.PowerDB(banded(m, b[0], b[1], rate, hits)))
			if math.IsInf(float64(l.Bands[i]), 0) {
				l.Bands[i] = meter.None
			}
		}
		sounds = append(sounds, m)
		if out.Layers = append(out.Layers, l); over(l.Bands[0], out.Layers[low].Bands[0]) {
			low = len(out.Layers) - 1
		}
	}
	out.Layers[low].Lowest = true
	rest := make([]float32, len(sounds[low]))
	for k, x := range sounds {
		if k != low {
			for i, v := range x {
				rest[i] += v
			}
		}
	}
	out.Sum = phaseSum(sounds[low], rest, LayerBands[0][0], LayerBands[0][1], rate, hits)
	for i := range rest {
		rest[i] = -rest[i]
	}
	out.Turn = phaseSum(sounds[low], rest, LayerBands[0][0], LayerBands[0][1], rate, hits)
	for i := range rest {
		rest[i] = -rest[i]
	}
	share := dsp.PowerDB(banded(rest, 20, 150, rate, hits)) - dsp.PowerDB(banded(sounds[low], 20, 150, rate, hits))
	if !(share > handShares) { // there is one low source
		return out, nil
	}
	best := math.Inf(-1)
	for k := 0; ; k++ {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		hz := math.Round(handLow * math.Exp2(float64(k)/handSteps))
		if hz > handHigh {
			break
		}
		a, b, err := handed(sounds[low], rest, hz, rate)
		if err != nil {
			return nil, err
		}
		for _, turned := range []bool{false, true} {
			if turned {
				for i := range b {
					b[i] = -b[i]
				}
			}
			sum := phaseSum(a, b, hz/2, hz*2, rate, hits)
			if turned {
				sum -= handTurns
			}
			if sum.Valid() && float64(sum) > best {
				best, out.Corner, out.Turned, out.After = float64(sum), hz, turned, sum
				if turned {
					out.After += handTurns
				}
			}
		}
	}
	out.Before = phaseSum(sounds[low], rest, out.Corner/2, out.Corner*2, rate, hits)
	if out.Corner > 0 && !(float64(out.After) > float64(out.Before)+handGains) {
		out.Corner, out.Turned = 0, false
	}
	return out, nil
}

func over(a, b meter.Figure) bool { return a.Valid() && (!b.Valid() || a > b) }

// handed are the low source under a corner and the others over it.
func handed(low, rest []float32, hz, rate float64) (a, b []float32, err error) {
	lp, err := dsp.ButterworthLowpass(4, hz, rate)
	if err != nil {
		return nil, nil, err
	}
	hp, err := dsp.ButterworthHighpass(4, hz, rate)
	if err != nil {
		return nil, nil, err
	}
	a, b = make([]float32, len(low)), make([]float32, len(rest))
	dsp.NewFilter(lp).Process(a, low)
	dsp.NewFilter(hp).Process(b, rest)
	return a, b, nil
}

// banded is the mean square of a sound in a band over the first 200 ms of the hits.
func banded(x []float32, lo, hi, rate float64, hits []int) float64 {
	s, err := dsp.Bandpass(lo, math.Min(hi, 0.45*rate), rate)
	if err != nil {
		return 0
	}
	y := make([]float32, len(x))
	dsp.NewFilter(s).Process(y, x)
	sum, n := 0.0, 0
	for _, h := range hits {
		part := y[h:min(len(y), h+int(handOver*rate))]
		sum, n = sum+meter.Energy(part), n+len(part)
	}
	return sum / float64(max(1, n))
}

// phaseSum is the energy of two sounds together in a band over the sum of their energies, dB.
func phaseSum(a, b []float32, lo, hi, rate float64, hits []int) meter.Figure {
	both := make([]float32, len(a))
	for i := range both {
		both[i] = a[i] + b[i]
	}
	e := banded(a, lo, hi, rate, hits) + banded(b, lo, hi, rate, hits)
	if e <= 0 {
		return meter.None
	}
	return meter.Figure(math.Max(-60, dsp.PowerDB(banded(both, lo, hi, rate, hits)/e)))
}

// Edit puts the handing over in.
func (s *Stack) Edit() session.Edit {
	out := session.Together{Said: fmt.Sprintf("%s: its layers hand over at %s Hz", s.Name, figure.Short(s.Corner))}
	for _, l := range s.Layers {
		f := &move.Filter{Shape: dsp.Highpass, Hz: s.Corner, Slope: 24}
		if l.Lowest {
			f.Shape = dsp.Lowpass
		}
		at := session.At{Stem: l.Stem.ID}
		out.Edits = append(out.Edits, session.SetMove{At: at, Move: move.Move{ID: session.BodyHand, Params: f, Why: "one low source, and the others over it"}})
		if s.Turned && !l.Lowest {
			out.Edits = append(
				out.Edits,
				session.SetMove{At: at, Move: move.Move{ID: session.BodyTurn, Params: &move.Polarity{}, Why: "the layers agree at the corner"}},
			)
		}
	}
	return out
}

// Says says what the corner comes to.
func (s *Stack) Says() string {
	turned := ""
	if s.Turned {
		turned = ", the upper ones turned over"
	}
	return fmt.Sprintf(
		"Handing over at %s Hz%s, the layers together are %s dB about the sum of their energies there; now %s.",
		figure.Short(s.Corner),
		turned,
		figure.ShortPlus(float64(s.After)),
		figure.ShortPlus(float64(s.Before)),
	)
}

// Cancelling tells of layers that cancel in the low end.
func Cancelling(song *session.Song, s *Stack) (f find.Finding, ok bool) {
	if s == nil || s.Corner == 0 || !s.Sum.Valid() || float64(s.Sum) > handLoses ||
		float64(s.Turn) > handLoses { // turning one over mends it: Pocket tells of that
		return f, false
	}
	for _, l := range s.Layers {
		if l.Stem.Move(session.BodyHand) != nil {
			return f, false
		}
	}
	hear := "all"
	if s.Role == session.Kick {
		hear = Kick
	}
	return find.Finding{
		Own: []find.Measure{{Figure: "stacksum", By: string(s.Role), In: find.AtLeast(0)}}, Taste: "the layers sound otherwise apart",
		ID: find.ID(
			"layers",
			string(s.Role),
		), What: fmt.Sprintf("The layers of the %s lose %s dB under 150 Hz together", s.Role, figure.Short(-float64(s.Sum))), Hear: hear,
		Why: s.Says(), Fix: []session.Edit{s.Edit()}, Apply: "Hand over", Do: fmt.Sprintf("Let the layers hand over at %s Hz",
			figure.Short(s.Corner)), Values: fmt.Sprintf("low source low-pass, others high-pass at %s Hz, 24 dB per octave", figure.Short(s.Corner)),
	}, true
}

// Beats are the beats of a bar on which a layer may sound.
var Beats = []struct {
	Key, Label string
	On         func(beat float64) bool // 0 to 4
}{
	{"1", "on the first beat", func(b float64) bool { return near(b, 0) || near(b, 4) }},
	{"13", "on beats 1 and 3", func(b float64) bool { return near(b, 0) || near(b, 2) || near(b, 4) }},
	{"24", "on beats 2 and 4", func(b float64) bool { return near(b, 1) || near(b, 3) }},
	{"beats", "on the beats", func(b float64) bool { return near(b, math.Round(b)) }},
	{"off", "between the beats", func(b float64) bool { return !near(b, math.Round(b)) }},
}

// BeatsLabel are the words for chosen beats.
func BeatsLabel(key string) string {
	for _, b := range Beats {
		if b.Key == key {
			return b.Label
		}
	}
	return ""
}

// near is within a thirty-second of a bar's beat.
func near(a, b float64) bool { return math.Abs(a-b) < 0.125 }

// OnBeats are the gains that let a layer sound at the hits on chosen beats alone; silent at all others. ok is false where no such beats
// are known, or no hit is left.
func OnBeats(song *session.Song, items []Item, key string) (g *move.Gains, ok bool) {
	for _, b := range Beats {
		if b.Key != key {
			continue
		}
		g = &move.Gains{}
		for _, it := range items {
			step := move.GainStep{At: it.At, DB: move.GainsMute}
			beat := math.Mod((it.At-song.Grid)*song.BPM/60+400, 4)
			if b.On(beat) {
				step.DB, ok = 0, true
			}
			if n := len(g.Steps); n == 0 || step.At > g.Steps[n-1].At {
				g.Steps = append(g.Steps, step)
			}
		}
	}
	return g, ok
}
