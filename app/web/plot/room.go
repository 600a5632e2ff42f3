package plot

import (
	"fmt"
	"html/template"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// Cellar is kick and bass over everything else, by third-octave.
type Cellar struct {
	Pair, Rest []meter.Figure // from 20 Hz on, dBFS
	Label      string         // of kick and bass
}

// cellarNear is within how many dB of kick and bass the rest counts as in the way.
const cellarNear = 12.0

// CellarStairs draws kick and bass standing and the rest hanging below them, 20 Hz to 1 kHz, hatched where the rest comes
// within 12 dB.
// Long because it is one drawing, from back to front.
func CellarStairs(c Cellar) template.HTML {
	const w, h, left, right, mid, foot, deep = 774.0, 216.0, 62.0, 8.0, 98.0, 30.0, 48.0
	s := newSVG(
		"cellar",
		w,
		h,
		"Kick and bass over the rest",
		"Stairs of a third of an octave from 20 Hz to 1 kHz, in decibels: kick and bass above the line, everything else below it; where the rest comes within 12 "+
			"dB of them is hatched.",
	)
	bands := 0
	for bands < len(c.Pair) && meter.BandHz(bands) < 1100 {
		bands++
	}
	lo, hi := meter.BandHz(0)/math.Pow(10, 0.05), meter.BandHz(bands-1)*math.Pow(10, 0.05)
	x := func(hz float64) float64 { return left + math.Log(hz/lo)/math.Log(hi/lo)*(w-left-right) }
	top := math.Inf(-1)
	for i := range bands {
		for _, l := range []meter.Figure{c.Pair[i], c.Rest[i]} {
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
	for _, hz := range []float64{20, 50, 100, 200, 500, 1000} {
		s.line("beat", x(hz), 10, x(hz), h-foot+2)
		s.text("tick", "middle", math.Min(x(hz), w-24), h-4, hzLabel(hz))
	}
	for midi := 24; midi <= 72; midi += 12 {
		note, _ := meter.Note(meter.NoteHz(midi))
		s.text("note", "middle", x(meter.NoteHz(midi)), h-foot+12, note)
	}
	pair, rest, edge := &path{}, &path{}, &path{}
	pair.to(x(lo), mid)
	rest.to(x(lo), mid)
	for i := range bands {
		a, b := x(meter.BandHz(i)/math.Pow(10, 0.05)), x(meter.BandHz(i)*math.Pow(10, 0.05))
		up, down := mid-height(c.Pair[i]), mid+height(c.Rest[i])
		pair.to(a, up)
		pair.to(b, up)
		rest.to(a, down)
		rest.to(b, down)
		edge.to(a, down)
		edge.to(b, down)
	}
	pair.to(x(hi), mid)
	rest.to(x(hi), mid)
	s.path("kick", pair.close())
	s.path("rest-fill", rest.close())
	for i := range bands {
		p, r := c.Pair[i], c.Rest[i]
		if !r.Valid() || height(r) <= 0 || p.Valid() && float64(p-r) >= cellarNear {
			continue
		}
		a, b := x(meter.BandHz(i)/math.Pow(10, 0.05)), x(meter.BandHz(i)*math.Pow(10, 0.05))
		both := &path{}
		both.to(a, mid-math.Min(height(p), height(r)))
		both.to(b, mid-math.Min(height(p), height(r)))
		both.to(b, mid+height(r))
		both.to(a, mid+height(r))
		s.hatch(both.close())
	}
	s.path("rest", edge)
	s.line("axis", left, mid, w-right, mid)
	s.text("kick-label", "start", 0, mid-8, short(c.Label))
	s.text("rest-label", "start", 0, mid+18, "rest")
	s.text("unit", "start", 0, 10, "dBFS")
	return s.done()
}

func hzLabel(hz float64) string {
	if hz >= 1000 {
		return fmt.Sprintf("%gk", hz/1000)
	}
	return fmt.Sprintf("%g", hz)
}

// RoomRow is one stem's spectrum with what may go of it.
type RoomRow struct {
	ID, Name              string
	Spectrum              []meter.Figure // third-octaves from 20 Hz on, dBFS
	LowAlone, LowMix, Low float64        // Hz: the corners that go unheard, and the cut that is set; 0: none
	HighAlone, HighMix    float64
	High                  float64
}

// Geometry of the strips that the script needs too.
const (
	stripWide, stripHigh = 430.0, 34.0
	stripLo, stripHi     = 20.0, 20000.0
)

// RoomStrip draws it: grey what may go in the mix, between brackets that can be dragged; a corner mark where it may go
// alone.
func RoomStrip(v RoomRow) template.HTML {
	s := newSVG("strip-"+v.ID, stripWide, stripHigh, "What may go of "+v.Name, "Its spectrum from 20 Hz to 20 kHz; grey where nobody hears it missing in the mix.")
	x := func(hz float64) float64 { return math.Log(hz/stripLo) / math.Log(stripHi/stripLo) * stripWide }
	foot := stripHigh - 3
	low, high := v.Low, v.High
	if low == 0 {
		low = v.LowMix
	}
	if high == 0 {
		high = v.HighMix
	}
	grey := func(a, b float64) {
		if b > a {
			s.add(`<rect class="may-go" x="%s" y="2" width="%s" height="%s"/>`, n(a), n(b-a), n(foot-2))
		}
	}
	if v.LowMix > 0 {
		grey(0, x(v.LowMix))
	}
	if v.HighMix > 0 {
		grey(x(v.HighMix), stripWide)
	}
	top := math.Inf(-1)
	for _, l := range v.Spectrum {
		if l.Valid() {
			top = math.Max(top, float64(l))
		}
	}
	p := &path{}
	for i, l := range v.Spectrum {
		y := foot
		if l.Valid() {
			y = foot - math.Max(0, float64(l)-top+48)/48*(foot-4)
		}
		p.to(x(meter.BandHz(i)), y)
	}
	if len(v.Spectrum) > 0 {
		s.path("spectrum", p)
	}
	s.line("rule", 0, foot, stripWide, foot)
	corner := func(hz, sign float64) {
		if hz > 0 {
			q := &path{}
			q.to(x(hz), 12)
			q.to(x(hz), 3)
			q.to(x(hz)+6*sign, 3)
			s.path("alone-mark", q)
		}
	}
	corner(v.LowAlone, 1)
	corner(v.HighAlone, -1)
	s.edge(v, roomEdge{side: "low", hz: low, set: v.Low > 0, foot: foot, sign: 1}, x)
	s.edge(v, roomEdge{side: "high", hz: high, set: v.High > 0, foot: foot, sign: -1}, x)
	return s.done()
}

// roomEdge is an end of what of a stem is cut.
type roomEdge struct {
	side string  // low or high
	hz   float64 // 0: nothing is cut there
	set  bool    // it is set, not only proposed
	foot float64 // px of the picture's line
	sign float64 // to which side its bracket opens
}

// edge draws a bracket that can be dragged; where nothing is cut it waits at its end, or where nobody would hear it.
func (s *svg) edge(v RoomRow, e roomEdge, x func(float64) float64) {
	side, hz, foot, sign := e.side, e.hz, e.foot, e.sign
	at := 2.0
	if side == "high" {
		at = stripWide - 2
	}
	now := map[string]float64{"low": stripLo, "high": stripHi}[side]
	if hz > 0 {
		at, now = x(hz), hz
	}
	class, says := "edge", "proposed"
	if e.set {
		class, says = "edge set", "set"
	}
	label := fmt.Sprintf("%s cut of %s, %s: %s Hz", map[string]string{"low": "Low", "high": "High"}[side], v.Name, says, figure.Short(now))
	s.add(
		`<g class="%s" id="edge-%s-%s" tabindex="0" role="slider" aria-label="%s" aria-valuemin="20" aria-valuemax="20000" aria-valuenow="%s" `+
			`aria-valuetext="%s" data-stem="%s" data-side="%s" data-hz="%s" data-width="%s" data-lo="%s" data-hi="%s"><title>%s. Drag, or arrow keys; Shift `+
			`finer</title>`,
		class,
		esc(v.ID),
		side,
		esc(label),
		exact(now),
		esc(label),
		esc(v.ID),
		side,
		exact(now),
		n(stripWide),
		n(stripLo),
		n(stripHi),
		esc(label),
	)
	s.add(`<rect class="reach" x="%s" y="0" width="18" height="%s"/>`, n(at-9), n(stripHigh))
	p := &path{}
	p.to(at+5*sign, 2)
	p.to(at, 2)
	p.to(at, foot)
	p.to(at+5*sign, foot)
	s.path("bracket", p)
	s.WriteString("</g>")
}
