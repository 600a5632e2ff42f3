// Package dsp holds the signal-processing parts that meters and moves are made of.
package dsp

import (
	"fmt"
	"math"
	"math/cmplx"
)

// Biquad is one second-order section, a0 normalised to 1:
// y[n] = b0 x[n] + b1 x[n-1] + b2 x[n-2] - a1 y[n-1] - a2 y[n-2].
type Biquad struct{ B0, B1, B2, A1, A2 float64 }

// Filter is a cascade of second-order sections with its state, in float64. The zero state
// is rest. A Filter serves one channel.
type Filter struct {
	Sections []Biquad
	state    [][2]float64
}

// NewFilter returns a filter at rest.
func NewFilter(s []Biquad) *Filter {
	return &Filter{Sections: s, state: make([][2]float64, len(s))}
}

// restBlock is the number of samples after which states that have died away are put to rest:
// in silence they would soon be denormal numbers, which a processor handles many times slower.
const restBlock = 256

// Process filters src into dst (same length; they may be the same slice) and keeps the
// state for the next block. Transposed direct form II.
func (f *Filter) Process(dst, src []float32) {
	for len(src) > 0 {
		n := min(restBlock, len(src))
		f.process(dst[:n], src[:n])
		f.rest()
		dst, src = dst[n:], src[n:]
	}
}

// rest puts states to zero that nothing can be heard of: 500 dB under full scale.
func (f *Filter) rest() {
	for k := range f.state {
		f.state[k][0], f.state[k][1] = flush(f.state[k][0]), flush(f.state[k][1])
	}
}

func (f *Filter) process(dst, src []float32) {
	switch len(f.Sections) {
	case 0:
		copy(dst, src)
		return
	case 2: // the common case in one pass over memory
		f.pair(dst, src)
		return
	}
	if len(f.Sections) == 4 {
		a, b := f.halves()
		a.pair(dst, src)
		b.pair(dst, dst)
		return
	}
	for k, s := range f.Sections {
		z1, z2 := f.state[k][0], f.state[k][1]
		for i, v := range src {
			x := float64(v)
			y := s.B0*x + z1
			z1 = s.B1*x + z2 - s.A1*y
			z2 = s.B2*x - s.A2*y
			dst[i] = float32(y)
		}
		f.state[k] = [2]float64{z1, z2}
		src = dst
	}
}

// halves returns the first two and the last two of four sections; they share the states.
func (f *Filter) halves() (a, b *Filter) {
	return &Filter{Sections: f.Sections[:2], state: f.state[:2]}, &Filter{Sections: f.Sections[2:], state: f.state[2:]}
}

// passes reports whether a section's zeros stand at 0 Hz and half the rate, as those of a band-pass do:
// then it takes three multiplications instead of five, to the same bits.
func (q Biquad) passes() bool { return q.B1 == 0 && q.B2 == -q.B0 }

func (f *Filter) pair(dst, src []float32) {
	p, q := f.Sections[0], f.Sections[1]
	if p.passes() && q.passes() {
		f.band(dst, src)
		return
	}
	p1, p2 := f.state[0][0], f.state[0][1]
	q1, q2 := f.state[1][0], f.state[1][1]
	dst = dst[:len(src)]
	for i, v := range src {
		x := float64(v)
		y := p.B0*x + p1
		p1 = p.B1*x + p2 - p.A1*y
		p2 = p.B2*x - p.A2*y
		z := q.B0*y + q1
		q1 = q.B1*y + q2 - q.A1*z
		q2 = q.B2*y - q.A2*z
		dst[i] = float32(z)
	}
	f.state[0], f.state[1] = [2]float64{p1, p2}, [2]float64{q1, q2}
}

func (f *Filter) band(dst, src []float32) {
	p, q := f.Sections[0], f.Sections[1]
	p1, p2 := f.state[0][0], f.state[0][1]
	q1, q2 := f.state[1][0], f.state[1][1]
	dst = dst[:len(src)]
	for i, v := range src {
		u := p.B0 * float64(v)
		y := u + p1
		p1 = p2 - p.A1*y
		p2 = -u - p.A2*y
		w := q.B0 * y
		z := w + q1
		q1 = q2 - q.A1*z
		q2 = -w - q.A2*z
		dst[i] = float32(z)
	}
	f.state[0], f.state[1] = [2]float64{p1, p2}, [2]float64{q1, q2}
}

// Process2 is f.Process(df, sf) and g.Process(dg, sg) at once, all of one length: two
// recurrences that do not wait for each other keep the processor twice as busy.
func Process2(f *Filter, df, sf []float32, g *Filter, dg, sg []float32) {
	if len(f.Sections) == 4 && len(g.Sections) == 4 {
		f1, f2 := f.halves()
		g1, g2 := g.halves()
		Process2(f1, df, sf, g1, dg, sg)
		Process2(f2, df, df, g2, dg, dg)
		return
	}
	if len(f.Sections) != 2 || len(g.Sections) != 2 {
		f.Process(df, sf)
		g.Process(dg, sg)
		return
	}
	for len(sf) > 0 {
		n := min(restBlock, len(sf))
		process2(f, df[:n], sf[:n], g, dg[:n], sg[:n])
		f.rest()
		g.rest()
		df, sf, dg, sg = df[n:], sf[n:], dg[n:], sg[n:]
	}
}

func process2(f *Filter, df, sf []float32, g *Filter, dg, sg []float32) {
	p, q, r, s := f.Sections[0], f.Sections[1], g.Sections[0], g.Sections[1]
	if p.passes() && q.passes() && r.passes() && s.passes() {
		bands2(f, df, sf, g, dg, sg)
		return
	}
	p1, p2, q1, q2 := f.state[0][0], f.state[0][1], f.state[1][0], f.state[1][1]
	r1, r2, s1, s2 := g.state[0][0], g.state[0][1], g.state[1][0], g.state[1][1]
	n := len(sf)
	df, dg, sg = df[:n], dg[:n], sg[:n]
	for i, v := range sf {
		x, u := float64(v), float64(sg[i])
		y := p.B0*x + p1
		w := r.B0*u + r1
		p1 = p.B1*x + p2 - p.A1*y
		r1 = r.B1*u + r2 - r.A1*w
		p2 = p.B2*x - p.A2*y
		r2 = r.B2*u - r.A2*w
		z := q.B0*y + q1
		t := s.B0*w + s1
		q1 = q.B1*y + q2 - q.A1*z
		s1 = s.B1*w + s2 - s.A1*t
		q2 = q.B2*y - q.A2*z
		s2 = s.B2*w - s.A2*t
		df[i] = float32(z)
		dg[i] = float32(t)
	}
	f.state[0], f.state[1] = [2]float64{p1, p2}, [2]float64{q1, q2}
	g.state[0], g.state[1] = [2]float64{r1, r2}, [2]float64{s1, s2}
}

func bands2(f *Filter, df, sf []float32, g *Filter, dg, sg []float32) {
	p, q, r, s := f.Sections[0], f.Sections[1], g.Sections[0], g.Sections[1]
	p1, p2, q1, q2 := f.state[0][0], f.state[0][1], f.state[1][0], f.state[1][1]
	r1, r2, s1, s2 := g.state[0][0], g.state[0][1], g.state[1][0], g.state[1][1]
	n := len(sf)
	df, dg, sg = df[:n], dg[:n], sg[:n]
	for i, v := range sf {
		x, u := p.B0*float64(v), r.B0*float64(sg[i])
		y := x + p1
		w := u + r1
		p1 = p2 - p.A1*y
		r1 = r2 - r.A1*w
		p2 = -x - p.A2*y
		r2 = -u - r.A2*w
		x, u = q.B0*y, s.B0*w
		z := x + q1
		t := u + s1
		q1 = q2 - q.A1*z
		s1 = s2 - s.A1*t
		q2 = -x - q.A2*z
		s2 = -u - s.A2*t
		df[i] = float32(z)
		dg[i] = float32(t)
	}
	f.state[0], f.state[1] = [2]float64{p1, p2}, [2]float64{q1, q2}
	g.state[0], g.state[1] = [2]float64{r1, r2}, [2]float64{s1, s2}
}

func flush(v float64) float64 {
	if math.Abs(v) < 1e-25 {
		return 0
	}
	return v
}

// Response returns the complex gain of a cascade at frequency hz for sample rate fs.
func Response(s []Biquad, hz, fs float64) complex128 {
	z := cmplx.Exp(complex(0, -2*math.Pi*hz/fs))
	h := complex(1, 0)
	for _, q := range s {
		num := complex(q.B0, 0) + z*(complex(q.B1, 0)+z*complex(q.B2, 0))
		den := 1 + z*(complex(q.A1, 0)+z*complex(q.A2, 0))
		h *= num / den
	}
	return h
}

// settled is the part of its height under which a filter's ringing counts as gone: 130 dB.
const settled = 3e-7

// Settles returns the number of samples in which the ringing of a cascade dies away to 130 dB under where it began:
// the sum over its sections of ln(settled) / ln(r), r the radius of the section's outer pole.
func Settles(s []Biquad) int {
	n := 0.0
	for _, q := range s {
		r := 0.0
		if d := q.A1*q.A1/4 - q.A2; d < 0 { // a pair
			r = math.Sqrt(q.A2)
		} else {
			r = math.Abs(q.A1)/2 + math.Sqrt(d)
		}
		if r > 0 && r < 1 {
			n += math.Log(settled) / math.Log(r)
		}
	}
	return int(math.Ceil(n)) + 2*len(s)
}

// ButterworthLowpass returns a low-pass of even order with its -3.01 dB corner at hz:
// the analogue prototype through the bilinear transform with the corner pre-warped
// (Oppenheim and Schafer, "Discrete-Time Signal Processing", sec. 7.1).
func ButterworthLowpass(order int, hz, fs float64) ([]Biquad, error) {
	return butterworth(order, hz, fs, false)
}

// ButterworthHighpass is the high-pass of the same kind.
func ButterworthHighpass(order int, hz, fs float64) ([]Biquad, error) {
	return butterworth(order, hz, fs, true)
}

func butterworth(order int, hz, fs float64, high bool) ([]Biquad, error) {
	if order < 2 || order%2 != 0 {
		return nil, fmt.Errorf("dsp: Butterworth order %d is not even", order)
	}
	if hz <= 0 || hz >= fs/2 {
		return nil, fmt.Errorf("dsp: corner %g Hz is outside 0 to %g Hz", hz, fs/2)
	}
	w := math.Tan(math.Pi * hz / fs)
	var out []Biquad
	for k := range order / 2 {
		// pole pair of the prototype: s^2 + 2 cos(theta) s + 1
		q := 2 * math.Cos(math.Pi*float64(2*k+1)/float64(2*order))
		n := 1 / (1 + q*w + w*w)
		s := Biquad{A1: 2 * (w*w - 1) * n, A2: (1 - q*w + w*w) * n}
		if high {
			s.B0, s.B1, s.B2 = n, -2*n, n
		} else {
			s.B0, s.B1, s.B2 = w*w*n, 2*w*w*n, w*w*n
		}
		out = append(out, s)
	}
	return out, nil
}

// Bandpass returns the Butterworth band-pass made from a 2nd-order prototype (4th order in
// all) with -3.01 dB at lo and hi, both in Hz: low-pass to band-pass transform of the
// analogue prototype, corners pre-warped, then bilinear. It is scipy.signal.butter(2,
// [lo, hi], "bandpass").
func Bandpass(lo, hi, fs float64) ([]Biquad, error) {
	if lo <= 0 || hi <= lo || hi >= fs/2 {
		return nil, fmt.Errorf("dsp: band %g to %g Hz does not fit a rate of %g Hz", lo, hi, fs)
	}
	w1, w2 := 2*fs*math.Tan(math.Pi*lo/fs), 2*fs*math.Tan(math.Pi*hi/fs)
	bw, w0 := w2-w1, math.Sqrt(w1*w2)
	p := cmplx.Exp(complex(0, 3*math.Pi/4)) * complex(bw/2, 0) // one pole of the prototype, scaled
	d := cmplx.Sqrt(p*p - complex(w0*w0, 0))
	out := make([]Biquad, 0, 2)
	center := 2 * math.Atan(w0/(2*fs)) / (2 * math.Pi) * fs
	for _, s := range []complex128{p + d, p - d} {
		z := (complex(2*fs, 0) + s) / (complex(2*fs, 0) - s)
		q := Biquad{B0: 1, B2: -1, A1: -2 * real(z), A2: real(z)*real(z) + imag(z)*imag(z)}
		g := 1 / cmplx.Abs(Response([]Biquad{q}, center, fs))
		q.B0, q.B2 = g, -g
		out = append(out, q)
	}
	return out, nil
}

// Smoother is Smooth block by block.
type Smoother struct{ a, s float64 }

// NewSmoother returns one at rest; tau in seconds.
func NewSmoother(tau, fs float64) *Smoother { return &Smoother{a: math.Exp(-1 / (tau * fs))} }

// Process smooths the square of src into dst (same length; they may be the same slice) and keeps its state.
func (m *Smoother) Process(dst, src []float32) {
	a, s := m.a, m.s
	for i, v := range src {
		e := float64(v)
		s = a*s + (1-a)*e*e
		dst[i] = float32(s)
	}
	m.s = s
}

// DB returns 20 log10 of an amplitude ratio.
func DB(amplitude float64) float64 { return 20 * math.Log10(amplitude) }

// PowerDB returns 10 log10 of a power ratio.
func PowerDB(power float64) float64 { return 10 * math.Log10(power) }

// Gain returns the amplitude ratio of a level in dB.
func Gain(db float64) float64 { return math.Pow(10, db/20) }
