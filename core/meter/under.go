package meter

import (
	"math"

	"mellowthump/core/dsp"
)

const (
	lowHertz   = 64  // shares are told up to there, Hz
	lowFrom    = 5   // Hz: what is slower is an offset, and no sound
	lowFinest  = 0.8 // Hz between the lines of the transform, at the most
	lowLoudest = 1e-12
)

// LowShares returns what share of a sound's energy lies in each hertz under 64: the k-th from k-0.5 to k+0.5 Hz, 0 under 5. low is
// its low part at fs (see Low), meanSquare that of all of the sound. By averaged periodograms: P. D. Welch, IEEE Transactions on
// Audio and Electroacoustics 15(2), 1967.
func LowShares(low []float32, fs, meanSquare float64) []float64 {
	out := make([]float64, lowHertz)
	if len(low) == 0 || meanSquare < lowLoudest {
		return out
	}
	n := 256
	for fs/float64(n) > lowFinest {
		n *= 2
	}
	fft, window := dsp.NewFFT(n), dsp.Hann(n)
	mean, square := 0.0, 0.0
	for _, v := range low {
		mean += float64(v)
		square += float64(v) * float64(v)
	}
	mean /= float64(len(low))
	square = square/float64(len(low)) - mean*mean
	frame, spectrum := make([]float64, n), make([]complex128, n/2+1)
	all := 0.0
	for at := 0; at == 0 || at+n <= len(low); at += n / 2 {
		for i := range frame {
			frame[i] = 0
			if at+i < len(low) {
				frame[i] = (float64(low[at+i]) - mean) * window[i]
			}
		}
		fft.Coefficients(spectrum, frame)
		for k, v := range spectrum {
			hz := float64(k) * fs / float64(n)
			if hz < lowFrom-0.5 {
				continue
			}
			e := real(v)*real(v) + imag(v)*imag(v)
			all += e
			if h := int(math.Round(hz)); h < lowHertz {
				out[h] += e
			}
		}
	}
	if all == 0 {
		return make([]float64, lowHertz)
	}
	for h := range out {
		out[h] *= square / all / meanSquare
	}
	return out
}

// UnderDB is what lies under a frequency over all the rest of a sound, dB, by its shares, and where it is strongest, Hz.
func UnderDB(shares []float64, edge float64) (db Figure, strongest float64) {
	sum, most := 0.0, 0.0
	for h, v := range shares {
		if float64(h) >= edge {
			break
		}
		if sum += v; v > most {
			most, strongest = v, float64(h)
		}
	}
	if sum <= 0 {
		return None, 0
	}
	return Figure(dsp.PowerDB(sum / math.Max(1e-9, 1-sum))), strongest
}
