package meter

import (
	"math"
	"sort"

	"mellowthump/core/dsp"

	"mellowthump/core/audio"
)

// Third-octave bands of IEC 61260-1 base 10: exact mid-band frequencies 1000 G^(x/3) with
// G = 10^(3/10), from 20 Hz to 20 kHz by their nominal names.
const (
	firstBand = -17 // 20 Hz
	lastBand  = 13  // 20 kHz
	// Bands is their number.
	Bands = lastBand - firstBand + 1
)

const (
	bandFFT    = 1 << 15 // frames a spectrum is taken over: 1.3 Hz apart at 44.1 kHz
	bandFrames = 24      // spectra at the most, spread evenly
)

var (
	octaveRatio = math.Pow(10, 0.3)
	bandWidth   = math.Pow(octaveRatio, 1.0/6) - math.Pow(octaveRatio, -1.0/6) // over the mid-band frequency
)

// BandHz returns the exact mid-band frequency of band i, 0 to Bands-1.
func BandHz(i int) float64 { return 1000 * math.Pow(octaveRatio, float64(i+firstBand)/3) }

// bandGain returns the squared magnitude of a band's filter at a frequency: the 6th-order
// Butterworth band-pass with -3.01 dB at the band's edges, which lies within the class 1
// limits of IEC 61260-1.
func bandGain(i int, hz float64) float64 {
	if hz <= 0 {
		return 0
	}
	fm := BandHz(i)
	u := (hz/fm - fm/hz) / bandWidth
	u *= u // to the power of twice the order, 3
	return 1 / (1 + u*u*u)
}

// Spectrum is the sound of a file by third-octave bands.
type Spectrum struct {
	Level       []Figure `json:"level_dbfs"`  // RMS in each band, mean of the channels, plain
	Correlation []Figure `json:"correlation"` // of the channels in each band; None for mono
	TopHz       Figure   `json:"top_hz"`      // above this there is nothing: -80 dB under the loudest
	Tonal       float64  `json:"tonal"`       // share of the energy in the strongest fiftieth of the frequencies, 80 to 5000 Hz
}

const (
	topUnder = 1e-8 // -80 dB: what counts as nothing
	topStep  = 250.0
)

// MeasureSpectrum measures the third-octave spectrum of a source, which it reads at evenly
// spread places. It is a mean over time: powers in the frequency domain, weighted by each
// band's filter.
func MeasureSpectrum(src audio.Source) (Spectrum, error) {
	f := src.Format()
	size := bandFFT
	for int64(size) > 2*f.Frames && size > 1024 {
		size /= 2
	}
	n := max(1, int(f.Frames)/size) // whole stretches only; a short sound is filled with silence
	stride := max(1, (n+bandFrames-1)/bandFrames)
	fft := dsp.NewFFT(size)
	window := dsp.Hann(size)
	power := 0.0
	for _, w := range window {
		power += w * w
	}
	bins := size/2 + 1
	var sums [3][]float64 // |L|^2, |R|^2, Re(L R*)
	for k := range sums {
		sums[k] = make([]float64, bins)
	}
	buf := audio.New(f.Rate, f.Channels, size)
	x := make([]float64, size)
	spectra := make([][]complex128, f.Channels)
	taken := 0
	for k := 0; k < n; k += stride {
		if err := src.ReadAt(buf, int64(k)*int64(size)); err != nil {
			return Spectrum{}, err
		}
		taken++
		for c := range buf.Ch {
			for i, v := range buf.Ch[c] {
				x[i] = float64(v) * window[i]
			}
			spectra[c] = fft.Coefficients(spectra[c], x)
		}
		for i := range bins {
			a := spectra[0][i]
			sums[0][i] += real(a)*real(a) + imag(a)*imag(a)
			if f.Channels == 2 {
				b := spectra[1][i]
				sums[1][i] += real(b)*real(b) + imag(b)*imag(b)
				sums[2][i] += real(a)*real(b) + imag(a)*imag(b)
			}
		}
	}
	scale := 2 / (float64(size) * power * float64(taken)) // one-sided mean square
	return spectrumOf(sums, float64(f.Rate)/float64(size), scale, f.Channels), nil
}

func spectrumOf(sums [3][]float64, step, scale float64, channels int) Spectrum {
	s := Spectrum{TopHz: None}
	for i := range Bands {
		var e [3]float64
		fm := BandHz(i) // two octaves to each side: beyond, the filter is 70 dB down
		for k := int(fm / 4 / step); k < len(sums[0]) && float64(k)*step <= fm*4; k++ {
			g := bandGain(i, float64(k)*step)
			for j := range e {
				e[j] += g * sums[j][k]
			}
		}
		level, corr := None, None
		if BandHz(i) < step*float64(len(sums[0])) {
			if p := (e[0] + e[1]) * scale / float64(channels); p > 1e-20 {
				level = Figure(10 * math.Log10(p))
			}
			if d := math.Sqrt(e[0] * e[1]); channels == 2 && d > 0 {
				corr = Figure(max(-1, min(1, e[2]/d)))
			}
		}
		s.Level, s.Correlation = append(s.Level, level), append(s.Correlation, corr)
	}
	s.TopHz, s.Tonal = top(sums, step), tonal(sums, step)
	return s
}

// tonal tells tones from noise: near 1 where a few frequencies hold the energy, near a
// fiftieth where all do alike.
func tonal(sums [3][]float64, step float64) float64 {
	var p []float64
	all := 0.0
	for k := int(80 / step); k < len(sums[0]) && float64(k)*step < 5000; k++ {
		e := sums[0][k] + sums[1][k]
		p = append(p, e)
		all += e
	}
	sort.Float64s(p)
	strong := 0.0
	for _, e := range p[len(p)-len(p)/50:] {
		strong += e
	}
	if all == 0 {
		return 0
	}
	return strong / all
}

// top finds the highest frequency at which there is something, in steps of 250 Hz.
func top(sums [3][]float64, step float64) Figure {
	var bands []float64
	for k := range sums[0] {
		i := int(float64(k) * step / topStep)
		for len(bands) <= i {
			bands = append(bands, 0)
		}
		bands[i] += sums[0][k] + sums[1][k]
	}
	loudest := largest(bands)
	if loudest <= 0 {
		return None
	}
	for i := len(bands) - 1; i >= 0; i-- {
		if bands[i] > loudest*topUnder {
			return Figure(float64(i+1) * topStep)
		}
	}
	return None
}
