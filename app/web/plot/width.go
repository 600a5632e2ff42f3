package plot

import (
	"fmt"
	"html/template"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/width"
)

// WidthSides is a place between its channels: by third-octave, and over time.
type WidthSides struct {
	Name   string
	Now    width.Figures
	Corner float64 // Hz, of the side low cut that is set, or proposed; 0: none
	Set    bool
	From   float64 // s, of the stretch
	Length float64 // s
	Target float64 // correlation
	Beats  []WeightBeat
}

// The frequencies of the picture, Hz.
const widthLo, widthHi = 20.0, 16000.0

// Sides draws the mid standing and the side hanging below it, hatched where the correlation is under zero, the corner of the
// side as a bracket that can be dragged. Long because it is one drawing, from back to front.
func Sides(v WidthSides) template.HTML {
	const w, h, left, right, mid, foot, deep = 774.0, 204.0, 62.0, 8.0, 96.0, 18.0, 48.0
	s := newSVG(
		"sides",
		w,
		h,
		"Mid over side of "+v.Name,
		"Stairs of a third of an octave from 20 Hz to 16 kHz, in decibels: the mid above the line, the side below it; where the correlation is under zero, so "+
			"that mono takes sound out, is hatched; the bracket is the corner of the side.",
	)
	x := func(hz float64) float64 {
		return left + math.Log(math.Max(widthLo, math.Min(widthHi, hz))/widthLo)/math.Log(widthHi/widthLo)*(w-left-right)
	}
	top := math.Inf(-1)
	for _, b := range v.Now.Bands {
		for _, l := range []meter.Figure{b.Mid, b.Side} {
			if l.Valid() {
				top = math.Max(top, float64(l))
			}
		}
	}
	if math.IsInf(top, 0) {
		top = 0
	}
	top = 6 * math.Ceil(top/6)
	scale := (mid - 14) / deep
	height := func(l meter.Figure) float64 {
		if !l.Valid() {
			return 0
		}
		return math.Max(0, float64(l)-top+deep) * scale
	}
	for db := 0.0; db < deep; db += 12 {
		for _, sign := range []float64{-1, 1} {
			y := mid + sign*(deep-db)*scale
			s.line("rule", left, y, w-right, y)
			s.text("tick", "end", left-6, y+4, figure.Signed(top-db, 0))
		}
	}
	for _, hz := range []float64{20, 50, 100, 200, 500, 1000, 2000, 5000, 10000} {
		s.line("beat", x(hz), 10, x(hz), h-foot)
		s.text("tick", "middle", math.Min(math.Max(x(hz), left+8), w-20), h-4, hzLabel(hz))
	}
	stairs := func(class string, sign float64, level func(width.Band) meter.Figure) {
		p := &path{}
		p.to(left, mid)
		for _, b := range v.Now.Bands {
			y := mid - sign*height(level(b))
			p.to(x(b.Hz*math.Exp2(-1.0/6)), y)
			p.to(x(b.Hz*math.Exp2(1.0/6)), y)
		}
		p.to(w-right, mid)
		s.path(class, p.close())
	}
	stairs("mid-fill", 1, func(b width.Band) meter.Figure { return b.Mid })
	stairs("side-fill", -1, func(b width.Band) meter.Figure { return b.Side })
	for _, b := range v.Now.Bands {
		if !b.Correlation.Valid() || b.Correlation >= 0 || height(b.Side) <= 0 {
			continue
		}
		p := &path{}
		p.to(x(b.Hz*math.Exp2(-1.0/6)), mid-height(b.Mid))
		p.to(x(b.Hz*math.Exp2(1.0/6)), mid-height(b.Mid))
		p.to(x(b.Hz*math.Exp2(1.0/6)), mid+height(b.Side))
		p.to(x(b.Hz*math.Exp2(-1.0/6)), mid+height(b.Side))
		s.hatch(p.close())
	}
	s.line("axis", left, mid, w-right, mid)
	s.text("mid-label", "start", 0, mid-8, "mid")
	s.text("side-label", "start", 0, mid+18, "side")
	s.text("unit", "start", 0, 10, "dBFS")
	now, at, class, says := widthLo, left, "edge", "proposed"
	if v.Corner > 0 {
		now, at = v.Corner, x(v.Corner)
	}
	if v.Set {
		class, says = "edge set", "set"
	}
	label := fmt.Sprintf("Corner of the side of %s, %s: %s Hz", v.Name, says, figure.Short(now))
	s.add(
		`<g class="%s" id="edge-side" tabindex="0" role="slider" aria-label="%s" aria-valuemin="20" aria-valuemax="2000" aria-valuenow="%s" aria-valuetext="%s" `+
			`data-stem="side" data-side="low" data-hz="%s" data-width="%s" data-lo="%s" data-hi="%s"><title>%s. Drag, or arrow keys; Shift finer</title>`,
		class,
		esc(label),
		exact(now),
		esc(label),
		exact(now),
		n(w-left-right),
		n(widthLo),
		n(widthHi),
		esc(label),
	)
	s.add(`<rect class="reach" x="%s" y="%s" width="18" height="%s"/>`, n(at-9), n(mid), n(h-foot-mid))
	p := &path{}
	p.to(at+6, mid+2)
	p.to(at, mid+2)
	p.to(at, h-foot-2)
	p.to(at+6, h-foot-2)
	s.path("bracket", p)
	s.WriteString("</g>")
	return s.done()
}

// Correlated draws the correlation over time, one value each 400 ms, hatched where it is under zero; dashed what is asked of
// the worst tenth.
func Correlated(v WidthSides) template.HTML {
	const w, h, left, right, top, foot = 774.0, 92.0, 62.0, 8.0, 8.0, 16.0
	s := newSVG(
		"correlated",
		w,
		h,
		"Correlation over time of "+v.Name,
		"The correlation of left and right, every 400 ms, from minus one to one; hatched where it is under zero: there mono takes sound out.",
	)
	y := func(c float64) float64 { return top + (1-c)/2*(h-top-foot) }
	for _, c := range []float64{1, 0, -1} {
		s.line("rule", left, y(c), w-right, y(c))
		s.text("tick", "end", left-6, y(c)+4, figure.Signed(c, 0))
	}
	count := len(v.Now.Track)
	if count == 0 {
		s.text("tick", "start", left+4, y(0)-6, "one channel: nothing to correlate")
		return s.done()
	}
	x := func(i float64) float64 { return left + i/float64(count)*(w-left-right) }
	for _, b := range v.Beats {
		at := left + (b.At-v.From)/math.Max(1e-9, v.Length)*(w-left-right)
		s.line("beat", at, top, at, h-foot)
		s.text("tick", "start", at+3, h-3, b.Name)
	}
	for i, c := range v.Now.Track {
		if !c.Valid() {
			continue
		}
		a, b := x(float64(i)), x(float64(i+1))
		p := &path{}
		p.to(a, y(0))
		p.to(a, y(float64(c)))
		p.to(b, y(float64(c)))
		p.to(b, y(0))
		if c < 0 {
			s.hatch(p.close())
		} else {
			s.path("mid-fill", p.close())
		}
		s.line("track", a, y(float64(c)), b, y(float64(c)))
	}
	s.line("axis", left, y(0), w-right, y(0))
	if v.Target != 0 {
		s.line("asked", left, y(v.Target), w-right, y(v.Target))
	}
	return s.done()
}
