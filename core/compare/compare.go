// Package compare sets a song against finished tracks: loudness, tilt, every third-octave, and what would bring it nearer.
package compare

import (
	"context"
	"errors"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

const (
	tiltLow, tiltHigh = 50.0, 10000.0 // Hz between which a tilt is taken
	bandSilent        = 70.0          // dB under the loudest band, under which one says nothing
	bandLow, bandHigh = 25.0, 16000.0 // Hz that are compared
)

// What a match goes by, where nothing else is asked: common practice.
const (
	Amount  = 0.3 // of the difference
	Limit   = 6.0 // dB
	Filters = 5   // at most
)

// Sound is what of a song or of a finished track is compared.
type Sound struct {
	Bands       []meter.Figure // third-octaves, dBFS
	Loudness    meter.Figure   // LUFS
	Range       meter.Figure   // LU
	Crest       meter.Figure   // dB
	Correlation meter.Figure
	Tilt        meter.Figure // dB per octave
}

// Of is the sound of a spectrum and of levels.
func Of(s meter.Spectrum, l meter.Levels) Sound {
	return Sound{Bands: s.Level, Loudness: l.Integrated, Range: l.Range, Crest: l.Crest, Correlation: l.Correlation, Tilt: Tilt(s.Level)}
}

// ErrSilent is said of what holds nothing to compare.
var ErrSilent = errors.New("it is silent: there is nothing to compare")

// OfSource measures a sound in one pass, and its spectrum at evenly spread places.
func OfSource(ctx context.Context, src audio.Source) (Sound, error) {
	f := src.Format()
	if err := f.Check(); err != nil {
		return Sound{}, err
	}
	m := meter.NewLevelMeter(f.Rate, f.Channels)
	const block = 1 << 15
	b := audio.New(f.Rate, f.Channels, block)
	for at := int64(0); at < f.Frames; at += block {
		if err := ctx.Err(); err != nil {
			return Sound{}, err
		}
		x := b.Slice(0, int(min(block, f.Frames-at)))
		if err := src.ReadAt(x, at); err != nil {
			return Sound{}, err
		}
		if err := x.Fit(int(at)); err != nil {
			return Sound{}, err
		}
		m.Add(x)
	}
	s, err := meter.MeasureSpectrum(src)
	if err != nil {
		return Sound{}, err
	}
	out := Of(s, m.Levels())
	if !out.Loudness.Valid() {
		return out, ErrSilent
	}
	return out, nil
}

// Tilt is the slope of the least-squares line through the third-octave levels over the octaves, 50 Hz to 10 kHz, dB per
// octave; None where fewer than three bands sound.
func Tilt(bands []meter.Figure) meter.Figure {
	n, sx, sy, sxx, sxy := 0.0, 0.0, 0.0, 0.0, 0.0
	top := loudest(bands)
	for i, l := range bands {
		hz := meter.BandHz(i)
		if !l.Valid() || float64(l) < top-bandSilent || hz < tiltLow || hz > tiltHigh {
			continue
		}
		x, y := math.Log2(hz), float64(l)
		n, sx, sy, sxx, sxy = n+1, sx+x, sy+y, sxx+x*x, sxy+x*y
	}
	if n < 3 {
		return meter.None
	}
	return meter.Figure((n*sxy - sx*sy) / (n*sxx - sx*sx))
}

func loudest(bands []meter.Figure) float64 {
	top := math.Inf(-1)
	for _, l := range bands {
		if l.Valid() {
			top = math.Max(top, float64(l))
		}
	}
	return top
}

// Band is a third-octave of a song against that of a reference, both at one loudness.
type Band struct {
	Hz  float64      `json:"hz"`
	Off meter.Figure `json:"off_db"` // over 0: the song has more; None where one of them says nothing there
}

// Comparison is a song against references, at one loudness.
type Comparison struct {
	Loudness meter.Figure // LU by which the song is louder
	Tilt     meter.Figure // dB per octave by which it rises more
	Bands    []Band
}

// Against compares a song with the mean of references, each at the song's loudness.
func Against(song Sound, refs ...Sound) Comparison {
	out := Comparison{Loudness: meter.None, Tilt: meter.None}
	var loud, tilt []float64
	for _, r := range refs {
		if r.Loudness.Valid() && song.Loudness.Valid() {
			loud = append(loud, float64(song.Loudness-r.Loudness))
		}
		if r.Tilt.Valid() && song.Tilt.Valid() {
			tilt = append(tilt, float64(song.Tilt-r.Tilt))
		}
	}
	out.Loudness, out.Tilt = mean(loud), mean(tilt)
	top := loudest(song.Bands)
	for i, l := range song.Bands {
		hz := meter.BandHz(i)
		if hz < bandLow || hz > bandHigh {
			continue
		}
		var off []float64
		for _, r := range refs {
			if i < len(r.Bands) && r.Bands[i].Valid() && l.Valid() && r.Loudness.Valid() && song.Loudness.Valid() &&
				float64(l) > top-bandSilent && float64(r.Bands[i]) > loudest(r.Bands)-bandSilent {
				off = append(off, float64(l-song.Loudness)-float64(r.Bands[i]-r.Loudness))
			}
		}
		out.Bands = append(out.Bands, Band{Hz: hz, Off: mean(off)})
	}
	return out
}

func mean(v []float64) meter.Figure {
	if len(v) == 0 {
		return meter.None
	}
	sum := 0.0
	for _, x := range v {
		sum += x
	}
	return meter.Figure(sum / float64(len(v)))
}

// Deviation is the mean size of what the bands are off, dB; None where none is known.
func (c Comparison) Deviation() meter.Figure {
	var all []float64
	for _, b := range c.Bands {
		if b.Off.Valid() {
			all = append(all, math.Abs(float64(b.Off)))
		}
	}
	return mean(all)
}

// Smoothed are the bands over an octave: the mean of each with what lies half an octave to each side.
func (c Comparison) Smoothed() []Band {
	out := make([]Band, len(c.Bands))
	for i, b := range c.Bands {
		var near []float64
		for _, o := range c.Bands {
			if o.Off.Valid() && math.Abs(math.Log2(o.Hz/b.Hz)) < 0.55 {
				near = append(near, float64(o.Off))
			}
		}
		out[i] = Band{Hz: b.Hz, Off: meter.None}
		if b.Off.Valid() {
			out[i].Off = mean(near)
		}
	}
	return out
}

// Match are at most five bells and shelves that bring a song so much nearer to what it is compared with: the difference,
// smoothed over an octave, times the amount, no more than a limit, dB, each way. residual is the mean size of what is left of
// that at the bands, dB.
func (c Comparison) Match(amount, limit float64) (filters []*move.Filter, residual float64) {
	var hz, want []float64
	for _, b := range c.Smoothed() {
		if b.Off.Valid() {
			hz, want = append(hz, b.Hz), append(want, math.Max(-limit, math.Min(limit, -amount*float64(b.Off))))
		}
	}
	if len(hz) == 0 {
		return nil, 0
	}
	left := append([]float64(nil), want...)
	var shapes []*move.Filter
	for range Filters {
		f := fittest(hz, left, limit)
		if f == nil {
			break
		}
		shapes = append(shapes, f)
		for range 4 { // each anew against what the others leave
			for k, f := range shapes {
				rest := append([]float64(nil), want...)
				for j, o := range shapes {
					if j != k {
						lessen(rest, hz, o)
					}
				}
				f.DB = gainOf(f, hz, rest, limit)
			}
		}
		left = append(left[:0], want...)
		for _, f := range shapes {
			lessen(left, hz, f)
		}
	}
	for _, f := range shapes {
		if f.DB = figure.Tenth(f.DB); f.DB != 0 {
			filters = append(filters, f)
		}
	}
	left = append(left[:0], want...)
	for _, f := range filters {
		lessen(left, hz, f)
	}
	for _, v := range left {
		residual += math.Abs(v) / float64(len(left))
	}
	return filters, residual
}

const matchRate = 96000.0 // at which responses are taken: nothing is cramped

// responseDB is what a bell or shelf gives at a frequency, dB.
func responseDB(f *move.Filter, hz float64) float64 {
	s, err := dsp.RBJ(f.Shape, f.Hz, f.Q, f.DB, matchRate)
	if err != nil {
		return 0
	}
	g := dsp.Response([]dsp.Biquad{s}, hz, matchRate)
	return 10 * math.Log10(real(g)*real(g)+imag(g)*imag(g))
}

func lessen(left, hz []float64, f *move.Filter) {
	for i := range left {
		left[i] -= responseDB(f, hz[i])
	}
}

// gainOf is the gain of a shape that leaves least, by least squares of its response at 3 dB, which grows about as its gain does.
func gainOf(f *move.Filter, hz, want []float64, limit float64) float64 {
	unit := *f
	unit.DB = 3
	num, den := 0.0, 0.0
	for i, h := range hz {
		r := responseDB(&unit, h) / 3
		num, den = num+r*want[i], den+r*r
	}
	if den == 0 {
		return 0
	}
	return math.Max(-limit, math.Min(limit, num/den))
}

// fittest is the bell or shelf that takes most off what is left; nil where none takes a hundredth of a decibel squared a band.
func fittest(hz, left []float64, limit float64) *move.Filter {
	energy := func(v []float64) float64 {
		sum := 0.0
		for _, x := range v {
			sum += x * x
		}
		return sum
	}
	was := energy(left)
	var best *move.Filter
	least := was - 0.01*float64(len(left))
	try := func(f *move.Filter) {
		f.DB = gainOf(f, hz, left, limit)
		rest := append([]float64(nil), left...)
		lessen(rest, hz, f)
		if e := energy(rest); e < least {
			best, least = f, e
		}
	}
	for _, h := range hz {
		for _, q := range []float64{0.7, 1, 1.6, 2.5} {
			try(&move.Filter{Shape: dsp.Bell, Hz: math.Round(h), Q: q})
		}
		if h < 500 {
			try(&move.Filter{Shape: dsp.LowShelf, Hz: math.Round(h), Q: 0.7})
		}
		if h > 1500 {
			try(&move.Filter{Shape: dsp.HighShelf, Hz: math.Round(h), Q: 0.7})
		}
	}
	return best
}
