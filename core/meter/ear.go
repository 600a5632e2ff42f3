package meter

import (
	"math"
	"slices"
	"sync"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
)

// Playback is how loud a sound is taken to be played: the sound pressure level, dB, of a sound of -20 dBFS RMS. 83 is
// common practice; all that is judged by hearing says so.
const Playback = 83.0

const (
	earFrame = 4096 // frames at 44.1 and 48 kHz
	earTop   = 16000.0
	earStep  = 0.25   // of an ERB number between channels
	earFaint = 1e-12  // of a filter's weight: what is under it is left out
	earLimit = 0.4999 // of the rate
)

// Ear turns frames of sound into excitation, for one rate: the power spectrum (Hann window, hop a half) through roex(p)
// filters, p = 4 f / ERB(f) (Patterson, Nimmo-Smith, Weber and Milroy, J. Acoust. Soc. Am. 72(6), 1982; ERB by Glasberg
// and Moore 1990), at every quarter of an ERB number from 20 Hz to 16 kHz. It is safe for use by several goroutines.
type Ear struct {
	Rate, Frame int
	Hz          []float64 // of the channels
	Quiet       []float64 // threshold of hearing, as excitation (mean square, full scale 1)
	Playback    float64   // dB SPL of -20 dBFS RMS

	window  []float64
	scale   float64
	first   []int       // bin of each channel's first weight
	weights [][]float64 // by bin
	ffts    sync.Pool
}

// transform is what turns one frame at a time.
type transform struct {
	fft *dsp.FFT
	x   []float64
	c   []complex128
}

// Roex is the weight of a roex(p) filter tuned to fc, at hz: (1 + p g) e^(-p g), g = |hz - fc| / fc.
func Roex(fc, hz float64) float64 {
	pg := 4 * fc / ERB(fc) * math.Abs(hz-fc) / fc
	return (1 + pg) * math.Exp(-pg)
}

// NewEar returns the ear for a rate in Hz and a playback level, dB SPL of -20 dBFS RMS.
func NewEar(rate int, playback float64) *Ear {
	e := &Ear{Rate: rate, Frame: earFrame, Playback: playback}
	for e.Frame*46000*3/2 < earFrame*rate {
		e.Frame *= 2
	}
	e.window = dsp.Hann(e.Frame)
	power := 0.0
	for _, w := range e.window {
		power += w * w
	}
	e.scale = 2 / (float64(e.Frame) * power)
	e.ffts.New = func() any {
		return &transform{dsp.NewFFT(e.Frame), make([]float64, e.Frame), make([]complex128, e.Frame/2+1)}
	}
	bin := float64(rate) / float64(e.Frame)
	for n := ERBNumber(20); ERBHz(n) <= math.Min(earTop, earLimit*float64(rate)); n += earStep {
		fc := ERBHz(n)
		var w []float64
		first := -1
		for k := 0; k <= e.Frame/2; k++ {
			if v := Roex(fc, float64(k)*bin); v > earFaint {
				if first < 0 {
					first = k
				}
				w = append(w, v)
			} else if first >= 0 {
				break
			}
		}
		e.Hz, e.first, e.weights = append(e.Hz, fc), append(e.first, first), append(e.weights, w)
		e.Quiet = append(e.Quiet, math.Pow(10, (HearingThreshold(fc)-playback-20)/10))
	}
	return e
}

// Below returns how many channels lie under a frequency.
func (e *Ear) Below(hz float64) int {
	n := 0
	for n < len(e.Hz) && e.Hz[n] <= hz {
		n++
	}
	return n
}

// Power sets the mean square of a frame in each bin, mean of the channels; out has Frame/2+1 places. Outside the sound
// is silence.
func (e *Ear) Power(out []float64, b audio.Buffer, at int) {
	t := e.ffts.Get().(*transform)
	defer e.ffts.Put(t)
	x, c := t.x, t.c
	clear(out)
	for n, ch := range b.Ch {
		from, to := min(max(at, 0), len(ch)), min(max(at+e.Frame, 0), len(ch))
		if n == 0 || !slices.Equal(ch[from:to], b.Ch[0][from:to]) { // one in the middle is read once
			for i := range x {
				x[i] = 0
				if k := at + i; k >= from && k < to {
					x[i] = float64(ch[k]) * e.window[i]
				}
			}
			t.fft.Coefficients(c, x)
		}
		for k, v := range c {
			out[k] += (real(v)*real(v) + imag(v)*imag(v)) * e.scale / float64(len(b.Ch))
		}
	}
}

// Excite sets the excitation of the channels from..to of a frame whose power spectrum is given, mean square.
func (e *Ear) Excite(out, power []float64, from, to int) {
	for n := from; n < to; n++ {
		w := e.weights[n]
		p := power[e.first[n]:][:len(w)]
		var a, b, c, d float64 // sums that do not wait for each other
		k := 0
		for ; k+3 < len(w); k += 4 {
			a += w[k] * p[k]
			b += w[k+1] * p[k+1]
			c += w[k+2] * p[k+2]
			d += w[k+3] * p[k+3]
		}
		for ; k < len(w); k++ {
			a += w[k] * p[k]
		}
		out[n] = a + b + c + d
	}
}

// HeardChange is by how much, dB, an excitation has to move to be heard: Zwicker's 1 dB criterion (Fastl and Zwicker,
// Psychoacoustics, 3rd ed., ch. 7).
const HeardChange = 1.0

// Heard reports whether a change of excitation is heard: by more than 1 dB in a channel, from..to, in which it lies over
// the threshold of hearing before or after.
func (e *Ear) Heard(was, now []float64, from, to int) bool {
	more := math.Pow(10, HeardChange/10)
	for n := from; n < to; n++ {
		a, b := was[n], now[n]
		if a < b {
			a, b = b, a
		}
		if a > e.Quiet[n] && a > more*b {
			return true
		}
	}
	return false
}

// hearing is the threshold of hearing for pure tones in a free field, from the front, both ears: ISO 389-7:2005, table 1
// (from memory; 20 Hz to 12.5 kHz are those of ISO 226:2003 too, but for 0.4 dB at 20 Hz).
var hearing = [][2]float64{ // Hz, dB SPL
	{20, 78.1}, {25, 68.7}, {31.5, 59.5}, {40, 51.1}, {50, 44.0}, {63, 37.5}, {80, 31.5}, {100, 26.5}, {125, 22.1}, {160, 17.9},
	{200, 14.4}, {250, 11.4}, {315, 8.6}, {400, 6.2}, {500, 4.4}, {630, 3.0}, {800, 2.2}, {1000, 2.4}, {1250, 3.5}, {1600, 1.7},
	{2000, -1.3}, {2500, -4.2}, {3150, -6.0}, {4000, -5.4}, {5000, -1.5}, {6300, 6.0}, {8000, 12.6}, {10000, 13.9}, {12500, 12.3}, {16000, 40.2},
}

// HearingThreshold returns the threshold of hearing at a frequency, dB SPL (ISO 389-7, free field), straight between
// its table's places over the logarithm of the frequency.
func HearingThreshold(hz float64) float64 {
	last := len(hearing) - 1
	if hz <= hearing[0][0] {
		return hearing[0][1]
	}
	for i := range last {
		a, b := hearing[i], hearing[i+1]
		if hz <= b[0] {
			return a[1] + (b[1]-a[1])*math.Log(hz/a[0])/math.Log(b[0]/a[0])
		}
	}
	return hearing[last][1]
}
