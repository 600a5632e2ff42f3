package plot

import (
	"fmt"
	"html/template"
	"math"
)

// Deck is the whole song, small: kick above, bass below, hits, and the loop.
type Deck struct {
	Loop          string // its name, "bars 5 to 12"
	Width, Height float64
	Kick, Bass    []float64  // peaks of equal parts of the song, amplitude
	Seconds       float64    // length of the song
	From, To      float64    // the loop, s
	Judged        [2]float64 // the stretch whose figures the stages show, s
	Hits          []float64  // s
	Doubtful      []float64  // hits that are left out, s
	Bar           float64    // s
	Grid          float64    // s, where the first bar begins
}

// Geometry that the script needs too.
const deckPad = 10.0

// DeckStrip draws the deck's song. An empty song draws the line alone.
// Long because a picture is drawn from back to front.
func DeckStrip(d Deck) template.HTML {
	s := newSVG(
		"deck-song",
		d.Width,
		d.Height,
		"The song with the loop",
		fmt.Sprintf(
			"Peaks of the kick above the line and of the bass below it over %.0f seconds; the loop runs from %.1f to %.1f seconds, the judged stretch from "+
				"%.1f to %.1f.",
			d.Seconds,
			d.From,
			d.To,
			d.Judged[0],
			d.Judged[1],
		),
	)
	s.wide()
	mid := d.Height / 2
	span := d.Width - 2*deckPad
	x := func(t float64) float64 { return deckPad + t/math.Max(d.Seconds, 1e-9)*span }
	if d.Seconds > 0 {
		s.add(
			`<rect class="loop" id="loop-grip" tabindex="0" role="slider" aria-label="Loop; arrow keys move it by a bar, with Shift its end" aria-valuemin="0" `+
				`aria-valuemax="%s" aria-valuenow="%s" aria-valuetext="%s" x="%s" y="6" width="%s" height="%s"/>`,
			n(d.Seconds),
			n(d.From),
			esc(d.Loop),
			n(x(d.From)),
			n(x(d.To)-x(d.From)),
			n(d.Height-12),
		)
		if from, to := x(d.Judged[0]), x(d.Judged[1]); to > from {
			s.add(`<path class="bracket" d="M%s %sv4H%sv-4"><title>judged stretch</title></path>`, n(from+0.5), n(d.Height-6), n(to-0.5))
		}
		if bars := d.Seconds / d.Bar; bars <= 400 {
			for t := d.Grid; t < d.Seconds; t += 4 * d.Bar {
				s.line("tickmark", x(t), d.Height-9, x(t), d.Height-4)
			}
		}
	}
	top := 1e-9
	for _, side := range [][]float64{d.Kick, d.Bass} {
		for _, v := range side {
			top = math.Max(top, v)
		}
	}
	scale := (mid - 14) / top
	s.peaks(d.Kick, d.Bass, deckPad, span, mid, scale)
	s.line("axis", deckPad, mid, d.Width-deckPad, mid)
	for _, h := range d.Hits {
		s.add(`<line class="hitmark" data-at="%.4f" x1="%s" x2="%s" y1="6" y2="11"/>`, h, n(x(h)), n(x(h)))
	}
	for _, h := range d.Doubtful {
		s.add(`<line class="doubtmark" x1="%s" x2="%s" y1="6" y2="11"/>`, n(x(h)), n(x(h)))
	}
	if d.Seconds > 0 {
		s.add(`<line id="playhead" class="playhead" x1="%s" x2="%s" y1="6" y2="%s"/>`, n(x(d.From)), n(x(d.From)), n(d.Height-6))
		s.add(
			`<g class="scale" data-pad="%s" data-width="%s" data-seconds="%.6f" data-bar="%.6f" data-grid="%.6f"></g>`,
			n(deckPad),
			n(d.Width),
			d.Seconds,
			d.Bar,
			d.Grid,
		)
	}
	return s.done()
}

// peaks draws the peaks of equal parts of a song: the kick's standing, the bass's hanging.
func (s *svg) peaks(kick, bass []float64, left, wide, mid, scale float64) {
	xs := func(side []float64) []float64 {
		out := make([]float64, len(side))
		for i := range side {
			out[i] = left + (float64(i)+0.5)/float64(len(side))*wide
		}
		return out
	}
	if len(kick) > 0 {
		s.path("kick", outline(xs(kick), kick, mid, scale))
	}
	if len(bass) > 0 {
		s.path("bass-fill bass-thin", outline(xs(bass), bass, mid, -scale))
	}
}

// Wave draws a stem's waveform small: a kick stands on the line, a bass hangs from it, all
// else reaches to both sides.
func Wave(id, role, name string, peaks []float32, w, h float64) template.HTML {
	s := newSVG(id, w, h, "Waveform of "+name, "Peaks over the length of the file.")
	parts := int(w)
	vals := make([]float64, parts)
	top := 1e-9
	for i, v := range peaks {
		k := i * parts / len(peaks)
		vals[k] = math.Max(vals[k], float64(v))
		top = math.Max(top, float64(v))
	}
	xs := make([]float64, parts)
	for i := range xs {
		xs[i] = float64(i) + 0.5
	}
	switch role {
	case "kick":
		s.path("kick", outline(xs, vals, h-2, (h-4)/top))
		s.line("axis", 0, h-2, w, h-2)
	case "bass":
		s.path("bass-fill bass-thin", outline(xs, vals, 2, -(h-4)/top))
		s.line("axis", 0, 2, w, 2)
	default:
		p := &path{}
		for i, x := range xs {
			p.to(x, h/2-vals[i]/top*(h/2-2))
		}
		for i := len(xs) - 1; i >= 0; i-- {
			p.to(xs[i], h/2+vals[i]/top*(h/2-2))
		}
		s.path("wave "+role, p.close())
		s.line("axis", 0, h/2, w, h/2)
	}
	return s.done()
}

// Glyph draws the small shape that tells a role.
func Glyph(role string) template.HTML {
	shape := map[string]string{
		"kick":  `<path class="g-fill kick" d="M1 12L7 2L13 12Z"/>`,
		"bass":  `<path class="g-line bass" d="M1.5 2.5L7 11.5L12.500 2.5Z"/>`,
		"snare": `<rect class="g-fill" x="2.500" y="2.500" width="9" height="9"/>`,
		"hats": `<g class="g-fill"><circle cx="3" cy="7" r="1.600"/><circle cx="7" cy="3" r="1.600"/><circle cx="11" cy="7" r="1.600"/><circle cx="7" ` +
			`cy="11" r="1.600"/></g>`,
		"perc":    `<path class="g-line" d="M7 1.500L12.500 7L7 12.500L1.500 7Z"/>`,
		"melodic": `<path class="g-line" d="M1 6Q4 2 7 6T13 6M1 10Q4 6 7 10T13 10"/>`,
		"texture": `<g class="g-fill"><rect x="1" y="1" width="2" height="2"/><rect x="6" y="1" width="2" height="2"/><rect x="11" y="1" width="2" ` +
			`height="2"/><rect x="3.500" y="5.500" width="2" height="2"/><rect x="8.500" y="5.500" width="2" height="2"/><rect x="1" y="10" width="2" ` +
			`height="2"/><rect x="6" y="10" width="2" height="2"/><rect x="11" y="10" width="2" height="2"/></g>`,
		"effects": `<path class="g-line" d="M2 12L12 2M6 2H12V8"/>`,
	}[role]
	if shape == "" {
		shape = `<circle class="g-line" cx="7" cy="7" r="4"/>`
	}
	return template.HTML(`<svg class="glyph" viewBox="0 0 14 14" width="14" height="14" aria-hidden="true">` + shape + `</svg>`)
}

// Humps draws a song small, to be told apart in a list: the kick's peaks above, the bass's below.
func Humps(id, name string, kick, bass []float64) template.HTML {
	const w, h = 150.0, 34.0
	s := newSVG(id, w, h, name, "The peaks of the kick above the line and of the bass below it, over the song.")
	const parts = int(w)
	top := 1e-9
	fold := func(of []float64) []float64 {
		out := make([]float64, parts)
		for i, v := range of {
			k := i * parts / len(of)
			out[k] = math.Max(out[k], v)
			top = math.Max(top, v)
		}
		return out
	}
	k, b := fold(kick), fold(bass)
	xs := make([]float64, parts)
	for i := range xs {
		xs[i] = float64(i) + 0.5
	}
	if len(kick) > 0 {
		s.path("kick", outline(xs, k, h/2, (h/2-1)/top))
	}
	if len(bass) > 0 {
		s.path("bass-fill bass-thin", outline(xs, b, h/2, -(h/2-1)/top))
	}
	s.line("axis", 0, h/2, w, h/2)
	return s.done()
}
