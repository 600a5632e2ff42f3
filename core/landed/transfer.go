package landed

import (
	"context"
	"math"
	"math/cmplx"

	"mellowthump/core/dsp"
)

// transfer is how a new file follows from an old one, bin by bin.
type transfer struct {
	rate, size int
	n          int // spectra
	xx, yy     []float64
	xy         []complex128
	behind     *fitted // what the old file is behind already; nil: nothing
}

// spectraOf are the spectra of what was read last, by their first frames: round after round the new file is the same.
type spectraOf struct {
	first     *float32
	lag, size int
	at        map[int][]complex128
}

func (s *spectraOf) of(y []float32, lag, size int) map[int][]complex128 {
	if len(y) == 0 {
		return map[int][]complex128{}
	}
	if s.first != &y[0] || s.lag != lag || s.size != size {
		*s = spectraOf{&y[0], lag, size, map[int][]complex128{}}
	}
	return s.at
}

// spectra sums over a stretch; y is read lag frames later.
func spectra(ctx context.Context, x, y []float32, lag, rate int, seconds float64, kept *spectraOf) (*transfer, error) {
	size := 1024
	for float64(size) < seconds*float64(rate) {
		size *= 2
	}
	t := &transfer{rate: rate, size: size, xx: make([]float64, size/2+1), yy: make([]float64, size/2+1), xy: make([]complex128, size/2+1)}
	fft, window := dsp.NewFFT(size), dsp.Hann(size)
	known := kept.of(y, lag, size)
	a, b := make([]float64, size), make([]float64, size)
	var fa []complex128
	from, to := -size/2, len(x)
	if len(x) > longAs*size { // what a shift cut off at the ends tells nothing
		from, to = max(0, -lag), min(len(x), len(y)-lag)-size
	}
	for at := from; at < to; at += size / 2 {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		sound := 0.0
		for i := range a {
			a[i] = 0
			if k := at + i; k >= 0 && k < len(x) {
				a[i] = float64(x[k]) * window[i]
			}
			sound += a[i] * a[i]
		}
		if sound == 0 {
			continue
		}
		fa = fft.Coefficients(fa, a)
		fb := known[at]
		if fb == nil {
			for i := range b {
				b[i] = 0
				if k := at + i + lag; k >= 0 && k < len(y) {
					b[i] = float64(y[k]) * window[i]
				}
			}
			fb = fft.Coefficients(nil, b)
			known[at] = fb
		}
		for i, v := range fa {
			w := fb[i]
			t.xx[i] += real(v)*real(v) + imag(v)*imag(v)
			t.yy[i] += real(w)*real(w) + imag(w)*imag(w)
			t.xy[i] += w * cmplx.Conj(v)
		}
		t.n++
	}
	return t, nil
}

func (t *transfer) hz(bin int) float64 { return float64(bin) * float64(t.rate) / float64(t.size) }

// coherence of a bin, 0 to 1, less what chance makes of so few spectra.
func (t *transfer) coherence(k int) float64 {
	if t.xx[k] == 0 || t.yy[k] == 0 {
		return 0
	}
	c := (real(t.xy[k])*real(t.xy[k]) + imag(t.xy[k])*imag(t.xy[k])) / (t.xx[k] * t.yy[k])
	if t.n > 2 {
		chance := 2 / float64(t.n)
		c = math.Max(0, (c-chance)/(1-chance))
	}
	return math.Min(1, c)
}

// delay is by how many frames y is later than x beside what a response delays, and whether it is turned over: the greatest
// magnitude of the cross-correlation, each bin weighted by its coherence and not by its level (Knapp and Carter 1976, the
// generalised correlation), within some seconds.
func (t *transfer) delay(response func(k int) complex128, within float64) (frames float64, flip bool, height float64) {
	top := 0.0
	for _, v := range t.xx {
		top = math.Max(top, v)
	}
	z := make([]complex128, len(t.xy))
	all := 0.0
	for k, v := range t.xy {
		if m := cmplx.Abs(v); k > 0 && m > 0 && t.xx[k] > noise*top {
			w := t.coherence(k)
			z[k] = v * complex(w/m, 0)
			if r := response(k); r != 0 {
				z[k] *= cmplx.Conj(r) * complex(1/cmplx.Abs(r), 0)
			}
			all += w
		}
	}
	if all == 0 {
		return 0, false, 0
	}
	r := dsp.NewFFT(t.size).Sequence(nil, z)
	most, best := int(within*float64(t.rate)), 0
	at := func(i int) float64 { return r[(i+t.size)%t.size] }
	for d := 0; d <= min(most, t.size/2-1); d++ { // of two as high, the nearer one
		for _, i := range []int{d, -d} {
			if math.Abs(at(i)) > math.Abs(at(best))*1.0001 {
				best = i
			}
		}
	}
	height = at(best)
	sign := 1.0
	if height < 0 {
		sign = -1
	}
	value := func(d float64) float64 {
		sum := 0.0
		for k, v := range z {
			if v != 0 {
				s, c := math.Sincos(2 * math.Pi * float64(k) * d / float64(t.size))
				sum += real(v)*c - imag(v)*s
			}
		}
		return sign * sum
	}
	lo, hi := float64(best)-1, float64(best)+1
	for hi-lo > 0.005 { // golden section; there is one peak within a frame
		a, b := hi-0.618*(hi-lo), lo+0.618*(hi-lo)
		if value(a) > value(b) {
			hi = b
		} else {
			lo = a
		}
	}
	frames = (lo + hi) / 2
	return frames, sign < 0, value(frames) / all
}

// unexplained is the part of the new file's power that does not follow from the old one's, whatever the filter.
func unexplained(t *transfer) float64 {
	all, left := 0.0, 0.0
	for k, v := range t.yy {
		all += v
		left += v * (1 - t.coherence(k))
	}
	if all == 0 {
		return 1
	}
	return left / all
}

// off is the power of the new file less the old one behind what was found, a part of the new file's.
func off(t *transfer) float64 {
	all, left := 0.0, 0.0
	for k, v := range t.yy {
		all += v
		left += v + t.xx[k] - 2*real(t.xy[k])
	}
	if all == 0 {
		return 1
	}
	return left / all
}
