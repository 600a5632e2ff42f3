// Package plot draws results of the core as SVG, in one grammar: kick above the line, bass
// hanging below it on the same scale, collision hatched; before thin, after bold.
//
// Colours are CSS classes, so both themes and the greyscale reading come from one drawing.
package plot

import (
	"fmt"
	"html"
	"html/template"
	"math"
	"strconv"
	"strings"
)

// svg builds a drawing of fixed size.
type svg struct {
	strings.Builder
	w, h float64
	id   string
}

// newSVG begins a drawing with its title and description for those who do not see it.
func newSVG(id string, w, h float64, title, desc string) *svg {
	s := &svg{w: w, h: h, id: id}
	s.add(`<svg id="%s" class="plot" viewBox="0 0 %s %s" role="img" aria-labelledby="%s-t %s-d" xmlns="http://www.w3.org/2000/svg">`, id, n(w), n(h), id, id)
	s.add(`<title id="%s-t">%s</title><desc id="%s-d">%s</desc>`, id, esc(title), id, esc(desc))
	s.add(
		`<defs><pattern id="%s-x" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)"><rect width="6" height="6" `+
			`class="hatch-ground"/><line x1="0" y1="0" x2="0" y2="6" class="hatch-line"/></pattern></defs>`,
		id,
	)
	return s
}

// wide lets the drawing be as wide as its place, whatever its height: one without words or handles.
func (s *svg) wide() {
	out := strings.Replace(s.String(), ` role="img"`, ` preserveAspectRatio="none" role="img"`, 1)
	s.Reset()
	s.WriteString(out)
}

func (s *svg) add(format string, args ...any) { fmt.Fprintf(s, format, args...) }

// done ends the drawing. One with handles is a group of these, and no mere image.
func (s *svg) done() template.HTML {
	s.WriteString("</svg>")
	out := s.String()
	if strings.Contains(out, `role="slider"`) || strings.Contains(out, `role="button"`) {
		out = strings.Replace(out, `role="img"`, `role="group"`, 1)
	}
	return template.HTML(out)
}

func (s *svg) line(class string, x1, y1, x2, y2 float64) {
	s.add(`<line class="%s" x1="%s" y1="%s" x2="%s" y2="%s"/>`, class, n(x1), n(y1), n(x2), n(y2))
}

func (s *svg) text(class, anchor string, x, y float64, text string) {
	s.add(`<text class="%s" text-anchor="%s" x="%s" y="%s">%s</text>`, class, anchor, n(x), n(y), esc(text))
}

// hatch fills an outline with the collision hatching.
func (s *svg) hatch(p *path) {
	s.add(`<path fill="url(#%s-x)" class="clash" d="%s"/>`, s.id, p)
}

func (s *svg) path(class string, p *path) { s.add(`<path class="%s" d="%s"/>`, class, p) }

// path is an SVG path in the making.
type path struct{ strings.Builder }

func (p *path) to(x, y float64) {
	c := byte('L')
	if p.Len() == 0 {
		c = 'M'
	}
	p.WriteByte(c)
	p.WriteString(n(x))
	p.WriteByte(' ')
	p.WriteString(n(y))
}

func (p *path) close() *path { p.WriteByte('Z'); return p }

// n formats a coordinate shortly, to a tenth.
func n(v float64) string {
	t := math.Round(v * 10)
	if math.IsNaN(t) || math.IsInf(t, 0) || t == 0 {
		return "0"
	}
	var b [24]byte
	return string(strconv.AppendFloat(b[:0], t/10, 'f', -1, 64))
}

func esc(s string) string { return html.EscapeString(s) }

// area draws values y(i) over x as a filled shape standing on (up) or hanging from the line.
func outline(xs []float64, ys []float64, mid, scale float64) *path {
	p := &path{}
	p.to(xs[0], mid)
	for i, x := range xs {
		p.to(x, mid-ys[i]*scale)
	}
	p.to(xs[len(xs)-1], mid)
	return p.close()
}

func curve(xs []float64, ys []float64, mid, scale float64) *path {
	p := &path{}
	for i, x := range xs {
		p.to(x, mid-ys[i]*scale)
	}
	return p
}

// mirrored draws kick over bass with their collision: where both are there, as far as the
// smaller reaches on both sides.
func (s *svg) mirrored(xs, kick, bass, before []float64, mid, scale float64) {
	clash := make([]float64, len(xs))
	for i := range xs {
		clash[i] = math.Min(kick[i], bass[i])
	}
	s.path("kick", outline(xs, kick, mid, scale))
	s.path("bass-fill", outline(xs, bass, mid, -scale))
	both := &path{}
	for i, x := range xs {
		both.to(x, mid-clash[i]*scale)
	}
	for i := len(xs) - 1; i >= 0; i-- {
		both.to(xs[i], mid+clash[i]*scale)
	}
	s.hatch(both.close())
	if before != nil {
		s.path("bass-before", curve(xs, before, mid, -scale))
	}
	s.path("bass", curve(xs, bass, mid, -scale))
}

// Envelope is a stretch of an envelope in steps of a fixed time.
type Envelope []float32

// calmSteps is the length of the mean that Calm takes: about one ripple of the smoothed
// square of a bass note, which stands at twice the note's frequency.
const calmSteps = 13

// Calm returns the envelope averaged over 13 ms around each step, so that the ripple of the
// tone itself does not blur the drawing. Figures are never taken from it.
func Calm(e []float32) Envelope {
	out := make(Envelope, len(e))
	sum := 0.0
	for i := -calmSteps / 2; i < len(e); i++ {
		if j := i + calmSteps/2; j < len(e) {
			sum += float64(e[j])
		}
		if j := i - calmSteps/2 - 1; j >= 0 {
			sum -= float64(e[j])
		}
		if i >= 0 {
			out[i] = float32(max(0, sum) / calmSteps)
		}
	}
	return out
}

// at returns the value at step i, 0 outside.
func (e Envelope) at(i int) float64 {
	if i < 0 || i >= len(e) {
		return 0
	}
	return float64(e[i])
}
