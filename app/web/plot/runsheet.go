package plot

import (
	"fmt"
	"html/template"
	"math"

	"mellowthump/core/figure"
)

// Moved is a figure before and after, on a line of its own, with the bracket that is asked of it.
type Moved struct {
	ID, Name      string
	Before, After float64 // NaN: there is none
	Lo, Hi        float64 // infinite: no such end
	Decimals      int
	Unit          string
}

// Brackets draws it: before thin, after bold, in or out of the bracket.
func Brackets(m Moved) template.HTML {
	const w, h, pad = 262.0, 16.0, 4.0
	lo, hi := math.Inf(1), math.Inf(-1)
	for _, v := range []float64{m.Before, m.After, m.Lo, m.Hi} {
		if !math.IsNaN(v) && !math.IsInf(v, 0) {
			lo, hi = math.Min(lo, v), math.Max(hi, v)
		}
	}
	if lo > hi {
		return ""
	}
	room := math.Max(0.25*(hi-lo), math.Pow(10, -float64(m.Decimals)))
	lo, hi = lo-room, hi+room
	x := func(v float64) float64 { return pad + (v-lo)/(hi-lo)*(w-2*pad) }
	said := func(v float64) string {
		if math.IsNaN(v) {
			return "none"
		}
		return figure.Signed(v, m.Decimals)
	}
	in := !(m.After < m.Lo || m.After > m.Hi)
	desc := fmt.Sprintf("From %s to %s %s", said(m.Before), said(m.After), m.Unit)
	if !in {
		desc += ", outside its bracket"
	}
	s := newSVG("won-"+m.ID, w, h, m.Name, desc)
	s.line("rule", pad, h/2, w-pad, h/2)
	ends := [2]float64{x(m.Lo), x(m.Hi)}
	if math.IsInf(m.Hi, 1) && !math.IsInf(m.Lo, 0) {
		ends[1] = w - pad
	}
	if math.IsInf(m.Lo, -1) && !math.IsInf(m.Hi, 0) {
		ends[0] = pad
	}
	for i, dir := range []float64{4, -4} {
		if !math.IsInf(ends[i], 0) && !math.IsNaN(ends[i]) {
			var p path
			p.to(ends[i]+dir, 3)
			p.to(ends[i], 3)
			p.to(ends[i], h-3)
			p.to(ends[i]+dir, h-3)
			s.path("bracket", &p)
		}
	}
	if !math.IsNaN(m.Before) {
		s.line("was-tick", x(m.Before), 3, x(m.Before), h-3)
	}
	if !math.IsNaN(m.After) {
		class := "now-tick in"
		if !in {
			class = "now-tick out"
		}
		s.line(class, x(m.After), 2, x(m.After), h-2)
	}
	return s.done()
}
