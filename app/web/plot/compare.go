package plot

import (
	"fmt"
	"html/template"
	"math"

	"mellowthump/core/compare"
	"mellowthump/core/device"
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

// thirds is the frame of third-octaves about the loudness of each sound: what stands above the line, and what hangs below it.
type thirds struct {
	*svg
	top float64 // dB at the far end of both sides
}

const (
	thirdsW, thirdsH    = 774.0, 204.0
	thirdsLeft, thirdsR = 62.0, 8.0
	thirdsMid           = 96.0
	thirdsDeep          = 48.0 // dB
	thirdsScale         = (thirdsMid - 14) / thirdsDeep
	thirdsFoot          = 18.0
)

// newThirds begins a picture whose largest level is told, and draws its rules.
func newThirds(id, title, desc string, most float64) *thirds {
	if math.IsInf(most, 0) {
		most = 0
	}
	s := &thirds{newSVG(id, thirdsW, thirdsH, title, desc), 6 * math.Ceil(most/6)}
	for db := 0.0; db < thirdsDeep; db += 12 {
		for _, sign := range []float64{-1, 1} {
			y := thirdsMid + sign*(thirdsDeep-db)*thirdsScale
			s.line("rule", thirdsLeft, y, thirdsW-thirdsR, y)
			s.text("tick", "end", thirdsLeft-6, y+4, figure.Plus(s.top-db, 0))
		}
	}
	for _, hz := range []float64{20, 50, 100, 200, 500, 1000, 2000, 5000, 10000} {
		s.line("beat", s.x(hz), 10, s.x(hz), thirdsH-thirdsFoot)
		s.text("tick", "middle", math.Min(math.Max(s.x(hz), thirdsLeft+8), thirdsW-20), thirdsH-4, hzLabel(hz))
	}
	return s
}

func (s *thirds) x(hz float64) float64 {
	lo, hi := meter.BandHz(0)/math.Pow(10, 0.05), meter.BandHz(meter.Bands-1)*math.Pow(10, 0.05)
	return thirdsLeft + math.Log(hz/lo)/math.Log(hi/lo)*(thirdsW-thirdsLeft-thirdsR)
}

func (s *thirds) edges(band int) (from, to float64) {
	return s.x(meter.BandHz(band) / math.Pow(10, 0.05)), s.x(meter.BandHz(band) * math.Pow(10, 0.05))
}

func (s *thirds) height(l meter.Figure) float64 {
	if !l.Valid() {
		return 0
	}
	return math.Min(thirdsMid-8, math.Max(0, float64(l)-s.top+thirdsDeep)*thirdsScale)
}

// stairs draws levels on one side: 1 above, -1 below.
func (s *thirds) stairs(class string, sign float64, level func(band int) meter.Figure) {
	p := &path{}
	p.to(thirdsLeft, thirdsMid)
	for i := range meter.Bands {
		a, b := s.edges(i)
		p.to(a, thirdsMid-sign*s.height(level(i)))
		p.to(b, thirdsMid-sign*s.height(level(i)))
	}
	p.to(thirdsW-thirdsR, thirdsMid)
	s.path(class, p.close())
}

// block is the part of a band between two heights on one side.
func (s *thirds) block(band int, sign, from, to float64) *path {
	a, c := s.edges(band)
	p := &path{}
	p.to(a, thirdsMid-sign*from)
	p.to(c, thirdsMid-sign*from)
	p.to(c, thirdsMid-sign*to)
	p.to(a, thirdsMid-sign*to)
	return p.close()
}

// label ends the picture with the line and the names of its sides.
func (s *thirds) label(above, below string) template.HTML {
	s.line("axis", thirdsLeft, thirdsMid, thirdsW-thirdsR, thirdsMid)
	s.text("mid-label", "start", 0, thirdsMid-8, above)
	s.text("side-label", "start", 0, thirdsMid+18, below)
	s.text("unit", "start", 0, 10, "dB")
	return s.done()
}

// SongOverReference draws the song standing and the reference hanging below it, by third-octave at one loudness, hatched where
// they differ by more than the tolerance.
func SongOverReference(v Against) template.HTML {
	top := math.Inf(-1)
	for i := range meter.Bands {
		for _, of := range []compare.Sound{v.Song, v.Reference} {
			if l := of.About(i); l.Valid() {
				top = math.Max(top, float64(l))
			}
		}
	}
	s := newThirds(
		"song-over",
		"The song over "+v.Name,
		"Stairs of a third of an octave from 20 Hz to 20 kHz, in decibels, both at one loudness: the song above the line, the finished track below it; hatched "+
			"where they differ by more than the tolerance.",
		top,
	)
	s.stairs("mid-fill", 1, v.Song.About)
	s.stairs("side-fill", -1, v.Reference.About)
	for i := range meter.Bands {
		for _, b := range v.Off {
			if b.Hz != meter.BandHz(i) || !b.Off.Valid() || math.Abs(float64(b.Off)) <= v.Tolerance {
				continue
			}
			if up, down := s.height(v.Song.About(i)), s.height(v.Reference.About(i)); up > down { // what the song has more
				s.hatch(s.block(i, 1, up, down))
			} else {
				s.hatch(s.block(i, -1, down, up))
			}
		}
	}
	return s.label("song", "track")
}

// SongInSet draws the song standing, and the mean of a set hanging below it with its spread as a band about it; the song is
// hatched where it leaves the spread, but for 1 dB.
func SongInSet(song compare.Sound, set []compare.Spread) template.HTML {
	const free = 1.0 // dB
	top := math.Inf(-1)
	for i := range meter.Bands {
		for _, l := range []meter.Figure{song.About(i), set[i].Mean} {
			if l.Valid() {
				top = math.Max(top, float64(l))
			}
		}
	}
	s := newThirds(
		"inset",
		"The song over the set of favourites",
		"Stairs of a third of an octave from 20 Hz to 20 kHz, in decibels, all at one loudness: the song above the line, the mean of the set below it, with one "+
			"standard deviation to each side as a band; hatched where the song lies outside it.",
		top,
	)
	s.stairs("mid-fill", 1, song.About)
	s.stairs("side-fill", -1, func(i int) meter.Figure { return set[i].Mean })
	for i := range meter.Bands {
		l, m, d := song.About(i), set[i].Mean, set[i].Deviation
		if !m.Valid() {
			continue
		}
		if !d.Valid() {
			d = 0
		}
		lo, hi := s.height(m-d), s.height(m+d)
		s.path("spread", s.block(i, -1, lo, hi))
		s.path("spread", s.block(i, 1, lo, hi))
		if !l.Valid() {
			continue
		}
		switch h := s.height(l); {
		case l > m+d+free:
			s.hatch(s.block(i, 1, h, hi))
		case l < m-d-free:
			s.hatch(s.block(i, 1, h, lo))
		}
	}
	return s.label("song", "set")
}

// StretchOf is a finished track with the stretch of it that is compared.
type StretchOf struct {
	Name     string
	Peaks    []float32
	Seconds  float64
	From, To float64
}

// Stretch draws a finished track's own overview, where the stretch is dragged.
func Stretch(v StretchOf) template.HTML {
	const w, h = 774.0, 52.0
	s := newSVG(
		"stretch",
		w,
		h,
		v.Name+" and what of it is compared",
		fmt.Sprintf(
			"Peaks over %.0f seconds; the stretch runs from %.1f to %.1f seconds. Drag to choose another; the fields beside it take times.",
			v.Seconds,
			v.From,
			v.To,
		),
	)
	x := func(t float64) float64 { return 2 + t/math.Max(v.Seconds, 1e-9)*(w-4) }
	s.add(`<rect class="loop" x="%s" y="2" width="%s" height="%s"/>`, n(x(v.From)), n(math.Max(1, x(v.To)-x(v.From))), n(h-14))
	const parts = 386
	peaks, top := make([]float64, parts), 1e-9
	for i, p := range v.Peaks {
		k := i * parts / len(v.Peaks)
		peaks[k] = math.Max(peaks[k], float64(p))
		top = math.Max(top, float64(p))
	}
	xs := make([]float64, parts)
	for i := range xs {
		xs[i] = 2 + 2*(float64(i)+0.5)*(w-4)/(2*parts)
	}
	s.path("wave", outline(xs, peaks, h-13, (h-18)/top))
	s.line("axis", 2, h-13, w-2, h-13)
	step := 10.0
	for v.Seconds/step > 12 {
		step *= 3
	}
	for t := 0.0; t <= v.Seconds; t += step {
		s.line("tickmark", x(t), h-13, x(t), h-9)
		s.text("tick", "middle", math.Min(math.Max(x(t), 14), w-16), h-1, fmt.Sprintf("%d:%02d", int(t)/60, int(t)%60))
	}
	s.add(`<g class="scale" data-seconds="%.4f" data-width="%s"></g>`, v.Seconds, n(w))
	return s.done()
}

// Response draws what a stand-in does to the spectrum, small: 20 Hz to 20 kHz, hatched where it is more than 12 dB down.
func Response(d device.Device) template.HTML {
	const w, h, mid, scale, steps, lost = 88.0, 40.0, 12.0, 0.9, 88, 12.0
	s := newSVG(
		"response-"+d.ID,
		w,
		h,
		"What "+d.Name+" does to the spectrum",
		"From 20 Hz to 20 kHz: "+d.Described()+". Hatched where it takes away more than 12 dB.",
	)
	curve, gap := &path{}, &path{}
	for i := 0; i <= steps; i++ {
		x := w * float64(i) / steps
		db, err := d.ResponseDB(20*math.Pow(1000, float64(i)/steps), 48000)
		if err != nil {
			db = -60
		}
		db = math.Max(-30, db)
		curve.to(x, mid-scale*db)
		if db < -lost {
			if gap.Len() == 0 {
				gap.to(x, mid)
			}
			gap.to(x, mid-scale*db)
		} else if gap.Len() > 0 {
			gap.to(x, mid)
			s.hatch(gap.close())
			gap = &path{}
		}
	}
	if gap.Len() > 0 {
		gap.to(w, mid)
		s.hatch(gap.close())
	}
	s.line("axis", 0, mid, w, mid)
	s.path("track line", curve)
	return s.done()
}

// HeardBar draws how much of a stem is heard on a stand-in: filled; hatched what is heard in the room and not there.
func HeardBar(id string, room, there float64) template.HTML {
	const w, h = 60.0, 9.0
	s := newSVG(id, w, h, "Heard there and in the room", fmt.Sprintf("%.0f per cent there, %.0f in the room.", 100*there, 100*room))
	bar := func(from, to float64) *path {
		p := &path{}
		p.to(w*from, 1)
		p.to(w*to, 1)
		p.to(w*to, h-1)
		p.to(w*from, h-1)
		return p.close()
	}
	if there > 0 {
		s.path("heardbar", bar(0, there))
	}
	if room > there {
		s.hatch(bar(there, room))
	}
	s.line("axis", 0, h-0.5, w, h-0.5)
	return s.done()
}

// Drilled is an answer of a drill.
type Drilled struct {
	Level int
	Right bool
}

// DrillScore draws the answers of a drill over time: harder is higher, a right answer filled, a wrong one hollow.
func DrillScore(id, name string, levels []string, all []Drilled) template.HTML {
	const w, h, left, foot = 300.0, 84.0, 46.0, 6.0
	s := newSVG(
		"score-"+id,
		w,
		h,
		"Score of the drill "+name,
		fmt.Sprintf("The last %d answers, the newest at the right; harder is higher, right filled, wrong hollow.", len(all)),
	)
	y := func(level int) float64 {
		return h - foot - 6 - float64(level)*(h-foot-16)/math.Max(1, float64(len(levels)-1))
	}
	for i, l := range levels {
		s.line("rule", left, y(i), w-4, y(i))
		s.text("tick", "end", left-5, y(i)+4, l)
	}
	step := (w - left - 12) / 39
	for i, a := range all {
		class := "drill-wrong"
		if a.Right {
			class = "drill-right"
		}
		s.add(`<circle class="%s" cx="%s" cy="%s" r="2.6"/>`, class, n(left+6+step*float64(i)), n(y(a.Level)))
	}
	return s.done()
}
