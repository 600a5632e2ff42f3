package plot

import (
	"fmt"
	"html/template"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/print"
)

// Printing is what a print does at every hit.
type Printing struct {
	Hits       []print.Hit
	Rate       int
	Frames     int // of the stretch
	From       float64
	Beats      []WeightBeat
	Kick, Bass string
}

// PrintHits draws, hit by hit, what would stick out over the ceiling above the line, stacked by whose it is, and below it what
// was done about it: hatched what was shaved, open what was turned down.
// Long because a picture is drawn from back to front.
func PrintHits(v Printing) template.HTML {
	const w, h, left, right, mid, foot, head = 774.0, 244.0, 46.0, 8.0, 118.0, 36.0, 22.0
	s := newSVG(
		"printhits",
		w,
		h,
		"What would pass the ceiling, and what was done about it",
		"A column for every hit of the kick, in decibels. Above the line what its peak would pass the ceiling by, from the line up the kick's part, the bass's, "+
			"all others'; below it, hatched, what the soft clip shaves, and open, what the limiters turn down.",
	)
	top := 2.0
	for _, hit := range v.Hits {
		top = math.Max(top, math.Max(hit.Over, hit.Shaved+hit.Turned))
	}
	top = 2 * math.Ceil(top/2)
	step := 2.0
	for top/step > 4 {
		step += 2
	}
	scale := (mid - head) / top
	for db := step; db <= top+1e-9; db += step {
		for _, sign := range []float64{-1, 1} {
			y := mid - sign*db*scale
			s.line("rule", left, y, w-right, y)
			s.text("tick", "end", left-6, y+4, figure.Signed(sign*db, 0))
		}
	}
	x := func(frame float64) float64 { return left + 6 + frame/math.Max(1, float64(v.Frames))*(w-left-right-12) }
	for _, b := range v.Beats {
		at := x((b.At - v.From) * float64(v.Rate))
		s.line("beat", at, head, at, h-foot)
		s.text("tick", "start", at+2, h-foot+18, b.Name)
	}
	width := math.Max(2, math.Min(16, 0.62*(w-left-right)/math.Max(1, float64(len(v.Hits)))))
	box := func(at, from, to float64) *path {
		p := &path{}
		p.to(at-width/2, mid-from*scale)
		p.to(at+width/2, mid-from*scale)
		p.to(at+width/2, mid-to*scale)
		p.to(at-width/2, mid-to*scale)
		return p.close()
	}
	for i, hit := range v.Hits {
		at := x(float64(hit.At)) + width/2
		s.add(
			`<g class="printhit" data-at="%.4f"><title>hit %d: %s dB over the ceiling, %s shaved, %s turned down</title>`,
			v.From+float64(hit.At)/float64(v.Rate),
			i+1,
			figure.Short(hit.Over),
			figure.Short(hit.Shaved),
			figure.Short(hit.Turned),
		)
		k, b := hit.Over*hit.Kick, hit.Over*hit.Bass
		if k > 0.02 {
			s.path("kick", box(at, 0, k))
		}
		if b > 0.02 {
			s.path("bass-fill", box(at, k, k+b))
		}
		if hit.Over-k-b > 0.02 {
			s.path("other-fill", box(at, k+b, hit.Over))
		}
		if hit.Shaved > 0.02 {
			s.hatch(box(at, 0, -hit.Shaved))
		}
		if hit.Turned > 0.02 {
			s.path("turned", box(at, -hit.Shaved, -hit.Shaved-hit.Turned))
		}
		s.add(`</g>`)
	}
	s.line("axis", left, mid, w-right, mid)
	s.text("unit", "start", left, 10, fmt.Sprintf("what would pass the ceiling, dB: %s, %s, the others", v.Kick, v.Bass))
	s.text("unit", "start", left, h-2, "what was done about it: hatched shaved, open turned down")
	return s.done()
}

// LoudnessCost draws what loudness costs the hits' attack by a school, beside a limiter alone, and where it is asked.
// Long because a picture is drawn from back to front.
func LoudnessCost(own, limit []print.Cost, asked float64) template.HTML {
	const w, h, left, right, head, foot = 360.0, 168.0, 40.0, 14.0, 16.0, 34.0
	s := newSVG(
		"printcost",
		w,
		h,
		"Loudness against what it costs",
		"Across, loudness in LUFS; up, what is taken off the hits' attack in decibels. The line is the school that is chosen, the dashed one a limiter alone; "+
			"the square is what is asked, and can be dragged.",
	)
	lo, hi, most := math.Inf(1), math.Inf(-1), 1.0
	for _, of := range [][]print.Cost{own, limit} {
		for _, c := range of {
			lo, hi, most = math.Min(lo, c.LUFS), math.Max(hi, c.LUFS), math.Max(most, c.Harm)
		}
	}
	x := func(l float64) float64 { return left + (l-lo)/math.Max(0.1, hi-lo)*(w-left-right) }
	y := func(db float64) float64 { return h - foot - math.Max(0, db)/most*(h-head-foot) }
	for db := 0.0; db <= most; db += math.Max(1, math.Ceil(most/4)) {
		s.line("rule", left, y(db), w-right, y(db))
		s.text("tick", "end", left-5, y(db)+4, figure.Short(db))
	}
	for l := math.Ceil(lo); l <= hi+0.01; l += math.Max(1, math.Round((hi-lo)/4)) {
		s.text("tick", "middle", x(l), h-foot+14, figure.Signed(l, 0))
	}
	line := func(class string, of []print.Cost) {
		p := &path{}
		for _, c := range of {
			p.to(x(c.LUFS), y(c.Harm))
		}
		if len(of) > 1 {
			s.path(class, p)
		}
	}
	line("limit-line", limit)
	line("track line", own)
	if asked >= lo && asked <= hi {
		at := 0.0
		for i := 1; i < len(own); i++ {
			if a, b := own[i-1], own[i]; asked >= a.LUFS && asked <= b.LUFS {
				at = a.Harm + (asked-a.LUFS)/(b.LUFS-a.LUFS)*(b.Harm-a.Harm)
			}
		}
		s.add(
			`<rect id="cost-knob" class="knob" tabindex="0" role="slider" aria-label="Loudness asked, LUFS; arrow keys" aria-valuemin="%s" aria-valuemax="%s" `+
				`aria-valuenow="%s" data-lo="%s" data-hi="%s" data-left="%s" data-width="%s" x="%s" y="%s" width="10" height="10"/>`,
			n(lo),
			n(hi),
			n(asked),
			n(lo),
			n(hi),
			n(left),
			n(w-left-right),
			n(x(asked)-5),
			n(y(at)-5),
		)
	}
	s.text("unit", "start", left, 10, "off the hits' attack, dB")
	s.text("unit", "end", w-right, h-4, "LUFS asked")
	return s.done()
}

// ShareBar draws a share, small.
func ShareBar(id, role string, of float64) template.HTML {
	const w, h = 150.0, 12.0
	s := newSVG(id, w, h, "Share", fmt.Sprintf("%.0f per cent.", 100*of))
	class := map[string]string{"kick": "kick", "bass": "bass-fill"}[role]
	if class == "" {
		class = "heardbar"
	}
	p := &path{}
	p.to(0, 1)
	p.to(w*of, 1)
	p.to(w*of, h-1)
	p.to(0, h-1)
	s.path(class, p.close())
	return s.done()
}
