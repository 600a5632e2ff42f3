//go:build !(goexperiment.simd && amd64)

package dsp

// wide says that the processor takes four values at once, and that this program was built to let it.
const wide = false

func (f *FFT) wideFirst(re, im, toRe, toIm []float64) { f.first(re, im, toRe, toIm) }

func (f *FFT) widePass(re, im, toRe, toIm []float64, step, quarter int) {
	f.pass(re, im, toRe, toIm, step, quarter)
}

func wideDeal(_, _, _ []float64) {}

func (f *FFT) wideJoin([]complex128, []float64, []float64) int { return 1 }
