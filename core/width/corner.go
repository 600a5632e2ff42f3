package width

import (
	"fmt"
	"math"
	"math/cmplx"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	cornerLow, cornerHigh = 20.0, 600.0 // Hz
	cornerSteps           = 8           // an octave
	cornerSlope           = 24
	chance                = 0.05 // by which unrelated channels miss a correlation now and then
)

// Safe reports whether a sound stands mono: the worst tenth of its correlation reaches a target, and under 120 Hz its side lies 20 dB under
// its mid.
func (f Figures) Safe(target float64) bool {
	if f.Mono || !f.Worst.Valid() && !f.Low.Valid() {
		return true
	}
	return (!f.Worst.Valid() || float64(f.Worst) >= target-chance) && (!f.Low.Valid() || float64(f.Low) <= -LowUnder)
}

// Corner is the lowest corner of a side low cut, Hz, in steps of an eighth of an octave from 20 to 600, that makes a sound
// safe; 0 where it is safe as it is; ok is false where none does.
func Corner(x audio.Buffer, target float64) (hz float64, ok bool) {
	if Measure(x).Safe(target) {
		return 0, true
	}
	s := newSolver(x)
	for k := 0; ; k++ {
		hz = math.Round(cornerLow * math.Exp2(float64(k)/cornerSteps))
		if hz > cornerHigh {
			return 0, false
		}
		if s.safe(hz, target) {
			return hz, true
		}
	}
}

// solver holds what does not change with the corner.
type solver struct {
	mid, side []float32
	rate      int
	bins      spectrum
}

func newSolver(x audio.Buffer) *solver {
	s := &solver{rate: x.Rate, bins: spectrumOf(x), mid: make([]float32, x.Frames()), side: make([]float32, x.Frames())}
	for i, l := range x.Ch[0] {
		s.mid[i], s.side[i] = (l+x.Ch[1][i])/2, (l-x.Ch[1][i])/2
	}
	return s
}

// safe says what Figures.Safe would of the sound behind a side low cut.
func (s *solver) safe(hz, target float64) bool {
	f, err := (&move.SideCut{Hz: hz, Slope: cornerSlope}).Sections(float64(s.rate))
	if err != nil {
		return false
	}
	low := pair{}
	for k := int(math.Ceil(20 / s.bins.hz)); float64(k)*s.bins.hz < LowMono && k < len(s.bins.bins); k++ {
		h := cmplx.Abs(dsp.Response(f, float64(k)*s.bins.hz, float64(s.rate)))
		low.mm += s.bins.bins[k].mm
		low.ss += s.bins.bins[k].ss * h * h
	}
	if r := s.bins.low(low); r.Valid() && float64(r) > -LowUnder {
		return false
	}
	side := make([]float32, len(s.side))
	dsp.NewFilter(f).Process(side, s.side)
	n := max(1, int(step*float64(s.rate)))
	var sums []pair
	for at := 0; at < len(side); at += n {
		var p pair
		for i := at; i < min(len(side), at+n); i++ {
			m, v := float64(s.mid[i]), float64(side[i])
			p.mm, p.ss, p.ms = p.mm+m*m, p.ss+v*v, p.ms+m*v
		}
		sums = append(sums, p)
	}
	w := worst(track(sums))
	return !w.Valid() || float64(w) >= target-chance
}

// Row is a place of a song between its channels.
type Row struct {
	At      session.At
	Name    string
	Before  Figures // without what Width does there
	Now     Figures
	Corner  float64 // Hz, of the lowest side low cut that makes it safe; 0: it is as it is, or none does
	Curable bool
	LowSide meter.Figure // dBFS, energy of the side in 20 to 200 Hz as it reaches the mix; of stems
}

// Cut is the side low cut that makes it safe; where mono would take its low end, with that of one channel on both sides.
func (r Row) Cut() *move.SideCut {
	return &move.SideCut{Hz: r.Corner, Slope: cornerSlope, Low: r.Before.LowOf}
}

// Edit puts the side low cut in.
func (r Row) Edit() session.Edit {
	return session.Together{
		Said: r.Name + ": " + move.Words(r.Cut()),
		Edits: []session.Edit{session.SetMove{At: r.At, Move: move.Move{
			ID: session.WidthSide, Params: r.Cut(), Why: "the lowest corner that stands mono"}}},
	}
}

// Align is the cure of a delay or of a channel upside down; nil where there is neither.
func (r Row) Align() *move.Align {
	f := r.Before
	if !f.Delay.Valid() && !f.Turned {
		return nil
	}
	a := &move.Align{Turn: move.TurnNone}
	if f.Delay.Valid() { // the right is later: the left has to wait
		a.Left = math.Round(float64(f.Delay)*100) / 100
	}
	if f.Turned {
		a.Turn = move.TurnRight
	}
	return a
}

// AlignEdit puts the cure in.
func (r Row) AlignEdit() session.Edit {
	return session.Together{Said: r.Name + ": " + move.Words(r.Align()), Edits: []session.Edit{session.SetMove{At: r.At, Move: move.Move{
		ID: session.WidthAlign, Params: r.Align(), Why: "its channels stand apart"}}}}
}

// Says says what a place loses in mono.
func (r Row) Says() string {
	f := r.Now
	switch {
	case f.Mono:
		return r.Name + " is mono."
	case !f.Correlation.Valid():
		return r.Name + " stands on one side, or is silent: mono costs it nothing between its channels."
	}
	out := fmt.Sprintf(
		"%s: in its worst tenth its correlation is %s; mono costs it %s LU",
		r.Name,
		figure.Signed(float64(f.Worst), 2),
		figure.Short(float64(f.FoldLU)),
	)
	if worst := f.WorstBand(); worst != nil && worst.Fold > 3.5 {
		out += fmt.Sprintf(", most at %.0f Hz, %s", worst.Hz, short(worst.Fold))
	}
	return out + "."
}

func short(f meter.Figure) string {
	if f >= foldGone {
		return "all"
	}
	return figure.Short(float64(f)) + " dB"
}

// Lowest is when the correlation is lowest, s from the start of the stretch; ok is false where there is none.
func (f Figures) Lowest() (at float64, ok bool) {
	low := meter.Figure(2)
	for i, c := range f.Track {
		if c.Valid() && c < low {
			low, at, ok = c, float64(i)*step, true
		}
	}
	return at, ok
}

// WorstBand is the band that loses most in mono, of those within 30 dB of the loudest; nil where there is none.
func (f Figures) WorstBand() *Band {
	top := math.Inf(-1)
	level := func(b Band) float64 {
		e := 0.0
		for _, l := range []meter.Figure{b.Mid, b.Side} {
			if l.Valid() {
				e += math.Pow(10, float64(l)/10)
			}
		}
		return 10 * math.Log10(e)
	}
	for _, b := range f.Bands {
		top = math.Max(top, level(b))
	}
	var out *Band
	for i, b := range f.Bands {
		if b.Fold.Valid() && level(b) > top-30 && (out == nil || b.Fold > out.Fold) {
			out = &f.Bands[i]
		}
	}
	return out
}

// Correlation is how far the channels of a place agree where they do so least, with what is asked.
func Correlation(at session.At, target float64) find.Measure {
	return find.Measure{Figure: "worsttenth", Of: at.String(), In: find.AtLeast(target - 0.02)}
}

// Unsafe tells of a place that does not stand mono.
func Unsafe(song *session.Song, r Row, target float64) (f find.Finding, ok bool) {
	chain, _ := song.Chain(r.At)
	if chain == nil || chain.Move(session.WidthSide) != nil || r.Corner == 0 || r.Now.Safe(target) {
		return f, false
	}
	hear := "all"
	if r.At.Stem != "" {
		hear = "stem:" + r.At.Stem
	}
	low := ""
	if r.Now.Low.Valid() && float64(r.Now.Low) > -LowUnder {
		low = fmt.Sprintf(" Under %.0f Hz its side lies %s dB %s its mid.", LowMono, figure.Short(math.Abs(float64(r.Now.Low))),
			map[bool]string{true: "over", false: "under"}[r.Now.Low > 0])
	}
	f = find.Finding{
		ID: find.ID("wide", r.At.String()), What: fmt.Sprintf("%s does not stand mono", r.Name), Hear: hear,
		Why: r.Says() + low + fmt.Sprintf(" A side low cut at %.0f Hz is the lowest that makes it safe; the mid stays as it is.", r.Corner),
		Fix: []session.Edit{
			r.Edit(),
		}, Apply: "Cut its side", Do: fmt.Sprintf("High-pass the side of %s at %.0f Hz", r.Name, r.Corner), Values: fmt.Sprintf("%s: side high-pass at %.0f Hz, "+
			"24 dB per octave", r.Name, r.Corner),
		Own: []find.Measure{Correlation(r.At, target), {Figure: "lowmono", Of: r.At.String(), In: find.AtMost(-LowUnder)}},
	}
	if of := r.Before.LowOf; of != "" {
		f.What = fmt.Sprintf("%s loses its low end on one speaker", r.Name)
		if r.Before.LowTurned {
			f.What = fmt.Sprintf("%s has its low end upside down in one channel: on one speaker it is gone", r.Name)
		}
		f.Why = r.Says() + low + fmt.Sprintf(" Under %.0f Hz the low end of the %s plays on both sides; over it both stay as they are.", r.Corner, of)
		f.Apply, f.Do = "Mend its low end", fmt.Sprintf("Let the low end of the %s play on both sides of %s, under %.0f Hz", of, r.Name, r.Corner)
		f.Values = r.Name + ": " + move.Words(r.Cut())
	}
	return f, true
}

// Apart tells of a delay between the channels of a place, or of one upside down.
func Apart(song *session.Song, r Row) (f find.Finding, ok bool) {
	a, chain := r.Align(), (*move.Chain)(nil)
	if chain, _ = song.Chain(r.At); a == nil || chain == nil || chain.Move(session.WidthAlign) != nil {
		return f, false
	}
	d := r.Before
	what := fmt.Sprintf("%s: one channel is upside down", r.Name)
	why := "In mono the two take each other out."
	if d.Delay.Valid() {
		later := "right"
		if d.Delay < 0 {
			later = "left"
		}
		what = fmt.Sprintf("%s: its %s channel comes %.2f ms later", r.Name, later, math.Abs(float64(d.Delay)))
		if d.Turned {
			what += ", upside down"
		}
		why = "In mono that takes out "
		for i, hz := range Notches(float64(d.Delay), d.Turned, 3) {
			if i > 0 {
				why += ", "
			}
			why += fmt.Sprintf("%.0f", hz)
		}
		why += " Hz and on."
	}
	hear := "all"
	if r.At.Stem != "" {
		hear = "stem:" + r.At.Stem
	}
	taste := "it may be meant as width"
	if d.Turned && d.LowTurned { // nobody means that of a low end
		taste, why = "", why+" Its low end too, which no one means."
	} else {
		why += " Was it meant as width, leave it; it is a risk in mono."
	}
	return find.Finding{
		Own: []find.Measure{{Figure: "foldlu", Of: r.At.String(), In: find.AtMost(0)}}, Taste: taste,
		ID: find.ID("apart", r.At.String()), What: what, Hear: hear,
		Why: why,
		Fix: []session.Edit{r.AlignEdit()}, Apply: "Line them up", Do: move.Words(a), Values: r.Name + ": " + move.Words(a),
	}, true
}
