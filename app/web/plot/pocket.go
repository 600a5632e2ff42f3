package plot

import (
	"fmt"
	"html/template"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// Mirror is kick and bass over frequency, in bands of a semitone.
type Mirror struct {
	Kick, Bass []float64 // amplitudes of the fine bands
	HomeHz     float64
	Settled    bool // the kick stays there
	BassName   string
	Notes      []float64 // Hz of the notes that the bass plays
}

// Mirrored draws the kick standing and the bass hanging on one note-labelled axis of frequency, the
// collision hatched.
// Long because it is one drawing, from back to front.
func Mirrored(m Mirror) template.HTML {
	const w, h, left, right = 760.0, 246.0, 40.0, 8.0
	d := newSVG(
		"mirror",
		w,
		h,
		"Kick and bass in frequency",
		"Stairs of a semitone from 26 to 290 Hz: the kick above the line, the bass below it, where both are is hatched.",
	)
	n := len(m.Kick)
	top := 1e-9
	for i := range m.Kick {
		top = math.Max(top, math.Max(m.Kick[i], m.Bass[i]))
	}
	mid, scale := 118.0, 100.0/top
	step := (w - left - right) / float64(n)
	x := func(i float64) float64 { return left + i*step }
	at := func(hz float64) float64 { return x(12*math.Log2(hz/meter.FineLow) + 0.5) }
	last, row := -100.0, 0.0
	for midi := 24; midi <= 60; midi++ {
		hz := meter.NoteHz(midi)
		if hz < meter.FineLow || at(hz) > w-right {
			continue
		}
		played := false
		for _, v := range m.Notes {
			played = played || math.Abs(12*math.Log2(v/hz)) < 0.5
		}
		if midi%12 != 0 && !played {
			continue
		}
		note, _ := meter.Note(hz)
		class := "tick"
		if played {
			class = "note"
		}
		if at(hz)-last < 30 { // two names side by side take turns
			row = 12 - row
		} else {
			row = 0
		}
		last = at(hz)
		d.line("beat", at(hz), 12, at(hz), mid+100)
		d.text(class, "middle", at(hz), mid+111+row, note)
		if row == 0 && !played {
			d.text("n tick", "middle", at(hz), mid+123, fmt.Sprintf("%.1f", hz))
		}
	}
	kick, bass, both, edge := &path{}, &path{}, &path{}, &path{}
	stairs := func(p *path, ys []float64, sign float64, close bool) {
		if close {
			p.to(x(0), mid)
		}
		for i, v := range ys {
			p.to(x(float64(i)), mid-sign*v*scale)
			p.to(x(float64(i+1)), mid-sign*v*scale)
		}
		if close {
			p.to(x(float64(n)), mid)
			p.close()
		}
	}
	stairs(kick, m.Kick, 1, true)
	stairs(bass, m.Bass, -1, true)
	stairs(edge, m.Bass, -1, false)
	clash := make([]float64, n)
	for i := range clash {
		clash[i] = math.Min(m.Kick[i], m.Bass[i])
	}
	stairs(both, clash, 1, false)
	for i := n - 1; i >= 0; i-- {
		both.to(x(float64(i+1)), mid+clash[i]*scale)
		both.to(x(float64(i)), mid+clash[i]*scale)
	}
	d.path("kick", kick)
	d.path("bass-fill", bass)
	d.hatch(both.close())
	d.path("bass", edge)
	d.line("axis", left, mid, w-right, mid)
	if m.HomeHz > 0 {
		lo, hi := meter.HomeBand(m.HomeHz)
		p := &path{}
		p.to(at(lo), 10)
		p.to(at(lo), 4)
		p.to(at(hi), 4)
		p.to(at(hi), 10)
		d.path("bracket", p)
		does := "settles"
		if !m.Settled {
			does = "is loudest"
		}
		d.text("note", "start", at(hi)+6, 11, fmt.Sprintf("the kick %s at %.1f Hz; its home octave", does, m.HomeHz))
	}
	d.text("kick-label", "start", 0, mid-60, "Kick")
	d.text("bass-label", "start", 0, mid+60, short(m.BassName))
	return d.done()
}

// OptionBar is the kick at another pitch.
type OptionBar struct {
	Semitones int
	Clearance meter.Figure
}

// Options draws the kick's clearance at pitches around its own; the one it has is solid.
func Options(bars []OptionBar, target float64) template.HTML {
	const w, h, left, foot = 372.0, 150.0, 26.0, 20.0
	d := newSVG("kick-options", w, h, "The kick at other pitches", "Median clearance over the whole line with the kick tuned from five semitones down to five up.")
	low, high := math.Min(0, -1), target+2
	for _, b := range bars {
		if b.Clearance.Valid() {
			low, high = math.Min(low, float64(b.Clearance)-1), math.Max(high, float64(b.Clearance)+2)
		}
	}
	y := func(v float64) float64 { return 14 + (high-v)/(high-low)*(h-foot-16) }
	step := (w - left) / float64(len(bars))
	d.line("aimline", left, y(target), w, y(target))
	d.text("tick aim", "end", left-3, y(target)+4, figure.Signed(target, 0))
	d.line("axis", left, y(0), w, y(0))
	for i, b := range bars {
		x := left + float64(i)*step
		class := "optionbar"
		if b.Semitones == 0 {
			class += " now"
		}
		if b.Clearance.Valid() {
			v := float64(b.Clearance)
			d.add(
				`<g class="option" data-semitones="%d"><rect class="%s" x="%s" y="%s" width="%s" height="%s"/>`,
				b.Semitones,
				class,
				n(x+4),
				n(math.Min(y(0), y(v))),
				n(step-8),
				n(math.Max(1, math.Abs(y(v)-y(0)))),
			)
			d.text("n clearance", "middle", x+step/2, math.Min(y(0), y(v))-4, figure.Signed(v, 1))
			d.add(`</g>`)
		}
		label := figure.Signed(float64(b.Semitones), 0)
		if b.Semitones > 0 {
			label = "+" + label
		}
		d.text("n tick", "middle", x+step/2, h-5, label)
	}
	return d.done()
}

// NudgeCurve is the phase sum with the bass moved.
type NudgeCurve struct {
	MS          []float64
	As, Flipped []meter.Figure
	Best        float64 // ms
	BestFlip    bool
	BestSum     meter.Figure
}

// Nudge draws what moving the bass does to the phase sum: bold as it is, thin turned over.
func Nudge(c NudgeCurve) template.HTML {
	const w, h, left, foot = 372.0, 150.0, 26.0, 20.0
	d := newSVG("nudge", w, h, "The bass moved", "Median phase sum over all hits with the bass moved by up to 12 ms, as it is and turned over.")
	if len(c.MS) == 0 {
		return d.done()
	}
	first, last := c.MS[0], c.MS[len(c.MS)-1]
	x := func(ms float64) float64 { return left + (ms-first)/(last-first)*(w-left-6) }
	y := func(v float64) float64 { return 10 + (3.2-math.Max(-8, v))/11.2*(h-foot-14) }
	for _, v := range []float64{3, 0, -3, -6} {
		d.line("rule", left, y(v), w-6, y(v))
		t := figure.Signed(v, 0)
		if v > 0 {
			t = "+" + t
		}
		d.text("n tick", "end", left-4, y(v)+4, t)
	}
	d.line("handover", x(0), 8, x(0), h-foot)
	for _, curve := range []struct {
		class string
		v     []meter.Figure
		flip  bool
	}{{"bass bass-thin bass-before", c.Flipped, true}, {"bass", c.As, false}} {
		p := &path{}
		for i, v := range curve.v {
			if v.Valid() {
				p.to(x(c.MS[i]), y(float64(v)))
			}
		}
		if p.Len() > 0 {
			d.path(curve.class, p)
		}
	}
	if c.BestSum.Valid() {
		bx, by := x(c.Best), y(float64(c.BestSum))
		d.add(`<rect class="knob" x="%s" y="%s" width="9" height="9"/>`, n(bx-4.5), n(by-4.5))
		t := fmt.Sprintf("%s ms, %s dB", figure.Signed(c.Best, 1), figure.Signed(float64(c.BestSum), 1))
		if c.BestFlip {
			t += ", turned over"
		}
		const letter = 6.3 // drawing units that a letter takes, about
		anchor, off := "start", 9.0
		if bx+off+letter*float64(len([]rune(t))) > w {
			anchor, off = "end", -9
		}
		d.text("n note", anchor, bx+off, by+34, t)
	}
	for _, ms := range []float64{-12, -6, 0, 6, 12} {
		d.text("n tick", "middle", math.Min(x(ms), w-14), h-5, figure.Signed(ms, 0))
	}
	return d.done()
}
