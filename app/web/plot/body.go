package plot

import (
	"fmt"
	"html/template"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// WeightBar is one hit or note: what it weighed, and what it weighs.
type WeightBar struct {
	At, End     float64      // s
	Before, Now meter.Figure // dBFS
	Place       string       // bar.beat.hundredths
}

// WeightSide is what stands above the line, or hangs below it.
type WeightSide struct {
	Name   string
	Bars   []WeightBar
	Median meter.Figure
}

// WeightPlot is the weights of kick and bass over a stretch.
type WeightPlot struct {
	Kick, Bass WeightSide
	From, To   float64 // s
	Spread     float64 // dB that is asked
	Beats      []WeightBeat
}

// WeightBeat is a bar line with its number.
type WeightBeat struct {
	At   float64
	Name string
}

// How far the bars reach, dB over and under their median.
const (
	weightOver  = 7.0
	weightUnder = 14.0
)

// Weights draws every hit of the kick standing on the line and every note of the bass hanging from it, what is asked as
// brackets about the medians; dashed what it weighed before, where that is another.
// Long because a picture is drawn from back to front.
func Weights(p WeightPlot) template.HTML {
	const w, h, left, right, mid, foot = 774.0, 236.0, 72.0, 16.0, 112.0, 16.0
	s := newSVG(
		"weights",
		w,
		h,
		"The weight of every hit and note",
		"Each hit of the kick above the line, each note of the bass below it, by its level in 20 to 150 Hz; brackets show what is asked about the medians, "+
			"dashes what a hit weighed before.",
	)
	half := mid - 14
	x := func(t float64) float64 { return left + (t-p.From)/math.Max(1e-9, p.To-p.From)*(w-left-right) }
	y := func(l, median meter.Figure) float64 {
		return math.Max(2, math.Min(half, (float64(l-median)+weightUnder)/(weightOver+weightUnder)*half))
	}
	for _, b := range p.Beats {
		s.line("beat", x(b.At), 8, x(b.At), h-foot)
		s.text("tick", "start", x(b.At)+3, h-3, b.Name)
	}
	side := func(v WeightSide, sign float64, fill, label string, least float64) {
		if v.Name == "" {
			return
		}
		s.text(label, "start", 0, mid-sign*(half-14), short(v.Name))
		if !v.Median.Valid() {
			return
		}
		for i, b := range v.Bars {
			if !b.Now.Valid() {
				continue
			}
			next := b.End
			if i+1 < len(v.Bars) {
				next = math.Min(next, v.Bars[i+1].At)
			}
			a := x(b.At)
			wide := math.Max(least, x(next)-a-2)
			if label == "kick-label" {
				wide = math.Min(wide, 16)
			}
			wide = math.Min(wide, w-right-a)
			tall := y(b.Now, v.Median)
			top := mid - tall
			if sign < 0 {
				top = mid
			}
			s.add(`<rect class="%s" x="%s" y="%s" width="%s" height="%s"><title>%s</title></rect>`, fill, n(a), n(top), n(wide), n(tall),
				esc(fmt.Sprintf("%s: %s dBFS, %s dB about the median", b.Place, figure.Signed(float64(b.Now), 1), figure.Plus(float64(b.Now-v.Median), 1))))
			if b.Before.Valid() && math.Abs(float64(b.Before-b.Now)) >= 0.1 {
				at := mid - sign*y(b.Before, v.Median)
				s.line(label[:4]+"-before", a, at, a+wide, at)
			}
		}
		hi, lo := mid-sign*y(v.Median+meter.Figure(p.Spread/2), v.Median), mid-sign*y(v.Median-meter.Figure(p.Spread/2), v.Median)
		for _, at := range []float64{left - 8, w - right + 8} {
			turn := 5.0
			if at > left {
				turn = -5
			}
			b := &path{}
			b.to(at+turn, hi)
			b.to(at, hi)
			b.to(at, lo)
			b.to(at+turn, lo)
			s.path("ask", b)
		}
		s.text("tick", "end", left-12, mid-sign*y(v.Median, v.Median)+4, figure.Signed(float64(v.Median), 0))
	}
	side(p.Kick, 1, "kick", "kick-label", 2)
	side(p.Bass, -1, "bass-note", "bass-label", 3)
	s.line("axis", left, mid, w-right, mid)
	s.text("unit", "start", 0, 10, "dBFS")
	return s.done()
}

// Ladder is the harmonics of a note.
type Ladder struct {
	Note    string
	Place   string
	Hz      float64
	Level   [9]float64 // dB under the fundamental
	Before  [9]float64 // likewise, without the harmonics that are added; all 0: nothing is
	Audible [9]bool
	Heard   bool
	Margin  meter.Figure // dB over the rest
}

// ladderMost is how many notes are drawn at most.
const ladderMost = 24

// Ladders draws each note of the bass as a ladder of its harmonics: as wide as it is strong, filled where it is heard behind a
// speaker, hollow where it is covered or too soft. from is where the speaker begins, Hz.
func Ladders(notes []Ladder, speaker string, from float64) template.HTML {
	const w, left, right, rung, top = 774.0, 34.0, 8.0, 16.0, 8.0
	h := top + 9*rung + 26
	s := newSVG(
		"ladders",
		w,
		h,
		"The harmonics of every note on "+speaker,
		"Each note of the bass as a column of its harmonics, the fundamental below; as wide as it is strong, filled where it is heard, hollow where it is "+
			"covered or too soft; a dash where the speaker begins; a mark across how wide it was before harmonics were added.",
	)
	y := func(k int) float64 { return top + rung*float64(9-k) + rung/2 }
	for k := 1; k <= 9; k++ {
		s.text("tick", "start", 0, y(k)+4, fmt.Sprintf("H%d", k))
		s.line("rule", left-6, y(k), w-right, y(k))
	}
	shown := notes[:min(len(notes), ladderMost)]
	step := (w - left - right) / float64(max(8, len(shown)))
	for i, v := range shown {
		x := left + step*float64(i)
		for k, l := range v.Level {
			wide := math.Max(3, math.Min(step-10, (l+60)/60*(step-10)))
			if was := v.Before[k]; v.Before != [9]float64{} && math.Abs(was-l) >= 1 {
				at := x + math.Max(3, math.Min(step-10, (was+60)/60*(step-10)))
				s.line("rung-before", at, y(k+1)-6, at, y(k+1)+6)
			}
			class := "rung"
			if v.Audible[k] {
				class = "rung heard"
			}
			s.add(`<rect class="%s" x="%s" y="%s" width="%s" height="9"><title>%s</title></rect>`, class, n(x), n(y(k+1)-4.5), n(wide),
				esc(fmt.Sprintf("%s at %s, H%d, %.0f Hz: %s dB", v.Note, v.Place, k+1, v.Hz*float64(k+1), figure.Signed(l, 0))))
		}
		if first := from / math.Max(1, v.Hz); first > 1 && first < 9 {
			at := y(1) - (first-1)*rung
			s.line("begins", x-3, at, x+step-9, at)
		}
		class := "note"
		if !v.Heard {
			class = "note unheard"
		}
		s.text(class, "start", x, h-8, v.Note)
	}
	if more := len(notes) - len(shown); more > 0 {
		s.text("tick", "end", w-right, h-8, fmt.Sprintf("and %d more", more))
	}
	return s.done()
}
