package plot

import (
	"html/template"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// LevelBar is a level on a line from -40 to +3 dBFS: a tick in or out of its bracket.
type LevelBar struct {
	ID, Name, Role string
	Peak           meter.Figure
	Was            meter.Figure // as the file came, drawn thin; None: not drawn
	Lo, Hi         float64      // the bracket, dBFS; NaN: no such end
	Out            bool         // the tick lies outside
}

const (
	barLow, barHigh = -40.0, 3.0
	barW, barH      = 232.0, 26.0
)

// BarScale returns where on the bar a level lies, in per cent of its width.
func BarScale(db float64) float64 {
	return 100 * (math.Max(barLow, math.Min(barHigh, db)) - barLow) / (barHigh - barLow)
}

// Level draws a LevelBar.
func Level(b LevelBar) template.HTML {
	x := func(db float64) float64 { return 2 + BarScale(db)/100*(barW-4) }
	desc := "No level."
	if b.Peak.Valid() {
		desc = "Peak " + figure.Signed(float64(b.Peak), 1) + " dBFS"
		if b.Out {
			desc += ", outside its bracket"
		}
	}
	d := newSVG(b.ID, barW, barH, "Level of "+b.Name, desc)
	mid := barH / 2
	d.line("rule", 2, mid, barW-2, mid)
	d.line("full", x(0), mid-9, x(0), mid+9)
	bracket := func(db, dir float64) {
		if math.IsNaN(db) {
			return
		}
		p := &path{}
		p.to(x(db)+3*dir, mid-7)
		p.to(x(db), mid-7)
		p.to(x(db), mid+7)
		p.to(x(db)+3*dir, mid+7)
		d.path("bracket", p)
	}
	bracket(b.Lo, 1)
	bracket(b.Hi, -1)
	if b.Was.Valid() && b.Peak.Valid() && math.Abs(float64(b.Was-b.Peak)) > 0.05 {
		d.line("tickwas", x(float64(b.Was)), mid-5, x(float64(b.Was)), mid+5)
	}
	if b.Peak.Valid() {
		at, class := x(float64(b.Peak)), "tickbar"
		switch {
		case b.Out:
			class += " out"
		case b.Role == "kick":
			class += " kick"
		}
		if b.Role == "bass" && !b.Out { // outlined, as the bass is everywhere
			d.add(`<rect class="tickbar bass" x="%s" y="%s" width="5" height="14"/>`, n(at-2.5), n(mid-7))
		} else {
			d.add(`<rect class="%s" x="%s" y="%s" width="4" height="15"/>`, class, n(at-2), n(mid-7.5))
		}
	}
	return d.done()
}

// SumStep is one stair of the running sum.
type SumStep struct {
	Name, Role string
	Peak, LUFS meter.Figure
}

// RunningSum draws the peak of the master as parts join it, as stairs against the aim and the
// line that it is never over.
func RunningSum(steps []SumStep, aim, limit float64) template.HTML {
	const w, left, top, foot = 300.0, 24.0, 14.0, 64.0
	const h = 236.0
	d := newSVG("running-sum", w, h, "Running sum", "Peak of the master as the parts join it in order, in dBFS.")
	low, high := aim-8, 1.0
	for _, s := range steps {
		if s.Peak.Valid() {
			low, high = math.Min(low, float64(s.Peak)-2), math.Max(high, float64(s.Peak)+1)
		}
	}
	low = math.Max(low, high-36)
	y := func(db float64) float64 { return top + (high-math.Max(db, low))/(high-low)*(h-top-foot) }
	d.add(`<rect class="overline" x="%s" y="%s" width="%s" height="%s"/>`, n(left), n(top), n(w-left-6), n(y(limit)-top))
	d.line("limitline", left, y(limit), w-6, y(limit))
	d.line("aimline", left, y(aim), w-6, y(aim))
	d.line("full", left, y(0), w-6, y(0))
	if len(steps) == 0 {
		return d.done()
	}
	width := (w - left - 6) / float64(len(steps))
	p := &path{}
	words := &labels{}
	every := int(math.Ceil(nameHigh / width)) // of the names, one in so many has room
	last := len(steps) - 1
	if s := steps[last]; s.Peak.Valid() { // where the sum ends is told in any case
		words.put(left+(float64(last)+0.5)*width, y(float64(s.Peak))-4, figure.Signed(float64(s.Peak), 1), true)
	}
	for i, s := range steps {
		x := left + float64(i)*width
		level := low
		if s.Peak.Valid() {
			level = float64(s.Peak)
		}
		if s.Role == "kick" {
			d.add(`<rect class="stair kick" x="%s" y="%s" width="%s" height="%s"/>`, n(x), n(y(level)), n(width), n(math.Max(0, y(low)-y(level))))
		}
		p.to(x, y(level))
		p.to(x+width, y(level))
		if s.Peak.Valid() && i != last {
			words.put(x+width/2, y(level)-4, figure.Signed(level, 1), false)
		}
		if (last-i)%every != 0 {
			continue
		}
		d.add(`<text class="tick" text-anchor="end" transform="translate(%s %s) rotate(-52)">%s</text>`, n(x+width/2+3), n(h-foot+12), esc(short(s.Name)))
	}
	d.path("sumline", p)
	for _, l := range words.all {
		d.text("n clearance", "middle", l.x, l.y, l.text)
	}
	return d.done()
}

// labels are figures in a drawing, none over another.
type labels struct{ all []label }

type label struct {
	x, y float64
	text string
}

// What a figure and a slanted name take of room, drawing units.
const (
	digitWide = 6.4
	digitHigh = 11.0
	nameHigh  = 12.0
)

// put places a figure where no other is; always: in any case.
func (l *labels) put(x, y float64, text string, always bool) {
	for _, o := range l.all {
		wide := digitWide * float64(len([]rune(text))+len([]rune(o.text))) / 2
		if !always && math.Abs(o.x-x) < wide && math.Abs(o.y-y) < digitHigh {
			return
		}
	}
	l.all = append(l.all, label{x, y, text})
}

// short cuts a name so that it fits under its stair.
func short(s string) string {
	if r := []rune(s); len(r) > 11 {
		return string(r[:10]) + "…"
	}
	return s
}
