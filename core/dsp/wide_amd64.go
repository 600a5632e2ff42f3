//go:build goexperiment.simd

package dsp

import (
	"simd/archsimd"
	"unsafe"
)

// wide says that the processor takes four values at once, and that this program was built to let it. What is written here does,
// value by value and in the same order, what its plain counterpart does: the results are the same to the bit.
var wide = archsimd.X86.AVX2()

// four is four values in a row.
type four = archsimd.Float64x4

// load reads four values. It does not look whether they are there: whoever calls it has looked at the whole slice.
func load(x []float64, i int) four {
	return archsimd.LoadFloat64x4((*[4]float64)(unsafe.Add(unsafe.Pointer(unsafe.SliceData(x)), 8*i)))
}

// store writes four values; see load.
func store(x []float64, i int, v four) {
	v.Store((*[4]float64)(unsafe.Add(unsafe.Pointer(unsafe.SliceData(x)), 8*i)))
}

// turned is a complex value times another.
func turned(xr, xi, wr, wi four) (re, im four) {
	return xr.Mul(wr).Sub(xi.Mul(wi)), xr.Mul(wi).Add(xi.Mul(wr))
}

// wideDeal deals a sequence out to its even and its odd values.
func wideDeal(even, odd, x []float64) {
	odd, x = odd[:len(even)], x[:2*len(even)]
	for k := 0; k < len(even); k += 4 {
		a, b := load(x, 2*k), load(x, 2*k+4)
		low, high := a.Select128FromPair(0, 2, b), a.Select128FromPair(1, 3, b)
		store(even, k, low.SelectFromPairGrouped(0, 2, high))
		store(odd, k, low.SelectFromPairGrouped(1, 3, high))
	}
	archsimd.ClearAVXUpperBits()
}

// reversed is four values from the last to the first.
func reversed(x four) four {
	x = x.Select128FromPair(1, 0, x)
	return x.SelectFromPairGrouped(1, 2, x)
}

// storeComplex writes four complex values.
func storeComplex(to []complex128, i int, re, im four) {
	low, high := re.SelectFromPairGrouped(0, 2, im), re.SelectFromPairGrouped(1, 3, im)
	x := unsafe.Slice((*float64)(unsafe.Pointer(unsafe.SliceData(to[i:i+4]))), 8)
	store(x, 0, low.Select128FromPair(0, 2, high))
	store(x, 4, low.Select128FromPair(1, 3, high))
}

// wideJoin puts the halves of even and odd values together, four at a time, and returns the first that it left.
func (f *FFT) wideJoin(dst []complex128, re, im []float64) int {
	m := len(re)
	im = im[:m]
	half := archsimd.BroadcastFloat64x4(0.5)
	k := 1
	for ; k+4 <= m/2; k += 4 {
		ar, ai, br, bi := load(re, k), load(im, k), reversed(load(re, m-k-3)), reversed(load(im, m-k-3))
		er, ei := ar.Add(br).Mul(half), ai.Sub(bi).Mul(half)
		or, oi := ai.Add(bi).Mul(half), br.Sub(ar).Mul(half)
		tr, ti := turned(or, oi, load(f.turnRe, k), load(f.turnIm, k))
		storeComplex(dst, k, er.Add(tr), ei.Add(ti))
		storeComplex(dst, m-k-3, reversed(er.Sub(tr)), reversed(ti.Sub(ei)))
	}
	archsimd.ClearAVXUpperBits()
	return k
}

// wideFirst is first, four transforms at a time.
func (f *FFT) wideFirst(re, im, toRe, toIm []float64) {
	m := len(re)
	n := m / 4
	im, toRe, toIm = im[:m], toRe[:m], toIm[:m]
	for p := 0; p < n; p += 4 {
		ar, br, cr, dr := load(re, p), load(re, p+n), load(re, p+2*n), load(re, p+3*n)
		ai, bi, ci, di := load(im, p), load(im, p+n), load(im, p+2*n), load(im, p+3*n)
		sr, si := ar.Add(cr), ai.Add(ci)
		tr, ti := ar.Sub(cr), ai.Sub(ci)
		ur, ui := br.Add(dr), bi.Add(di)
		vr, vi := bi.Sub(di), dr.Sub(br)
		or, oi := sr.Add(ur), si.Add(ui)
		pr, pi := turned(tr.Add(vr), ti.Add(vi), load(f.turns[0], p), load(f.turns[1], p))
		qr, qi := turned(sr.Sub(ur), si.Sub(ui), load(f.turns[2], p), load(f.turns[3], p))
		rr, ri := turned(tr.Sub(vr), ti.Sub(vi), load(f.turns[4], p), load(f.turns[5], p))
		across(toRe, 4*p, or, pr, qr, rr)
		across(toIm, 4*p, oi, pi, qi, ri)
	}
	archsimd.ClearAVXUpperBits()
}

// across writes the first of four rows of four, then the second of each, and so on.
func across(to []float64, i int, a, b, c, d four) {
	ab, cd := a.SelectFromPairGrouped(0, 2, b), c.SelectFromPairGrouped(0, 2, d)
	ab2, cd2 := a.SelectFromPairGrouped(1, 3, b), c.SelectFromPairGrouped(1, 3, d)
	store(to, i, ab.Select128FromPair(0, 2, cd))
	store(to, i+4, ab2.Select128FromPair(0, 2, cd2))
	store(to, i+8, ab.Select128FromPair(1, 3, cd))
	store(to, i+12, ab2.Select128FromPair(1, 3, cd2))
}

// widePass is pass, four values at a time.
func (f *FFT) widePass(re, im, toRe, toIm []float64, step, quarter int) {
	m := 4 * step * quarter
	re, im, toRe, toIm = re[:m], im[:m], toRe[:m], toIm[:m]
	for p := range quarter {
		w1r, w1i := archsimd.BroadcastFloat64x4(f.cosT[p*step]), archsimd.BroadcastFloat64x4(f.sinT[p*step])
		w2r, w2i := archsimd.BroadcastFloat64x4(f.cosT[2*p*step]), archsimd.BroadcastFloat64x4(f.sinT[2*p*step])
		w3r, w3i := archsimd.BroadcastFloat64x4(f.cosT[3*p*step]), archsimd.BroadcastFloat64x4(f.sinT[3*p*step])
		a, b, c, d := step*p, step*(p+quarter), step*(p+2*quarter), step*(p+3*quarter)
		o := 4 * step * p
		for q := 0; q < step; q += 4 {
			ar, ai, br, bi := load(re, a+q), load(im, a+q), load(re, b+q), load(im, b+q)
			cr, ci, dr, di := load(re, c+q), load(im, c+q), load(re, d+q), load(im, d+q)
			sr, si := ar.Add(cr), ai.Add(ci)
			tr, ti := ar.Sub(cr), ai.Sub(ci)
			ur, ui := br.Add(dr), bi.Add(di)
			vr, vi := bi.Sub(di), dr.Sub(br) // -i (b - d)
			store(toRe, o+q, sr.Add(ur))
			store(toIm, o+q, si.Add(ui))
			xr, xi := turned(tr.Add(vr), ti.Add(vi), w1r, w1i)
			store(toRe, o+step+q, xr)
			store(toIm, o+step+q, xi)
			xr, xi = turned(sr.Sub(ur), si.Sub(ui), w2r, w2i)
			store(toRe, o+2*step+q, xr)
			store(toIm, o+2*step+q, xi)
			xr, xi = turned(tr.Sub(vr), ti.Sub(vi), w3r, w3i)
			store(toRe, o+3*step+q, xr)
			store(toIm, o+3*step+q, xi)
		}
	}
	archsimd.ClearAVXUpperBits()
}
