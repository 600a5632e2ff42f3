package plot

import (
	"fmt"
	"html/template"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// BandPicture draws a stem's third-octave spectrum as stairs on a log axis, in Hz and in note
// names: a kick stands up, a bass hangs down, all else stands thin.
// Long because it is one drawing, from back to front.
func BandPicture(id, role, name string, s meter.Spectrum) template.HTML {
	const w, h, left, foot, span = 620.0, 150.0, 34.0, 30.0, 60.0
	d := newSVG(id, w, h, "Spectrum of "+name, "RMS level in third-octave bands from 20 Hz to 20 kHz, over 60 dB, with note names.")
	top := math.Inf(-1)
	for _, l := range s.Level {
		if l.Valid() {
			top = math.Max(top, float64(l))
		}
	}
	if math.IsInf(top, -1) {
		return d.done()
	}
	top = 6 * math.Ceil(top/6)
	lo := math.Log(meter.BandHz(0)) - math.Log(10)/20
	hi := math.Log(meter.BandHz(meter.Bands-1)) + math.Log(10)/20
	x := func(hz float64) float64 { return left + (math.Log(hz)-lo)/(hi-lo)*(w-left-6) }
	base, sign := h-foot, -1.0
	if role == "bass" {
		base, sign = 8, 1.0
	}
	height := h - foot - 12
	for midi := 24; midi <= 96; midi += 12 {
		hz := meter.NoteHz(midi)
		note, _ := meter.Note(hz)
		d.line("beat", x(hz), 6, x(hz), h-foot)
		d.text("tick", "middle", x(hz), h-foot+12, note)
		d.text("tick", "middle", x(hz), h-foot+24, fmt.Sprintf("%.0f", hz))
	}
	stairs, fill := &path{}, &path{}
	half := math.Pow(10, 0.05)
	for i, l := range s.Level {
		level := -span
		if l.Valid() {
			level = math.Max(-span, float64(l)-top)
		}
		y := base + sign*(1+level/span)*height
		a, b := math.Max(left, x(meter.BandHz(i)/half)), math.Min(w-6, x(meter.BandHz(i)*half))
		if i == 0 {
			fill.to(a, base)
		}
		stairs.to(a, y)
		stairs.to(b, y)
		fill.to(a, y)
		fill.to(b, y)
	}
	fill.to(w-6, base)
	class, line := "wave "+role, "gain"
	switch role {
	case "kick":
		class, line = "kick", "kick-edge"
	case "bass":
		class, line = "bass-fill", "bass"
	}
	d.path(class, fill.close())
	d.path(line, stairs)
	d.line("axis", left, base, w-6, base)
	for db := 0.0; db <= span; db += 20 {
		y := base + sign*(1-db/span)*height
		d.text("tick", "end", left-4, y+4, figure.Signed(top-db, 0))
	}
	return d.done()
}
