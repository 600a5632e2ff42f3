package plot

import (
	"html/template"
	"math"

	"mellowthump/core/compare"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// Against is a song over a finished track, both at one loudness.
type Against struct {
	Song, Reference compare.Sound
	Off             []compare.Band
	Name            string // of the reference
	Tolerance       float64
}

// SongOverReference draws the song standing and the reference hanging below it, by third-octave at one loudness, hatched where they differ by more than the tolerance.
// Long because it is one drawing, from back to front.
func SongOverReference(v Against) template.HTML {
	const w, h, left, right, mid, foot, deep = 774.0, 204.0, 62.0, 8.0, 96.0, 18.0, 48.0
	s := newSVG("against", w, h, "The song over "+v.Name, "Stairs of a third of an octave from 20 Hz to 20 kHz, in decibels, both at one loudness: the song above the line, the finished track below it; hatched where they differ by more than the tolerance.")
	lo, hi := meter.BandHz(0)/math.Pow(10, 0.05), meter.BandHz(meter.Bands-1)*math.Pow(10, 0.05)
	x := func(hz float64) float64 { return left + math.Log(hz/lo)/math.Log(hi/lo)*(w-left-right) }
	at := func(of compare.Sound, i int) meter.Figure { // about its loudness
		if i >= len(of.Bands) || !of.Bands[i].Valid() || !of.Loudness.Valid() {
			return meter.None
		}
		return of.Bands[i] - of.Loudness
	}
	top := math.Inf(-1)
	for i := range meter.Bands {
		for _, of := range []compare.Sound{v.Song, v.Reference} {
			if l := at(of, i); l.Valid() {
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
			s.text("tick", "end", left-6, y+4, figure.Plus(top-db, 0))
		}
	}
	for _, hz := range []float64{20, 50, 100, 200, 500, 1000, 2000, 5000, 10000} {
		s.line("beat", x(hz), 10, x(hz), h-foot)
		s.text("tick", "middle", math.Min(math.Max(x(hz), left+8), w-20), h-4, hzLabel(hz))
	}
	edges := func(i int) (float64, float64) {
		return x(meter.BandHz(i) / math.Pow(10, 0.05)), x(meter.BandHz(i) * math.Pow(10, 0.05))
	}
	stairs := func(class string, sign float64, of compare.Sound) {
		p := &path{}
		p.to(left, mid)
		for i := range meter.Bands {
			a, b := edges(i)
			p.to(a, mid-sign*height(at(of, i)))
			p.to(b, mid-sign*height(at(of, i)))
		}
		p.to(w-right, mid)
		s.path(class, p.close())
	}
	stairs("mid-fill", 1, v.Song)
	stairs("side-fill", -1, v.Reference)
	for i := range meter.Bands {
		for _, b := range v.Off {
			if b.Hz != meter.BandHz(i) || !b.Off.Valid() || math.Abs(float64(b.Off)) <= v.Tolerance {
				continue
			}
			a, c := edges(i)
			up, down := height(at(v.Song, i)), height(at(v.Reference, i))
			p := &path{}
			if up > down { // what the song has more
				p.to(a, mid-up)
				p.to(c, mid-up)
				p.to(c, mid-down)
				p.to(a, mid-down)
			} else {
				p.to(a, mid+up)
				p.to(c, mid+up)
				p.to(c, mid+down)
				p.to(a, mid+down)
			}
			s.hatch(p.close())
		}
	}
	s.line("axis", left, mid, w-right, mid)
	s.text("mid-label", "start", 0, mid-8, "song")
	s.text("side-label", "start", 0, mid+18, "track")
	s.text("unit", "start", 0, 10, "dB")
	return s.done()
}
