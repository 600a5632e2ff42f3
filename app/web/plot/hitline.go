package plot

import (
	"fmt"
	"html/template"
	"math"
)

// HitLine is a stretch of the song on its own time, with the kick's hits to be changed by hand.
type HitLine struct {
	Width, Height float64
	From, To      float64 // s
	Kick, Bass    []float64
	KickFrom      float64 // s, of their first value
	Step          float64 // s
	Marks         []HitLineMark
	Bar, Grid     float64 // s
	Name          func(at float64) string
}

// HitLineMark is a hit, or what could be one.
type HitLineMark struct {
	At    float64 // s
	Kind  string  // "found", "added", "doubtful", "out"
	Title string
}

const hitLinePad = 8.0

// HitLined draws it: what counts stands on the line at full height, what does not is short and dashed.
// Long because a picture is drawn from back to front.
func HitLined(o HitLine) template.HTML {
	count := 0
	for _, m := range o.Marks {
		if m.Kind == "found" || m.Kind == "added" {
			count++
		}
	}
	s := newSVG(
		"hitline",
		o.Width,
		o.Height,
		fmt.Sprintf("%d hits of the kick, to be changed by hand", count),
		"The kick above the line and the bass below it over the judged stretch. Full lines are hits; dashed ones are doubtful or left out. Click a mark for what "+
			"can be done with it, a gap to put a hit in; drag a mark to move it.",
	)
	mid := (o.Height + 4) / 2
	span := o.Width - 2*hitLinePad
	x := func(t float64) float64 { return hitLinePad + (t-o.From)/(o.To-o.From)*span }
	for k := math.Ceil((o.From - o.Grid) / (o.Bar / 4)); ; k++ {
		t := o.Grid + k*o.Bar/4
		if t >= o.To {
			break
		}
		if math.Mod(k, 4) == 0 {
			s.line("rule", x(t), 14, x(t), o.Height)
			s.text("tick", "start", x(t)+3, o.Height-2, o.Name(t+1e-6))
		} else if span/(o.To-o.From)*o.Bar/4 > 12 {
			s.line("beat", x(t), 16, x(t), o.Height-12)
		}
	}
	o.halves(s, mid, x)
	s.line("axis", hitLinePad, mid, o.Width-hitLinePad, mid)
	s.add(`<rect class="touch ground" x="0" y="0" width="%s" height="%s"/>`, n(o.Width), n(o.Height))
	for i, m := range o.Marks {
		to := o.Height - 14
		if m.Kind == "doubtful" || m.Kind == "out" {
			to = mid
		}
		s.add(
			`<g class="hitline-mark %s" id="mark-hit-%d" tabindex="0" role="button" aria-label="%s" data-at="%.6f" data-kind="%s"><title>%s</title>`,
			m.Kind,
			i,
			esc(m.Title),
			m.At,
			m.Kind,
			esc(m.Title),
		)
		s.line("stem", x(m.At), 12, x(m.At), to)
		switch m.Kind {
		case "added":
			s.add(`<rect class="head" x="%s" y="4" width="8" height="8"/>`, n(x(m.At)-4))
		case "out":
			s.add(`<path class="head" d="M%s 4l8 8m0 -8l-8 8"/>`, n(x(m.At)-4))
		default:
			s.add(`<path class="head" d="M%s 12l-4.500 -8h9z"/>`, n(x(m.At)))
		}
		s.add(`<rect class="reach" x="%s" y="0" width="12" height="%s"/></g>`, n(x(m.At)-6), n(to))
	}
	s.add(`<line class="playhead" data-on="time" x1="0" x2="0" y1="4" y2="%s" hidden="hidden"/>`, n(o.Height-12))
	s.add(
		`<g class="timescale" data-left="%s" data-right="%s" data-from="%.6f" data-to="%.6f" data-width="%s"></g>`,
		n(hitLinePad),
		n(o.Width-hitLinePad),
		o.From,
		o.To,
		n(o.Width),
	)
	return s.done()
}

// halves draws kick above and bass below, one value a pixel at the most.
func (o HitLine) halves(s *svg, mid float64, x func(float64) float64) {
	parts := int(o.Width - 2*hitLinePad)
	fold := func(of []float64) (xs, out []float64) {
		if len(of) == 0 {
			return nil, nil
		}
		top := 1e-9
		for p := range parts {
			t0 := o.From + (o.To-o.From)*float64(p)/float64(parts)
			t1 := o.From + (o.To-o.From)*float64(p+1)/float64(parts)
			a, b := int((t0-o.KickFrom)/o.Step), int((t1-o.KickFrom)/o.Step)
			v := 0.0
			for k := max(0, a); k <= min(b, len(of)-1); k++ {
				v = math.Max(v, of[k])
			}
			xs, out = append(xs, x((t0+t1)/2)), append(out, v)
			top = math.Max(top, v)
		}
		for i := range out {
			out[i] /= top
		}
		return xs, out
	}
	half := mid - 18
	if xs, k := fold(o.Kick); xs != nil {
		s.path("kick", outline(xs, k, mid, half))
	}
	if xs, b := fold(o.Bass); xs != nil {
		s.path("bass-fill bass-thin", outline(xs, b, mid, -half))
	}
}
