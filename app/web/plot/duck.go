package plot

import (
	"fmt"
	"html/template"
	"math"

	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

// Editor is the duck editor: the median hit of the loop over the gain curve.
type Editor struct {
	Width, Height float64
	Kick          Envelope
	Before        Envelope // of the bass
	Bass          Envelope // after
	KickBefore    Envelope // of the kick, where it makes room; else nil
	Offset        int
	Hits          []meter.Hit
	Duck          *move.Duck // at tempo; nil where there is none
	Closest       *move.Duck // as it is where the next hit is closest; nil where that is no other
	BPM           float64
	Handover      meter.Figure // median, after
	BassName      string
	Gain          []float32 // of a keyed duck, one value a ms, amplitude, from GainFrom s on
	GainFrom      float64
}

// keyed reports whether the gain is drawn as measured, without points.
func (e Editor) keyed() bool { return e.Duck != nil && e.Duck.Keyed() }

// part names the part that makes room.
func (e Editor) part() string {
	if e.KickBefore != nil {
		return "kick"
	}
	return "bass"
}

// gainAt returns the median gain in dB some ms after the hits of a keyed duck.
func (e Editor) gainAt(ms float64) float64 {
	var v []float64
	for _, h := range e.Hits {
		i := int(math.Round((h.At + ms/1000 - e.GainFrom) * 1000))
		if i >= 0 && i < len(e.Gain) && ms/1000 < h.Gap {
			v = append(v, float64(e.Gain[i]))
		}
	}
	if len(v) == 0 {
		return 0
	}
	return 20 * math.Log10(math.Max(1e-3, meter.Middle(v)))
}

// Geometry of the editor that the script needs too, in drawing units.
const (
	editorLeft  = 44.0
	editorRight = 12.0
	laneTop     = 0.62 // of the height: where the gain lane begins
	laneFoot    = 34.0
	laneDeepest = 18.0 // dB at the top of the lane, at least
)

// scaleOf returns the time range in ms and the depth in dB that the editor shows.
func (e Editor) scaleOf() (from, to, deep float64) {
	from, to, deep = -30, 260, laneDeepest
	if e.Duck != nil {
		a, b := e.Duck.Span()
		from, to = math.Min(from, a-10), math.Max(to, b+25)
		depth := e.Duck.Depth()
		if e.keyed() {
			for ms := from; ms < to; ms += 5 {
				depth = math.Min(depth, e.gainAt(ms))
			}
		}
		deep = math.Max(deep, 6*math.Ceil((2-depth)/6))
	}
	return from, to, deep
}

// DuckEditor draws the editor. Points carry their place, so that they can be dragged, moved
// by keys and read out.
// Long because it is one drawing, from back to front.
func DuckEditor(e Editor) template.HTML {
	from, to, deep := e.scaleOf()
	s := newSVG(
		"duck-editor",
		e.Width,
		e.Height,
		"The median hit and the gain of the "+e.part(),
		"Above, the kick over the line and the bass below it at the median hit, collision hatched, the "+e.part()+" before the duck as a thin line. Below, the "+
			"gain curve: the higher it rises, the less of the "+e.part()+" is left.",
	)
	lane := math.Round(e.Height * laneTop)
	bottom := e.Height - laneFoot
	x := func(ms float64) float64 {
		return editorLeft + (ms-from)/(to-from)*(e.Width-editorLeft-editorRight)
	}
	y := func(db float64) float64 { return bottom + db/deep*(bottom-lane-8) }

	e.grid(s, x, from, to, bottom)
	mid := (lane - 6) * 0.52
	xs, kick, bass, before := e.medianHit(x, from, to)
	if e.KickBefore != nil { // the kick makes room: it is the one that was changed
		k := e
		k.Kick = e.KickBefore
		_, before, _, _ = k.medianHit(x, from, to)
	}
	top := 1e-9
	for i := range kick {
		top = math.Max(top, math.Max(kick[i], math.Max(bass[i], before[i])))
	}
	scale := (mid - 12) / top
	changed := before
	if e.Duck == nil {
		changed = nil
	}
	if e.KickBefore != nil {
		s.mirrored(xs, kick, bass, nil, mid, scale)
		if changed != nil {
			s.path("kick-before", curve(xs, changed, mid, scale))
		}
	} else {
		s.mirrored(xs, kick, bass, changed, mid, scale)
	}
	s.line("axis", editorLeft, mid, e.Width-editorRight, mid)
	s.text("kick-label", "start", 0, mid-24, "Kick")
	s.text("bass-label", "start", 0, mid+32, e.BassName)
	if e.Handover.Valid() && float64(e.Handover) > from && float64(e.Handover) < to {
		hx := x(float64(e.Handover))
		grip := e.Duck != nil && e.KickBefore == nil
		if grip {
			label := fmt.Sprintf("Handover at %s ms: drag, or arrow keys; the kick's tail and the duck move together", value(e.Handover, 0))
			s.add(
				`<g class="slide" id="handover-grip" tabindex="0" role="slider" aria-label="%s" aria-valuenow="%s" aria-valuemin="20" aria-valuemax="400" `+
					`data-post="/duck/handover" data-heard="true" data-name="ms" data-step="2" data-per="%s" data-width="%s"><title>%s</title><rect class="reach" x="%s" `+
					`y="8" width="16" height="%s"/>`,
				esc(label),
				exact(math.Round(float64(e.Handover))),
				exact((to-from)/(e.Width-editorLeft-editorRight)),
				n(e.Width),
				esc(label),
				n(hx-8),
				n(lane-20),
			)
		}
		s.line("handover", hx, 16, hx, lane-10)
		s.add(`<text class="note" x="%s" y="24">handover <tspan class="n">%s ms</tspan></text>`, n(hx+6), value(e.Handover, 0))
		if grip {
			s.add(`<rect class="knob" x="%s" y="%s" width="8" height="8"/></g>`, n(hx-4), n(mid-4))
		}
	}

	for db := 0.0; db <= deep; db += 6 {
		s.line("rule", editorLeft, y(-db), e.Width-editorRight, y(-db))
		s.text("tick", "end", editorLeft-6, y(-db)+4, figure.Signed(-db, 0))
	}
	s.text("unit", "start", 0, lane+6, "dB")
	s.text("note", "end", e.Width-editorRight-2, lane+4, "gain of the "+e.part()+": up is less of it")
	if e.Duck != nil {
		e.gain(s, x, y, from, to)
	}
	s.add(`<line class="playhead" x1="0" x2="0" y1="8" y2="%s" hidden="hidden"/>`, n(e.Height-30))
	s.add(`<g class="scale" data-from="%s" data-to="%s" data-left="%s" data-right="%s" data-bottom="%s" data-top="%s" data-deep="%s" data-width="%s"></g>`,
		n(from), n(to), n(editorLeft), n(e.Width-editorRight), n(bottom), n(lane+8), n(deep), n(e.Width))
	return s.done()
}

// grid draws times in ms below and note values above them.
func (e Editor) grid(s *svg, x func(float64) float64, from, to, bottom float64) {
	step := 50.0
	for (to-from)/step > 9 {
		step *= 2
	}
	for t := math.Ceil(from/step) * step; t <= to; t += step {
		s.text("tick", "middle", x(t), bottom+16, figure.Signed(t, 0)+" ms")
		s.line("tickmark", x(t), bottom, x(t), bottom+4)
	}
	s.line("zero", x(0), 8, x(0), bottom)
	for _, note := range []string{"1/64", "1/32", "1/16", "1/8", "1/4", "1/2"} {
		ms, err := field.NoteMS(note, e.BPM)
		if err != nil || ms > to {
			continue
		}
		s.line("beat", x(ms), 8, x(ms), bottom)
		s.text("tick", "middle", x(ms), bottom+29, note)
	}
}

// medianHit returns the medians over the hits of the envelopes, ms by ms; a hit counts only
// until the next one begins.
func (e Editor) medianHit(x func(float64) float64, from, to float64) (xs, kick, bass, before []float64) {
	stepMS := 1000 * meter.EnvelopeStep
	stride := math.Max(1, math.Floor((to-from)/stepMS/280))
	var k, b, w []float64
	for t := math.Floor(from); t <= to; t += stepMS * stride {
		k, b, w = k[:0], b[:0], w[:0]
		for _, h := range e.Hits {
			if t/1000 >= h.Gap {
				continue
			}
			i := int(math.Round((h.At+t/1000)/meter.EnvelopeStep)) + e.Offset
			k, b, w = append(k, e.Kick.at(i)), append(b, e.Bass.at(i)), append(w, e.Before.at(i))
		}
		if len(k) == 0 {
			break
		}
		xs = append(xs, x(t))
		kick, bass, before = append(kick, meter.Middle(k)), append(bass, meter.Middle(b)), append(before, meter.Middle(w))
	}
	if len(xs) == 0 {
		return []float64{x(from), x(to)}, []float64{0, 0}, []float64{0, 0}, []float64{0, 0}
	}
	return xs, kick, bass, before
}

// gain draws the curve, its segments and its points.
func (e Editor) gain(s *svg, x, y func(float64) float64, from, to float64) {
	p, fill := &path{}, &path{}
	fill.to(x(from), y(0))
	for i := 0; i <= 400; i++ {
		ms := from + (to-from)*float64(i)/400
		db := e.Duck.GainDB(ms)
		if e.keyed() {
			db = e.gainAt(ms)
		}
		p.to(x(ms), y(db))
		fill.to(x(ms), y(db))
	}
	fill.to(x(to), y(0))
	s.path("gain-fill", fill.close())
	if e.Closest != nil {
		c := &path{}
		for i := 0; i <= 400; i++ {
			ms := from + (to-from)*float64(i)/400
			c.to(x(ms), y(e.Closest.GainDB(ms)))
		}
		s.path("gain-closest", c)
		_, end := e.Closest.Span()
		s.text("note", "start", x(end)+6, y(e.Closest.Depth()/3), "dashed: at the closest hits")
	}
	s.path("gain", p)
	for i, pt := range e.Duck.Points {
		end := i == 0 || i == len(e.Duck.Points)-1
		label := fmt.Sprintf("Point %d of %d: %s ms, %s dB", i+1, len(e.Duck.Points), figure.Signed(pt.MS, 1), figure.Signed(pt.DB, 1))
		s.add(
			`<g class="point" id="point-%d" tabindex="0" role="slider" aria-label="%s" aria-valuenow="%s" aria-valuemin="%g" aria-valuemax="0" aria-valuetext="%s" `+
				`data-i="%d" data-ms="%s" data-db="%s" data-end="%t">`,
			i,
			esc(label),
			n(pt.DB),
			move.DuckFloor,
			esc(label),
			i,
			exact(pt.MS),
			exact(pt.DB),
			end,
		)
		s.add(`<title>%s</title><rect class="reach" x="%s" y="%s" width="24" height="24"/><rect class="knob" x="%s" y="%s" width="10" height="10"/></g>`,
			esc(label), n(x(pt.MS)-12), n(y(pt.DB)-12), n(x(pt.MS)-5), n(y(pt.DB)-5))
	}
}

func exact(v float64) string { return fmt.Sprintf("%g", math.Round(v*1000)/1000) }

// TradePoint is one point of a trade-off.
type TradePoint struct{ Clearance, Loss, Bound float64 }

// Trade draws what a clearance would cost of the part that makes room, bass or kick, with the target
// marked; under it, dotted, the least that any curve could lose.
// Long because a picture is drawn from back to front.
func Trade(points []TradePoint, target float64, part string) template.HTML {
	const w, h, left, right, bottom, top = 282.0, 128.0, 34.0, 12.0, 102.0, 14.0
	most := 1.0
	for _, p := range points {
		most = math.Max(most, p.Loss)
	}
	s := newSVG(
		"trade",
		w,
		h,
		"What clearance costs",
		"The least loss of "+part+" in 20 to 150 Hz, in dB, for each clearance asked in the worst tenth of hits; dotted under it, what no curve that goes down "+
			"once does it with less than.",
	)
	x := func(c float64) float64 { return left + c/20*(w-left-right) }
	y := func(l float64) float64 { return bottom - l/most*(bottom-top) }
	s.line("rule", left, bottom, w-right, bottom)
	s.line("rule", left, top, left, bottom)
	s.text("tick", "end", left-4, top+4, figure.Signed(most, 1))
	s.text("tick", "end", left-4, bottom+4, "0")
	s.text("unit", "start", left+4, top-2, "dB of "+part+" lost")
	for c := 0.0; c <= 20; c += 5 {
		s.text("tick", "middle", x(c), bottom+14, figure.Signed(c, 0))
	}
	s.text("unit", "end", w-right, bottom+25, "dB of clearance asked")
	if len(points) > 0 {
		p, b := &path{}, &path{}
		bound := false
		for _, t := range points {
			p.to(x(t.Clearance), y(t.Loss))
			b.to(x(t.Clearance), y(t.Bound))
			bound = bound || t.Bound > 0
		}
		if bound {
			s.path("bound", b)
		}
		s.path("gain", p)
		last := points[len(points)-1]
		if target <= last.Clearance {
			at := int(target)
			loss := points[at].Loss
			if at+1 < len(points) {
				loss += (target - float64(at)) * (points[at+1].Loss - loss)
			}
			label := fmt.Sprintf("Clearance asked: %s dB, costs %s dB of %s", figure.Signed(target, 1), figure.Signed(loss, 1), part)
			s.add(
				`<g class="slide" id="trade-knob" tabindex="0" role="slider" aria-label="%s" aria-valuenow="%s" aria-valuemin="0" aria-valuemax="20" `+
					`data-post="/duck/targets" data-name="clearance" data-step="0.5" data-per="%s" data-width="%s"><title>%s. Drag, or arrow keys</title><rect `+
					`class="reach" x="%s" y="%s" width="22" height="22"/><rect class="knob" x="%s" y="%s" width="8" height="8"/></g>`,
				esc(label),
				exact(target),
				exact(20/(x(20)-x(0))),
				n(w),
				esc(label),
				n(x(target)-11),
				n(y(loss)-11),
				n(x(target)-4),
				n(y(loss)-4),
			)
		} else {
			s.text("note", "end", w-right, y(last.Loss)+14, "no further")
		}
	}
	return s.done()
}

// Back is a gain that was planned and the one that came back.
type Back struct{ MS, Planned, Got []float64 }

// CameBack draws what a bounce did against its plan: planned thin, achieved bold.
func CameBack(b Back) template.HTML {
	const w, h, left, right, top, bottom = 282.0, 118.0, 34.0, 8.0, 8.0, 96.0
	s := newSVG("came-back", w, h, "What came back", "Gain of the bounced bass against the planned one, in dB, over the time after the hit.")
	if len(b.MS) < 2 {
		return s.done()
	}
	deep := 6.0
	for i := range b.MS {
		deep = math.Max(deep, math.Max(-b.Planned[i], -b.Got[i]))
	}
	deep = math.Min(36, 6*math.Ceil(deep/6))
	x := func(ms float64) float64 {
		return left + (ms-b.MS[0])/(b.MS[len(b.MS)-1]-b.MS[0])*(w-left-right)
	}
	y := func(db float64) float64 { return top + math.Max(-3, math.Min(deep, -db))/deep*(bottom-top) }
	for db := 0.0; db <= deep; db += 6 {
		s.line("rule", left, y(-db), w-right, y(-db))
		s.text("n tick", "end", left-4, y(-db)+4, figure.Signed(-db, 0))
	}
	plan, got := &path{}, &path{}
	for i, ms := range b.MS {
		plan.to(x(ms), y(b.Planned[i]))
		got.to(x(ms), y(b.Got[i]))
	}
	s.path("bass bass-thin bass-before", plan)
	s.path("gain", got)
	for _, ms := range []float64{0, 100, 200} {
		s.text("n tick", "middle", x(ms), h-6, figure.Signed(ms, 0)+" ms")
	}
	return s.done()
}
