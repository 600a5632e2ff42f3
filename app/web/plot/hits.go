package plot

import (
	"fmt"
	"html/template"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// Strip is a row (or several) of hits side by side.
type Strip struct {
	ID      string
	Width   float64
	Rows    int     // 1: a strip; more: a sheet of larger cells
	Height  float64 // of a row
	Kick    Envelope
	Before  Envelope // of the bass; nil where nothing was changed
	Bass    Envelope
	Offset  int // steps from the envelopes' start to the song's start, negative where they begin later
	Hits    []meter.Hit
	Was     []meter.Hit // before; nil where nothing was changed
	Target  float64     // clearance, dB
	Bars    func(at float64) string
	Details bool // window and handover are marked
}

// cellReach is the longest stretch that a cell shows, in seconds.
const cellReach = 0.3

// HitStrip draws every hit from the real envelopes in 20-150 Hz, with its clearance under it.
func HitStrip(o Strip) template.HTML {
	under := 0
	for _, h := range o.Hits {
		if float64(h.Clearance) < o.Target {
			under++
		}
	}
	s := newSVG(
		o.ID,
		o.Width,
		o.Height*float64(o.Rows),
		fmt.Sprintf("%d hits, kick over bass", len(o.Hits)),
		fmt.Sprintf(
			"Each hit of the kick above the line with the bass below it, from the envelopes in 20 to 150 Hz. The number is the clearance in dB; %d of %d hits are "+
				"under the target of %.0f dB.",
			under,
			len(o.Hits),
			o.Target,
		),
	)
	if len(o.Hits) == 0 {
		return s.done()
	}
	const left = 30.0
	perRow := (len(o.Hits) + o.Rows - 1) / o.Rows
	cell := (o.Width - left - 4) / float64(perRow)
	if cell > 90 {
		cell = 90
	}
	foot := 30.0
	if o.Was != nil {
		foot = 40
	}
	top := 0.0
	for _, h := range o.Hits {
		from, to := o.span(h)
		for i := from; i < to; i++ {
			top = math.Max(top, math.Max(o.Kick.at(i), math.Max(o.Bass.at(i), o.Before.at(i))))
		}
	}
	if top == 0 {
		top = 1
	}
	for row := range o.Rows {
		y0 := float64(row) * o.Height
		mid := y0 + (o.Height-foot)/2
		scale := ((o.Height-foot)/2 - 4) / top
		end := min(len(o.Hits), (row+1)*perRow)
		s.line("axis", left, mid, left+float64(end-row*perRow)*cell, mid)
		if row == 0 {
			s.text("unit", "start", 0, y0+o.Height-foot+14, "dB")
		}
		for k := row * perRow; k < end; k++ {
			o.cell(s, k, cellBox{x: left + float64(k-row*perRow)*cell, w: cell, y0: y0, mid: mid, scale: scale})
		}
	}
	return s.done()
}

// span returns the envelope steps that a hit's cell shows.
func (o Strip) span(h meter.Hit) (from, to int) {
	from = int(math.Round(h.At/meter.EnvelopeStep)) + o.Offset
	return from, from + int(math.Min(h.Gap, cellReach)/meter.EnvelopeStep)
}

// cellBox is where a hit is drawn.
type cellBox struct {
	x, w, y0, mid float64 // px; mid is the line between kick and bass
	scale         float64 // px for an amplitude of 1
}

func (o Strip) cell(s *svg, k int, at cellBox) {
	x, w, y0, mid, scale := at.x, at.w, at.y0, at.mid, at.scale
	h := o.Hits[k]
	from, to := o.span(h)
	pad := w * 0.08
	px := (w - 2*pad) / (cellReach / meter.EnvelopeStep)
	stride := max(1, int(1/px))
	var xs, kick, bass, before []float64
	for i := from; i <= to; i += stride {
		xs = append(xs, x+pad+float64(i-from)*px)
		kick = append(kick, o.Kick.at(i))
		bass = append(bass, o.Bass.at(i))
		before = append(before, o.Before.at(i))
	}
	if o.Was == nil {
		before = nil
	}
	state := "ok"
	if float64(h.Clearance) < o.Target {
		state = "under"
	}
	where := ""
	if o.Bars != nil {
		where = o.Bars(h.At)
	}
	s.add(`<g class="hit %s" data-at="%.6f" data-gap="%.3f"><title>%s</title>`, state, h.At, math.Min(h.Gap, cellReach),
		esc(fmt.Sprintf("Hit %d at %s: clearance %s dB, overlap %s %%", k+1, where, value(h.Clearance, 1), value(h.Overlap, 0))))
	s.add(`<rect class="touch" x="%s" y="%s" width="%s" height="%s"/>`, n(x), n(y0), n(w), n(mid*2-y0*2))
	if len(xs) > 1 {
		s.mirrored(xs, kick, bass, before, mid, scale)
	}
	if o.Details {
		end := x + pad + h.Window/1000/meter.EnvelopeStep*px
		s.add(`<path class="bracket" d="M%s %sv-4H%sv4"/>`, n(x+pad), n(y0+7), n(math.Min(end, x+w-pad)))
		if h.Handover.Valid() && float64(h.Handover)/1000 <= math.Min(h.Gap, cellReach) {
			at := x + pad + float64(h.Handover)/1000/meter.EnvelopeStep*px
			s.line("handover", at, y0+10, at, 2*mid-y0-6)
		}
	}
	base := y0 + 2*(mid-y0) + 14
	s.text("clearance "+state, "middle", x+w/2, base, value(h.Clearance, w0(w)))
	if o.Was != nil {
		s.text("was", "middle", x+w/2, base+12, value(o.Was[k].Clearance, w0(w)))
	} else if o.Details && where != "" && w > 34 {
		s.text("was", "middle", x+w/2, base+12, where)
	}
	s.add(`</g>`)
}

// w0 is the number of decimals that fit a cell of width w.
func w0(w float64) int {
	if w > 30 {
		return 1
	}
	return 0
}

func value(f meter.Figure, decimals int) string {
	if !f.Valid() {
		return "–"
	}
	return figure.Signed(float64(f), decimals)
}
