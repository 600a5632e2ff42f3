package landed

import (
	"math"

	"gonum.org/v1/gonum/mat"

	"mellowthump/core/dsp"
)

// params are the free figures of the filters, for the fit: the logarithms of frequency and Q, and dB.
func (f *fitted) params() []float64 {
	out := []float64{f.gain}
	for _, p := range f.filters {
		out = append(out, math.Log2(p.Hz))
		if !pass(p.Shape) {
			out = append(out, p.DB/6, math.Log2(p.Q))
		}
	}
	return out
}

// set puts them back, within what they may be.
func (f *fitted) set(x []float64) {
	f.gain = x[0]
	k := 1
	for i, p := range f.filters {
		lo, hi := math.Log2(cornerLo)-1, math.Log2(0.49*f.rate)
		if i < f.planned && !pass(p.Shape) { // it is that bell and no other
			lo, hi = math.Log2(f.was[i].Hz)-1, math.Log2(f.was[i].Hz)+1
		}
		p.Hz = math.Exp2(math.Max(lo, math.Min(hi, x[k])))
		k++
		if !pass(p.Shape) {
			p.DB = math.Max(-30, math.Min(30, 6*x[k]))
			p.Q = math.Exp2(math.Max(-2, math.Min(4, x[k+1])))
			k += 2
		}
	}
}

// off is how far each point is off, dB.
func (f *fitted) off(out []float64) {
	chain := make([][]dsp.Biquad, len(f.filters))
	for i, p := range f.filters {
		chain[i] = sections(p, f.rate)
	}
	for i, p := range f.points {
		h := 1.0
		for _, s := range chain {
			h *= p.power(s)
		}
		model := math.Max(-deepFit, dsp.PowerDB(math.Max(h, 1e-18))) + f.gain
		out[i] = math.Max(p.db, f.gain-deepFit) - model
	}
}

// cost is the weighted mean of what the points are off, squared, and from 1 dB on straight (Huber 1964).
func (f *fitted) cost(off []float64) float64 {
	sum, all := 0.0, 1e-9
	for i, e := range off {
		w := f.points[i].weight
		all += w
		if a := math.Abs(e); a <= huber {
			sum += w * e * e
		} else {
			sum += w * huber * (2*a - huber)
		}
	}
	return sum / all
}

// strays is what the figures cost that are away from home: the gain by 6 dB, a frequency by half an octave, a bell by 6 dB, or
// a Q by an octave each as much as keepNear.
func (f *fitted) strays(x []float64) float64 {
	sum := 0.0
	for j, w := range f.stiff() {
		sum += w * (x[j] - f.home[j]) * (x[j] - f.home[j])
	}
	return sum
}

func (f *fitted) stiff() []float64 {
	out := []float64{keepNear / 36}
	for _, p := range f.filters {
		out = append(out, keepNear*4)
		if !pass(p.Shape) {
			out = append(out, keepNear, keepNear)
		}
	}
	return out
}

// at is a start of the fit, which is its home too.
func (f *fitted) at() *fitted {
	f.home = f.params()
	return f
}

// solve fits all figures by Levenberg's and Marquardt's method (Marquardt 1963), and returns what is left.
// Long because the normal equations are filled and solved in place.
func (f *fitted) solve() float64 {
	x := f.params()
	n, m := len(f.points), len(x)
	if n == 0 {
		return 0
	}
	off, tried := make([]float64, n), make([]float64, n)
	f.set(x)
	x = f.params()
	f.off(off)
	cost, damp := f.cost(off)+f.strays(x), 0.01
	slopes := mat.NewDense(n, m, nil)
	stiff, weights := f.stiff(), 1e-9
	for _, p := range f.points {
		weights += p.weight
	}
	for range fitSteps {
		for j := range x {
			h := 1e-4
			y := append([]float64(nil), x...)
			y[j] += h
			f.set(y)
			f.off(tried)
			for i := range tried {
				slopes.Set(i, j, (tried[i]-off[i])/h)
			}
		}
		a, b := mat.NewDense(m, m, nil), mat.NewVecDense(m, nil)
		for i, e := range off {
			w := f.points[i].weight
			if math.Abs(e) > huber {
				w *= huber / math.Abs(e)
			}
			for j := range m {
				s := slopes.At(i, j)
				b.SetVec(j, b.AtVec(j)-w*s*e)
				for k := range m {
					a.Set(j, k, a.At(j, k)+w*s*slopes.At(i, k))
				}
			}
		}
		for j, w := range stiff {
			a.Set(j, j, a.At(j, j)+w*weights)
			b.SetVec(j, b.AtVec(j)-w*weights*(x[j]-f.home[j]))
		}
		better := false
		for !better && damp < 1e6 {
			c := mat.DenseCopyOf(a)
			for j := range m {
				c.Set(j, j, c.At(j, j)*(1+damp)+1e-9)
			}
			var step mat.VecDense
			if step.SolveVec(c, b) == nil {
				y := append([]float64(nil), x...)
				for j := range y {
					y[j] += math.Max(-1, math.Min(1, step.AtVec(j)))
				}
				f.set(y)
				y = f.params()
				f.off(tried)
				if now := f.cost(tried) + f.strays(y); now < cost {
					better = now < cost*(1-1e-6)
					x, cost = y, now
					copy(off, tried)
					damp = math.Max(1e-6, damp/5)
					if !better {
						f.set(x)
						return cost
					}
					continue
				}
			}
			damp *= 4
		}
		f.set(x)
		if !better {
			break
		}
	}
	f.set(x)
	return cost
}

func (f *fitted) clone() *fitted {
	c := *f
	c.filters = nil
	for _, p := range f.filters {
		q := *p
		c.filters = append(c.filters, &q)
	}
	return &c
}
