package plot

import (
	"fmt"
	"html/template"
	"math"
)

// Sections is the whole song with where its parts come and go: kick above, bass below, hatched the hits under the target, the
// stems' plays under it, and the edges of the sections.
type Sections struct {
	Kick, Bass []float64 // peaks of equal parts of the song, amplitude
	Names      [2]string // of kick and bass
	Seconds    float64
	Bar, Grid  float64 // s
	Marks      []SectionMark
	Proposed   bool         // they are not the song's yet
	Under      [][2]float64 // hits under the target, from and to, s
	Strips     []SectionStrip
}

// SectionMark is where a section begins.
type SectionMark struct {
	Name  string
	From  float64 // s
	Place string  // as it is typed
	Note  string  // what its ducks do, where that is not as everywhere
}

// SectionStrip is a stem with the stretches in which it plays, s.
type SectionStrip struct {
	Name, Role string
	Plays      [][2]float64
}

// Geometry of the picture.
const (
	sectionLeft  = 112.0 // of the time
	sectionWide  = 792.0
	sectionTop   = 34.0 // of the kick's side
	sectionSide  = 52.0 // height of the larger side
	sectionLeast = 26.0 // and of the other at least
	sectionStrip = 15.0
)

// SongSections draws it.
// Long because a picture is drawn from back to front.
func SongSections(d Sections) template.HTML {
	highest := [2]float64{}
	for i, side := range [][]float64{d.Kick, d.Bass} {
		for _, v := range side {
			highest[i] = math.Max(highest[i], v)
		}
	}
	scale := (sectionSide - 4) / math.Max(1e-9, math.Max(highest[0], highest[1]))
	up, down := math.Max(sectionLeast, 4+highest[0]*scale), math.Max(sectionLeast, 4+highest[1]*scale)
	below := sectionTop + up + down + 8 // where the strips begin
	bottom := below + sectionStrip*float64(len(d.Strips))
	words := fmt.Sprintf("The kick above the line and the bass below it over %.0f seconds; under it when each stem plays.", d.Seconds)
	for i, m := range d.Marks {
		words += fmt.Sprintf(" %s from bar %s.", m.Name, m.Place)
		if i == 0 && d.Proposed {
			words += " The sections are proposed."
		}
	}
	s := newSVG("song-sections", sectionLeft+sectionWide+10, bottom+20, "The song and its sections", words)
	mid := sectionTop + up
	x := func(t float64) float64 { return sectionLeft + t/math.Max(d.Seconds, 1e-9)*sectionWide }
	s.bars(d, x, bottom)
	s.peaks(d.Kick, d.Bass, sectionLeft, sectionWide, mid, scale)
	if len(d.Kick) > 0 {
		s.text("kick-label", "end", sectionLeft-8, mid-12, clipped(d.Names[0], 14))
	}
	if len(d.Bass) > 0 {
		s.text("bass-label", "end", sectionLeft-8, mid+20, clipped(d.Names[1], 14))
	}
	for _, u := range d.Under {
		from, to := x(u[0]), math.Max(x(u[1]), x(u[0])+2.5)
		p := &path{}
		p.to(from, mid-up/2)
		p.to(to, mid-up/2)
		p.to(to, mid+down/2)
		p.to(from, mid+down/2)
		s.hatch(p.close())
	}
	s.line("axis", sectionLeft, mid, sectionLeft+sectionWide, mid)
	for i, strip := range d.Strips {
		y := below + sectionStrip*float64(i)
		s.text("tick", "end", sectionLeft-8, y+sectionStrip-4, clipped(strip.Name, 16))
		s.line("rule", sectionLeft, y+sectionStrip, sectionLeft+sectionWide, y+sectionStrip)
		class := map[string]string{"kick": "kick", "bass": "bass-fill bass-thin"}[strip.Role]
		if class == "" {
			class = "wave"
		}
		for _, p := range strip.Plays {
			s.add(
				`<rect class="%s" x="%s" y="%s" width="%s" height="%s"><title>%s plays</title></rect>`,
				class,
				n(x(p[0])),
				n(y+3),
				n(math.Max(1, x(p[1])-x(p[0]))),
				n(sectionStrip-6),
				esc(strip.Name),
			)
		}
	}
	s.marks(d, x, bottom)
	return s.done()
}

// bars draws every fourth bar, and the numbers of some.
func (s *svg) bars(d Sections, x func(float64) float64, bottom float64) {
	if d.Bar <= 0 || d.Seconds <= 0 {
		return
	}
	every := 4
	for d.Seconds/d.Bar/float64(every) > 28 {
		every *= 2
	}
	for k := 0; ; k += every {
		t := d.Grid + float64(k)*d.Bar
		if t > d.Seconds-d.Bar/2 && k > 0 {
			break
		}
		s.line("beat", x(t), sectionTop-4, x(t), bottom)
		s.text("tick", "middle", x(t), bottom+14, fmt.Sprint(k+1))
	}
	s.text("tick", "end", sectionLeft-8, bottom+14, "bar")
}

// marks draws the edges of the sections with their names: handles, unless they are proposed.
func (s *svg) marks(d Sections, x func(float64) float64, bottom float64) {
	for i, m := range d.Marks {
		if m.From >= d.Seconds {
			continue
		}
		to := d.Seconds
		if i+1 < len(d.Marks) {
			to = math.Min(to, d.Marks[i+1].From)
		}
		at, room := x(m.From), x(to)-x(m.From)
		chars := int((room - 8) / 6.4)
		if d.Proposed {
			s.add(`<path class="section-edge proposed" d="M%s 6V%s"/>`, n(at), n(bottom))
		} else {
			s.add(`<g class="section-edge" id="section-edge-%d" tabindex="0" role="slider" aria-label="%s begins; arrow keys move it by a bar, with Shift by a `+
				`beat" aria-valuemin="0" aria-valuemax="%s" aria-valuenow="%s" aria-valuetext="bar %s" data-at="%d" data-from="%.6f"><path class="bracket" d="M%s `+
				`8H%sV%sH%s"/><rect class="reach" x="%s" y="0" width="14" height="%s"/></g>`,
				i, esc(m.Name), n(d.Seconds), n(m.From), esc(m.Place), i, m.From, n(at+6), n(at), n(bottom), n(at+6), n(at-7), n(bottom))
		}
		if chars >= 2 {
			s.text("note section-name", "start", at+8, 15, clipped(m.Name, chars))
			if m.Note != "" {
				s.text("tick", "start", at+8, 27, clipped(m.Note, chars))
			}
		}
	}
	s.add(
		`<g class="scale" data-left="%s" data-width="%s" data-seconds="%.6f" data-bar="%.6f" data-grid="%.6f"></g>`,
		n(sectionLeft),
		n(sectionWide),
		d.Seconds,
		d.Bar,
		d.Grid,
	)
}

// clipped cuts a name to so many characters.
func clipped(name string, most int) string {
	r := []rune(name)
	if len(r) <= most {
		return name
	}
	return string(r[:max(1, most-1)]) + "…"
}
