package facts

import (
	"fmt"
	"sort"
	"strings"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// Kinds counts the hits of a sound by where their energy lies in the first 46 ms.
type Kinds struct {
	Low  int `json:"low"`  // half of it and more under 150 Hz, as of a kick
	Mid  int `json:"mid"`  // as of a snare, a tom, a hand drum
	High int `json:"high"` // over a third of it over 5 kHz and next to nothing under 150 Hz, as of hats
}

const (
	kindBins  = 2048 // of the transform at 44.1 and 48 kHz
	kindHits  = 96   // about as many hits are asked
	kindLow   = 0.5
	kindHigh  = 0.35
	kindNoLow = 0.1
	kindPart  = 0.08 // of the hits, of which a kind is at the least
	kindLeast = 3    // hits

	lowLong   = 0.1   // s of a hit by which it is told to be low
	lowUnder  = 110.0 // Hz
	lowElse   = 400.0 // Hz: what is held against it lies from lowUnder to here
	lowShare  = 0.45  // of these, at the least
	lowWithin = 10.0  // dB within which low hits lie of their loudest tenth
)

// kindsOf tells the kinds of a sound's hits, which begin in short blocks of it. Own definition.
func kindsOf(mono []float32, rate int, hits []attack) Kinds {
	var out Kinds
	n := kindBins
	for rate > 50000*n/kindBins {
		n *= 2
	}
	fft, frame := dsp.NewFFT(n), make([]float64, n)
	var c []complex128
	each := max(1, len(hits)/kindHits)
	step := max(1, int(fineSeconds*float64(rate)))
	for i := 0; i < len(hits); i += each {
		from := max(0, (hits[i].at-1)*step) // it may begin late in the block before
		clear(frame)
		for k, v := range mono[min(from, len(mono)):min(from+n, len(mono))] {
			frame[k] = float64(v) * min(1, float64(n-k)/(0.25*float64(n)), float64(k+1)/64)
		}
		c = fft.Coefficients(c, frame)
		var low, high, all float64
		for k, v := range c {
			e := real(v)*real(v) + imag(v)*imag(v)
			all += e
			switch hz := float64(k) * float64(rate) / float64(n); {
			case hz < lowTop:
				low += e
			case hz > highFrom:
				high += e
			}
		}
		switch {
		case all == 0:
		case low >= kindLow*all:
			out.Low++
		case high >= kindHigh*all && low < kindNoLow*all:
			out.High++
		default:
			out.Mid++
		}
	}
	return out
}

// share is a kind's share of the hits; 0 where there are too few to be one.
func (k Kinds) share(n int) float64 {
	if n < kindLeast {
		return 0
	}
	return float64(n) / float64(k.Low+k.Mid+k.High)
}

// second is the share of the second commonest kind.
func (k Kinds) second() float64 {
	s := []float64{k.share(k.Low), k.share(k.Mid), k.share(k.High)}
	sort.Float64s(s)
	return s[1]
}

// several reports whether the hits are of two kinds and more.
func (k Kinds) several() bool {
	kinds := 0
	for _, n := range []int{k.Low, k.Mid, k.High} {
		if k.share(n) >= kindPart {
			kinds++
		}
	}
	return kinds > 1
}

// String names the kinds: "12 low hits, 8 in the middle, 40 high".
func (k Kinds) String() string {
	var out []string
	for i, n := range []int{k.Low, k.Mid, k.High} {
		if k.share(n) < kindPart {
			continue
		}
		word := [3]string{"low", "in the middle", "high"}[i]
		if len(out) > 0 {
			out = append(out, fmt.Sprintf("%d %s", n, word))
		} else if i == 0 {
			out = append(out, figure.Count(n, "low hit"))
		} else {
			out = append(out, figure.Count(n, "hit")+" "+word)
		}
	}
	return strings.Join(out, ", ")
}

// CarriesBass is the share of the low energy that stays between the hits from which a file holds a bass too.
const CarriesBass = 0.1

// KickWithin reports whether a file of several drums has low hits, and no bass under them: its kick can be taken out.
func (a *Analysis) KickWithin() bool {
	return a != nil && a.Portrait != nil && len(a.Portrait.LowHits) > 0 && a.Portrait.CarriesLow < CarriesBass
}

// lowHits are those of a sound's hits that strike low: by the energy of their first tenth of a second under 110 Hz, which is much of
// what they have under 400 and near that of the loudest. low and fs are as from meter.Low. Own definition.
func lowHits(low []float32, fs float64, hits []float64) []float64 {
	const bins = 1024
	fft, frame := dsp.NewFFT(bins), make([]float64, bins)
	var c []complex128
	levels, shares := make([]meter.Figure, len(hits)), make([]float64, len(hits))
	for i, h := range hits {
		clear(frame)
		n := int(lowLong * fs)
		from := max(0, int(h*fs))
		for k, v := range low[min(from, len(low)):min(from+n, len(low))] {
			frame[k] = float64(v) * min(1, float64(n-k)/(0.4*float64(n)))
		}
		c = fft.Coefficients(c, frame)
		under, over := 1e-20, 0.0
		for k, v := range c {
			switch hz := float64(k) * fs / bins; {
			case hz < lowUnder:
				under += real(v)*real(v) + imag(v)*imag(v)
			case hz < lowElse:
				over += real(v)*real(v) + imag(v)*imag(v)
			}
		}
		levels[i], shares[i] = meter.Figure(dsp.PowerDB(under)), under/(under+over)
	}
	loud := meter.Percentile(levels, 0.9)
	var out []float64
	for i, h := range hits {
		if shares[i] >= lowShare && float64(loud-levels[i]) <= lowWithin {
			out = append(out, h)
		}
	}
	return out
}
