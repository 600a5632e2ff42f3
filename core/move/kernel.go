package move

import (
	"math"

	"mellowthump/core/dsp"
)

// kernel is a filter that looks between samples, at eight times the rate.
type kernel struct {
	phases [clipTimes][]float32 // the k-th lies k eighths behind a frame
	taps   int
	bound  float32 // how far the sound there may rise over the highest of the samples around it: the phases' largest sum of magnitudes
}

// newKernel is a Kaiser-windowed sinc of so many taps a phase, each phase of a sum of 1.
func newKernel(taps int, beta float64) *kernel {
	out := &kernel{taps: taps}
	v := make([]float64, taps)
	for k := range out.phases {
		sum, frac := 0.0, float64(k)/clipTimes
		for i := range v {
			u := frac - float64(i-(taps/2-1))
			v[i] = 1
			if u != 0 {
				v[i] = math.Sin(math.Pi*u) / (math.Pi * u)
			}
			v[i] *= dsp.Kaiser(u/float64(taps/2), beta)
			sum += v[i]
		}
		all := float32(0)
		for _, x := range v {
			h := float32(x / sum)
			out.phases[k] = append(out.phases[k], h)
			all += max(h, -h)
		}
		out.bound = max(out.bound, all)
	}
	return out
}

// at is the sound at a phase of a window.
func (k *kernel) at(phase int, w []float32) float32 {
	h := k.phases[phase][:len(w)]
	var a, b, d, e float32
	for i := 0; i+3 < len(w); i += 4 {
		a += h[i] * w[i]
		b += h[i+1] * w[i+1]
		d += h[i+2] * w[i+2]
		e += h[i+3] * w[i+3]
	}
	return a + b + d + e
}
