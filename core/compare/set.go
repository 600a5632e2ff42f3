package compare

import (
	"fmt"
	"math"

	"mellowthump/core/meter"
)

// Middle is by how much, dB, the mean of 300 Hz to 3 kHz lies over the sound's straight line (Tilt): over 1.5 it is humped,
// under -1.5 scooped, else flat. None where there is no line.
func (s Sound) Middle() meter.Figure {
	n, sx, sy, sxx, sxy := 0.0, 0.0, 0.0, 0.0, 0.0
	top := loudest(s.Bands)
	use := func(i int) (x, y float64, ok bool) {
		l, hz := s.Bands[i], meter.BandHz(i)
		return math.Log2(hz), float64(l), l.Valid() && float64(l) >= top-bandSilent && hz >= tiltLow && hz <= tiltHigh
	}
	for i := range s.Bands {
		if x, y, ok := use(i); ok {
			n, sx, sy, sxx, sxy = n+1, sx+x, sy+y, sxx+x*x, sxy+x*y
		}
	}
	if n < 3 {
		return meter.None
	}
	slope := (n*sxy - sx*sy) / (n*sxx - sx*sx)
	base := (sy - slope*sx) / n
	var over []float64
	for i := range s.Bands {
		if x, y, ok := use(i); ok && meter.BandHz(i) > 290 && meter.BandHz(i) < 3200 {
			over = append(over, y-base-slope*x)
		}
	}
	return mean(over)
}

// shaped is from how many dB on a middle is humped or scooped.
const shaped = 1.5

// Shape says a middle in a word.
func Shape(middle meter.Figure) string {
	switch {
	case !middle.Valid():
		return ""
	case middle > shaped:
		return "humped"
	case middle < -shaped:
		return "scooped"
	}
	return "flat"
}

// About is the level of a third-octave about the loudness of the sound, dB; None where one of them is none.
func (s Sound) About(band int) meter.Figure {
	if band >= len(s.Bands) || !s.Bands[band].Valid() || !s.Loudness.Valid() || float64(s.Bands[band]) < loudest(s.Bands)-bandSilent {
		return meter.None
	}
	return s.Bands[band] - s.Loudness
}

// Between is the level of the third-octaves from lo to hi, Hz, together, about the loudness of the sound, dB; 0 is open.
func (s Sound) Between(lo, hi float64) meter.Figure {
	sum := 0.0
	for b, l := range s.Bands {
		if hz := meter.BandHz(b); l.Valid() && (lo == 0 || hz >= lo*0.99) && (hi == 0 || hz <= hi*1.01) {
			sum += math.Pow(10, float64(l)/10)
		}
	}
	if sum == 0 || !s.Loudness.Valid() {
		return meter.None
	}
	return meter.Figure(10*math.Log10(sum)) - s.Loudness
}

// Spread is the mean of a set and how far its members lie from it.
type Spread struct {
	Mean      meter.Figure
	Deviation meter.Figure // the standard deviation, with n - 1; None of fewer than two
}

// SpreadOf is that of some figures; those that are none are left out.
func SpreadOf(of []meter.Figure) Spread {
	var v []float64
	for _, f := range of {
		if f.Valid() {
			v = append(v, float64(f))
		}
	}
	out := Spread{Mean: mean(v), Deviation: meter.None}
	if len(v) > 1 {
		sum := 0.0
		for _, x := range v {
			d := x - float64(out.Mean)
			sum += d * d
		}
		out.Deviation = meter.Figure(math.Sqrt(sum / float64(len(v)-1)))
	}
	return out
}

// Place is where a song stands among a set in one figure.
type Place struct {
	Key, Name, Unit string
	Decimals        int
	Song            meter.Figure
	Spread
	Under meter.Figure // per cent of the set that lie under the song, those that are equal by half; None of an empty set
	Says  string
}

// Standing is a song among a set.
type Standing struct {
	Of     int
	Bands  []Spread // by third-octave, about each one's loudness
	Places []Place
}

// Stand says where a song stands among a set.
func Stand(song Sound, set []Sound) Standing {
	out := Standing{Of: len(set)}
	for b := range meter.Bands {
		var all []meter.Figure
		for _, s := range set {
			all = append(all, s.About(b))
		}
		out.Bands = append(out.Bands, SpreadOf(all))
	}
	for _, p := range []struct {
		key, name, unit string
		decimals        int
		low, high       string
		of              func(Sound) meter.Figure
	}{
		{"lufs", "loudness", "LUFS", 1, "softer", "louder", func(s Sound) meter.Figure { return s.Loudness }},
		{"tilt", "tilt", "dB/octave", 1, "darker", "brighter", func(s Sound) meter.Figure { return s.Tilt }},
		{"middle", "middle", "dB", 1, "more scooped", "more humped", Sound.Middle},
		{"crest", "crest", "dB", 1, "denser", "peakier", func(s Sound) meter.Figure { return s.Crest }},
		{"range", "range", "LU", 1, "steadier", "more varied in loudness", func(s Sound) meter.Figure { return s.Range }},
		{"correlation", "correlation", "", 2, "wider", "nearer to mono", func(s Sound) meter.Figure { return s.Correlation }},
	} {
		place := Place{Key: p.key, Name: p.name, Unit: p.unit, Decimals: p.decimals, Song: p.of(song), Under: meter.None}
		var all []meter.Figure
		for _, s := range set {
			all = append(all, p.of(s))
		}
		place.Spread = SpreadOf(all)
		place.rank(all, p.low, p.high)
		out.Places = append(out.Places, place)
	}
	return out
}

func (p *Place) rank(all []meter.Figure, low, high string) {
	n, under := 0, 0.0
	for _, f := range all {
		if !f.Valid() {
			continue
		}
		n++
		switch {
		case f < p.Song:
			under++
		case f == p.Song:
			under += 0.5
		}
	}
	if n == 0 || !p.Song.Valid() {
		return
	}
	p.Under = meter.Figure(100 * under / float64(n))
	switch u := float64(p.Under); {
	case n < 3:
		p.Says = "too few to say"
	case u == 0:
		p.Says = low + " than all"
	case u == 100:
		p.Says = high + " than all"
	case u < 25:
		p.Says = fmt.Sprintf("%s than %.0f %%", low, 100-u)
	case u > 75:
		p.Says = fmt.Sprintf("%s than %.0f %%", high, u)
	default:
		p.Says = "among the middle half"
	}
}
