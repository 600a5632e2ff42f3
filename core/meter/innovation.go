package meter

import "math"

// What the low band of a file would do without a hit: it rings on, by linear prediction (Makhoul, "Linear
// prediction: a tutorial review", Proc. IEEE 63(4), 1975; the covariance method, forwards and backwards).
// Two modes of one drum that beat, a held bass and a tail are told ahead by what they did before; a hit is
// not.
const (
	deepTop   = 200.0 // Hz, of the band that is followed
	deepRate  = 1000  // Hz, about the rate at which it is
	deepDelay = 2.0   // ms by which the band's low-pass is late
	// of a 4th-order Butterworth low-pass far under its corner, in radians of that: the sum of its sections' 1/Q
	butterworth4Delay = 2.613
	innovationTrain   = 0.110 // s before a place that tell it ahead
	innovationLeast   = -8.0  // dB: what is told ahead better than this is no hit
	innovationClick   = -13.0 // dB, the same with a click
	innovationOver    = 0.018 // s that are told ahead
	innovationOrder   = 10    // four modes and something for noise
	innovationGrows   = 2.0   // times the past that is told ahead, at the most
	innovationSkip    = 0.006 // s after a hit in which the ringing is still its attack
)

// innovation keeps the low band at a low rate.
type innovation struct {
	rate  float64 // Hz
	late  float64 // s by which the band's low-pass is
	step  int
	phase int
	x     []float32
}

func newInnovation(rate float64) innovation {
	step := max(1, int(rate/deepRate))
	return innovation{rate: rate / float64(step), late: butterworth4Delay / (2 * math.Pi * deepTop), step: step}
}

// pick takes the next block of the band at the higher rate.
func (v *innovation) pick(x []float32) {
	for ; v.phase < len(x); v.phase += v.step {
		v.x = append(v.x, x[v.phase])
	}
	v.phase -= len(x)
}

// ahead tells the low band ahead from a frame on, by what rings since the hit before, at step last: how far
// what there is lies off it, what there is, and what was told. It is empty where too little is known.
func (v *innovation) ahead(n, over, last int) (off, is, told []float64) {
	from := max(0, n-v.frame(innovationTrain), v.frame(float64(last)*onsetStep+v.late+innovationSkip))
	to := n - 3 // ms that the low-pass smears ahead
	end := min(len(v.x), n+over)
	order := min(innovationOrder, (to-from)/3)
	if order < 2 || end <= n {
		return nil, nil, nil
	}
	past := make([]float64, to-from, end-from)
	for i := range past {
		past[i] = float64(v.x[from+i])
	}
	a := predictor(past, order)
	if a == nil {
		return nil, nil, nil
	}
	most := 0.0 // what rings on hardly grows, but for beats
	for _, x := range past {
		most = math.Max(most, innovationGrows*math.Abs(x))
	}
	for i := to; i < end; i++ {
		s := 0.0
		for k, c := range a {
			s += c * past[len(past)-1-k]
		}
		past = append(past, math.Max(-most, math.Min(most, s)))
	}
	told = past[n-from:]
	for i, w := range told {
		is = append(is, float64(v.x[n+i]))
		off = append(off, is[i]-w)
	}
	return off, is, told
}

func (v *innovation) frame(s float64) int { return int(math.Round(s * v.rate)) }

// at returns how much of the low energy after a step of the onset meter is not told ahead by what rings
// since the hit before, at step last: in dB of all that is there or was to be there; 0 or so where all of
// it is new; and whether there is less than half of what was told.
func (v *innovation) at(step, last int) (fresh Figure, fell bool) {
	off, is, told := v.ahead(v.frame(float64(step)*onsetStep+v.late), v.frame(innovationOver), last)
	all, expected := sumSquares(is), sumSquares(told)
	base := math.Max(all, expected)
	if base == 0 {
		return 0, false
	}
	return Figure(10 * math.Log10(math.Max(sumSquares(off)/base, 1e-9))), all < expected/2
}

func sumSquares(x []float64) float64 {
	s := 0.0
	for _, v := range x {
		s += v * v
	}
	return s
}

// predictor returns the coefficients that tell a sample from the ones before it, the newest first, by least
// squares forwards and backwards; nil where there is nothing to tell.
func predictor(x []float64, order int) []float64 {
	a := make([][]float64, order)
	for i := range a {
		a[i] = make([]float64, order+1)
	}
	add := func(want float64, at func(k int) float64) {
		for i := range order {
			v := at(i)
			for j := i; j < order; j++ {
				a[i][j] += v * at(j)
			}
			a[i][order] += v * want
		}
	}
	for n := order; n < len(x); n++ {
		add(x[n], func(k int) float64 { return x[n-1-k] })
		m := n - order
		add(x[m], func(k int) float64 { return x[m+1+k] })
	}
	energy := 0.0
	for i := range order {
		energy += a[i][i]
	}
	if energy <= 0 {
		return nil
	}
	for i := range order { // a little noise keeps what is hardly there from counting
		a[i][i] += 1e-7 * energy
		for j := range i {
			a[i][j] = a[j][i]
		}
	}
	return solve(a)
}

// solve eliminates a symmetric positive system with its right side as the last column.
func solve(a [][]float64) []float64 {
	n := len(a)
	for i := range n {
		for r := i + 1; r < n; r++ {
			f := a[r][i] / a[i][i]
			for c := i; c <= n; c++ {
				a[r][c] -= f * a[i][c]
			}
		}
	}
	x := make([]float64, n)
	for i := n - 1; i >= 0; i-- {
		s := a[i][n]
		for c := i + 1; c < n; c++ {
			s -= a[i][c] * x[c]
		}
		x[i] = s / a[i][i]
	}
	return x
}
