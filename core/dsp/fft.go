package dsp

import (
	"fmt"
	"math"
	"math/bits"

	"gonum.org/v1/gonum/dsp/fourier"
)

// FFT is the discrete Fourier transform of real sequences of one length: for powers of two from 16 on as the transform of half
// as many complex values (J. W. Cooley, P. A. W. Lewis and P. D. Welch, "The Fast Fourier Transform Algorithm: Programming
// Considerations in the Calculation of Sine, Cosine and Laplace Transforms", J. Sound Vib. 12, 1970), which are transformed in
// passes of four after T. G. Stockham's ordering, so that nothing is sorted; other lengths go through gonum's. It is there for
// its speed alone: most of what the ear's models cost is this. Where the program was built with GOEXPERIMENT=simd, which make does,
// the passes take four values at a time (wide_amd64.go), to the same bits. The zero value is of no use; one FFT serves one goroutine at a
// time.
type FFT struct {
	n     int
	other *fourier.FFT // of a length that is no power of two

	turn       []complex128 // e^(-2 pi i k / n), k to n/2
	turnRe     []float64    // and its parts, for four in a row
	turnIm     []float64
	re, im     []float64 // n/2 values, and the room to reorder them
	toRe, toIm []float64
	cosT, sinT []float64    // of n/2: cos and -sin of 2 pi k / (n/2)
	turns      [6][]float64 // each second and each third of both, for a pass that reads four in a row
}

// NewFFT returns a transform of n real values; it panics where n is under 1.
func NewFFT(n int) *FFT {
	if n < 1 {
		panic(fmt.Sprintf("dsp: a transform of %d values", n))
	}
	f := &FFT{n: n}
	if n < 16 || bits.OnesCount(uint(n)) != 1 {
		f.other = fourier.NewFFT(n)
		return f
	}
	m := n / 2
	f.re, f.im, f.toRe, f.toIm = make([]float64, m), make([]float64, m), make([]float64, m), make([]float64, m)
	f.cosT, f.sinT = make([]float64, m), make([]float64, m)
	for k := range m {
		s, c := math.Sincos(2 * math.Pi * float64(k) / float64(m))
		f.cosT[k], f.sinT[k] = c, -s
	}
	if wide {
		for i, t := range [][]float64{f.cosT, f.sinT} {
			one, two, three := make([]float64, m/4), make([]float64, m/4), make([]float64, m/4)
			for p := range one {
				one[p], two[p], three[p] = t[p], t[2*p], t[3*p]
			}
			f.turns[i], f.turns[2+i], f.turns[4+i] = one, two, three
		}
	}
	f.turn = make([]complex128, m/2+1)
	for k := range f.turn {
		s, c := math.Sincos(2 * math.Pi * float64(k) / float64(n))
		f.turn[k] = complex(c, -s)
	}
	if wide {
		f.turnRe, f.turnIm = make([]float64, m/2+1), make([]float64, m/2+1)
		for k, w := range f.turn {
			f.turnRe[k], f.turnIm[k] = real(w), imag(w)
		}
	}
	return f
}

// Len is how many real values are transformed.
func (f *FFT) Len() int { return f.n }

// Coefficients returns the coefficients 0 to n/2 of a sequence, sum x[i] e^(-2 pi i k i / n), in dst where it is not nil; it
// panics where a length is wrong.
func (f *FFT) Coefficients(dst []complex128, x []float64) []complex128 {
	if f.other != nil {
		return f.other.Coefficients(dst, x)
	}
	n, m := f.n, f.n/2
	if len(x) != n || dst != nil && len(dst) != m+1 {
		panic("dsp: a sequence of another length than the transform's")
	}
	if dst == nil {
		dst = make([]complex128, m+1)
	}
	re, im := f.re[:m], f.im[:m]
	if wide {
		wideDeal(re, im, x)
	} else {
		for k := range re {
			re[k], im[k] = x[2*k], x[2*k+1]
		}
	}
	re, im = f.passes(re, im)
	dst[0], dst[m] = complex(re[0]+im[0], 0), complex(re[0]-im[0], 0)
	from := 1
	if wide {
		from = f.wideJoin(dst, re, im)
	}
	for k := from; k <= m/2; k++ { // the halves of even and odd values, put together
		ar, ai, br, bi := re[k], im[k], re[m-k], im[m-k]
		er, ei := (ar+br)/2, (ai-bi)/2 // of the even values
		or, oi := (ai+bi)/2, (br-ar)/2 // of the odd
		w := f.turn[k]
		tr, ti := real(w)*or-imag(w)*oi, real(w)*oi+imag(w)*or
		dst[k] = complex(er+tr, ei+ti)
		dst[m-k] = complex(er-tr, ti-ei)
	}
	return dst
}

// Sequence returns the n real values whose coefficients are 0 to n/2 of c, times n, in dst where it is not nil; it panics where a length is wrong.
func (f *FFT) Sequence(dst []float64, c []complex128) []float64 {
	if f.other != nil {
		return f.other.Sequence(dst, c)
	}
	n, m := f.n, f.n/2
	if len(c) != m+1 || dst != nil && len(dst) != n {
		panic("dsp: coefficients of another length than the transform's")
	}
	if dst == nil {
		dst = make([]float64, n)
	}
	re, im := f.re[:m], f.im[:m]
	x0, xm := real(c[0]), real(c[m])
	re[0], im[0] = x0+xm, x0-xm
	for k := 1; k <= m/2; k++ { // taken apart into the coefficients of the even and of the odd values
		a, b := c[k], c[m-k]
		er, ei := real(a)+real(b), imag(a)-imag(b) // of the even values
		tr, ti := real(a)-real(b), imag(a)+imag(b)
		w := f.turn[k]
		or, oi := real(w)*tr+imag(w)*ti, real(w)*ti-imag(w)*tr // of the odd
		re[k], im[k] = er-oi, ei+or
		re[m-k], im[m-k] = er+oi, or-ei
	}
	im, re = f.passes(im, re) // back: with both parts exchanged
	for k := range re {
		dst[2*k], dst[2*k+1] = re[k], im[k]
	}
	return dst
}

// Complex is the transform of n complex values, for a power of two from 8 on the same passes as an FFT's, for others gonum's.
// One serves one goroutine at a time.
type Complex struct {
	n      int
	passes *FFT // of twice as many real values, which are transformed as these
	other  *fourier.CmplxFFT
}

// NewComplex returns a transform of n complex values; it panics where n is under 1.
func NewComplex(n int) *Complex {
	if n < 8 || bits.OnesCount(uint(n)) != 1 {
		return &Complex{n: n, other: fourier.NewCmplxFFT(n)}
	}
	return &Complex{n: n, passes: NewFFT(2 * n)}
}

// Len is how many values are transformed.
func (c *Complex) Len() int { return c.n }

// Coefficients puts sum x[i] e^(-2 pi i k i / n) into dst, which may be x, and returns it; it panics where a length is wrong.
func (c *Complex) Coefficients(dst, x []complex128) []complex128 {
	if c.other != nil {
		return c.other.Coefficients(dst, x)
	}
	re, im := c.load(dst, x)
	for i, v := range x {
		re[i], im[i] = real(v), imag(v)
	}
	re, im = c.passes.passes(re, im)
	for i := range dst {
		dst[i] = complex(re[i], im[i])
	}
	return dst
}

// Sequence puts the values whose coefficients are x, times n, into dst, which may be x, and returns it; it panics where a length is wrong.
func (c *Complex) Sequence(dst, x []complex128) []complex128 {
	if c.other != nil {
		return c.other.Sequence(dst, x)
	}
	re, im := c.load(dst, x)
	for i, v := range x { // both parts exchanged
		re[i], im[i] = imag(v), real(v)
	}
	re, im = c.passes.passes(re, im)
	for i := range dst {
		dst[i] = complex(im[i], re[i])
	}
	return dst
}

func (c *Complex) load(dst, x []complex128) (re, im []float64) {
	if len(x) != c.n || len(dst) != c.n {
		panic("dsp: a sequence of another length than the transform's")
	}
	return c.passes.re[:c.n], c.passes.im[:c.n]
}

// first is the first pass of four: every value belongs to the one transform that there is.
func (f *FFT) first(re, im, toRe, toIm []float64) {
	m := len(re)
	n := m / 4
	ar, br, cr, dr := re[:n], re[n:2*n], re[2*n:3*n], re[3*n:4*n]
	ai, bi, ci, di := im[:n], im[n:2*n], im[2*n:3*n], im[3*n:4*n]
	cosT, sinT := f.cosT[:m], f.sinT[:m]
	for p := range ar {
		sr, si := ar[p]+cr[p], ai[p]+ci[p]
		tr, ti := ar[p]-cr[p], ai[p]-ci[p]
		ur, ui := br[p]+dr[p], bi[p]+di[p]
		vr, vi := bi[p]-di[p], dr[p]-br[p]
		or, oi := toRe[4*p:4*p+4:4*p+4], toIm[4*p:4*p+4:4*p+4]
		or[0], oi[0] = sr+ur, si+ui
		xr, xi, wr, wi := tr+vr, ti+vi, cosT[p], sinT[p]
		or[1], oi[1] = xr*wr-xi*wi, xr*wi+xi*wr
		xr, xi, wr, wi = sr-ur, si-ui, cosT[2*p], sinT[2*p]
		or[2], oi[2] = xr*wr-xi*wi, xr*wi+xi*wr
		xr, xi, wr, wi = tr-vr, ti-vi, cosT[3*p], sinT[3*p]
		or[3], oi[3] = xr*wr-xi*wi, xr*wi+xi*wr
	}
}

// passes transforms n/2 complex values in passes of four, and one of two where that is left, and returns where they are then.
func (f *FFT) passes(re, im []float64) (outRe, outIm []float64) {
	m := len(re)
	toRe, toIm := f.toRe[:m], f.toIm[:m]
	if wide && m >= 16 {
		f.wideFirst(re, im, toRe, toIm)
	} else {
		f.first(re, im, toRe, toIm)
	}
	re, im, toRe, toIm = toRe, toIm, re, im
	step := 4 // of values that belong to different transforms
	left := m / 4
	for left >= 4 {
		quarter := left / 4
		if wide {
			f.widePass(re, im, toRe, toIm, step, quarter)
		} else {
			f.pass(re, im, toRe, toIm, step, quarter)
		}
		re, im, toRe, toIm = toRe, toIm, re, im
		left, step = quarter, 4*step
	}
	if left == 2 {
		half := step
		for q := range half {
			ar, ai, br, bi := re[q], im[q], re[q+half], im[q+half]
			toRe[q], toIm[q] = ar+br, ai+bi
			toRe[q+half], toIm[q+half] = ar-br, ai-bi
		}
		re, im = toRe, toIm
	}
	return re, im
}

// pass is one of four later on: step values belong to different transforms.
func (f *FFT) pass(re, im, toRe, toIm []float64, step, quarter int) {
	for p := range quarter {
		w1r, w1i := f.cosT[p*step], f.sinT[p*step]
		w2r, w2i := f.cosT[2*p*step], f.sinT[2*p*step]
		w3r, w3i := f.cosT[3*p*step], f.sinT[3*p*step]
		a, b, c, d := step*p, step*(p+quarter), step*(p+2*quarter), step*(p+3*quarter)
		ar, ai := re[a:a+step], im[a:a+step]
		br, bi := re[b:b+step], im[b:b+step]
		cr, ci := re[c:c+step], im[c:c+step]
		dr, di := re[d:d+step], im[d:d+step]
		o := 4 * step * p
		or, oi := toRe[o:o+step], toIm[o:o+step]
		pr, pi := toRe[o+step:o+2*step], toIm[o+step:o+2*step]
		qr, qi := toRe[o+2*step:o+3*step], toIm[o+2*step:o+3*step]
		rr, ri := toRe[o+3*step:o+4*step], toIm[o+3*step:o+4*step]
		br, bi, cr, ci, dr, di, ai = br[:len(ar)], bi[:len(ar)], cr[:len(ar)], ci[:len(ar)], dr[:len(ar)], di[:len(ar)], ai[:len(ar)]
		or, oi, pr, pi, qr, qi, rr, ri = or[:len(ar)], oi[:len(ar)], pr[:len(ar)], pi[:len(ar)], qr[:len(ar)], qi[:len(ar)], rr[:len(ar)], ri[:len(ar)]
		for q := range ar {
			sr, si := ar[q]+cr[q], ai[q]+ci[q]
			tr, ti := ar[q]-cr[q], ai[q]-ci[q]
			ur, ui := br[q]+dr[q], bi[q]+di[q]
			vr, vi := bi[q]-di[q], dr[q]-br[q] // -i (b - d)
			or[q], oi[q] = sr+ur, si+ui
			xr, xi := tr+vr, ti+vi
			pr[q], pi[q] = xr*w1r-xi*w1i, xr*w1i+xi*w1r
			xr, xi = sr-ur, si-ui
			qr[q], qi[q] = xr*w2r-xi*w2i, xr*w2i+xi*w2r
			xr, xi = tr-vr, ti-vi
			rr[q], ri[q] = xr*w3r-xi*w3i, xr*w3i+xi*w3r
		}
	}
}
