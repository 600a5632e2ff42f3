package facts

import (
	"math"

	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// The features by which a role is told from the sound: each about -1 to 1 on the stems that the weights were
// fitted to (see roles.go).
const features = 19

// features returns what the role of a sound is told by.
func (a *Analysis) features() [features]float64 {
	p := a.Portrait
	var bands [5]float64 // shares of the energy: to 150, 500, 2000, 5000 Hz and over
	all, octaves := 0.0, 0.0
	for i, l := range p.Spectrum.Level {
		if !l.Valid() {
			continue
		}
		e, hz := math.Pow(10, float64(l)/10), meter.BandHz(i)
		all += e
		octaves += e * math.Log2(hz/500)
		k := 0
		for k < 4 && hz > [4]float64{150, 500, 2000, 5000}[k] {
			k++
		}
		bands[k] += e
	}
	root := func(k int) float64 { return 2*math.Sqrt(bands[k]/math.Max(all, 1e-30)) - 1 }
	sweep, same, kickHz := 0.0, 0.0, 0.0
	if a.Kick != nil {
		same, kickHz = a.Kick.Confidence, math.Log2(a.Kick.Hz/100)
		if p.Sweep.StartHz.Valid() {
			sweep = math.Log2(math.Max(1, float64(p.Sweep.StartHz)/a.Kick.Hz))
		}
	}
	low := 0.0 // the fundamental, where most has a pitch
	if a.Fundamental != nil {
		low = p.Pitched * math.Log2(a.Fundamental.Hz/100)
	}
	return [features]float64{
		root(0), root(1), root(2), root(3), root(4),
		octaves / math.Max(all, 1e-30) / 3,
		2*p.Sustain - 1, 2*p.Spectrum.Tonal - 1, 2*p.Pitched - 1,
		math.Min(2, p.Attacks/4) - 1, p.Strike/20 - 1, math.Log10(math.Max(0.01, p.Decay)) + 1,
		2*same - 1, sweep/2 - 1, kickHz, low,
		2*p.Kinds.share(p.Kinds.Low) - 1, 2*p.Kinds.share(p.Kinds.High) - 1, 4*p.Kinds.second() - 1,
	}
}

const weights = 2*features + 1 // of each feature, of its square, and one

// roleWeights are those of a multinomial logistic regression with a penalty of 0.3 on their squares, fitted to the stems of
// stemsOfAllRoles and the demo, each as it is and three times at other speeds, tilts and drives (scripts/fit-roles, which also says
// how right they are on stems that they were not fitted to). They are our own; common practice has no published source for them.
var roleWeights = []struct {
	role    session.Role
	weights [weights]float64
}{
	{session.Kick, [weights]float64{
		0.95, -0.26, -0.86, 0.08, -0.89, -1.30, 0.45, -0.39, -0.11, 0.23, 0.84, -0.83, 2.92,
		1.27, -1.35, -0.90, 0.29, -0.45, -0.94, 0.15, 0.51, 0.70, -0.18, 0.75, 0.77, 0.23,
		-0.47, -0.54, -0.75, 0.20, -0.18, 1.15, -0.47, -0.64, 0.29, 0.59, 0.18, 0.30, -4.86,
	}},
	{session.Bass, [weights]float64{
		1.29, 0.59, -0.89, -0.56, -0.46, -1.01, 0.60, -0.15, 1.01, -0.11, -0.17, 0.28, -1.89,
		-0.64, -0.00, -1.54, -0.05, -0.02, -0.07, -0.80, -0.65, 0.05, 0.75, 0.69, 0.64, -0.29,
		-0.98, 0.53, 0.15, -0.18, -0.06, -0.23, 0.20, 0.58, 1.01, 0.05, 0.01, 0.32, -1.03,
	}},
	{session.Snare, [weights]float64{
		0.02, 0.01, 0.20, 0.71, 0.29, 0.28, -2.24, -0.14, -0.31, -2.20, 0.49, -0.59, 0.37,
		0.02, 0.29, -0.53, 0.73, 0.01, 0.16, -0.65, 0.23, 0.05, -0.51, -1.58, -0.78, 1.71,
		1.15, 0.07, 2.08, 0.92, -2.42, -0.47, 0.40, -0.11, -0.30, 0.05, -0.11, 0.04, -1.59,
	}},
	{session.Hats, [weights]float64{
		-0.30, -1.00, 0.97, -0.53, 1.40, 0.86, 1.17, 0.58, -1.69, 1.93, -0.49, 1.06, 0.01,
		-0.35, 0.88, 0.34, -0.12, 0.44, -0.46, 0.17, -0.00, -0.38, 0.09, -0.97, 1.01, -0.03,
		-0.95, 1.67, -1.85, 0.19, -0.47, -0.07, 0.91, 0.22, -0.17, 0.01, 0.24, 0.09, -0.36,
	}},
	{session.Perc, [weights]float64{
		-1.16, -0.53, -0.41, -0.04, -0.96, 0.32, -2.42, 2.00, 0.39, -0.27, -0.61, -1.18, 0.73,
		-0.34, -0.30, 1.52, -0.43, 1.40, -0.24, 1.62, 1.60, 0.96, 0.26, 1.78, -1.27, -0.49,
		0.15, -0.62, -1.47, -0.84, -0.56, -0.21, -0.44, -0.21, -0.42, -0.10, 0.75, -0.07, 3.25,
	}},
	{session.Drums, [weights]float64{
		1.02, 0.44, -0.66, 0.27, 0.24, -1.02, -0.28, -0.30, -0.68, 3.06, 1.10, -2.01, -0.35,
		-0.60, -0.13, 0.01, 0.26, -0.07, 1.66, -0.09, -0.85, -0.31, -0.13, -1.25, -0.15, -0.76,
		0.16, -0.07, -1.45, -1.12, -0.98, -0.29, -0.34, 0.30, -0.02, -0.59, -1.08, -0.25, 10.26,
	}},
	{session.Melodic, [weights]float64{
		-1.64, 0.86, 0.83, 0.01, -0.19, 0.92, 0.81, 1.85, 1.37, -0.88, -0.50, 1.88, -0.53,
		0.22, 0.37, 0.57, -0.21, 0.21, 0.14, 0.34, -0.22, -0.01, -0.55, 0.69, -0.76, 0.60,
		0.24, -0.93, 1.27, -0.19, 2.84, 0.83, 0.02, -0.64, 0.75, -0.15, -0.04, -0.57, -1.49,
	}},
	{session.Texture, [weights]float64{
		-0.04, -0.29, 0.30, 0.27, -0.28, 0.32, 2.35, -1.88, -1.11, -0.53, 0.07, 0.99, -0.93,
		0.53, 0.13, 0.35, -0.21, -0.41, -0.04, -0.23, 0.10, -0.08, -0.09, 0.36, 0.16, 1.38,
		1.05, 0.84, 0.77, 0.28, 0.72, 0.03, -0.37, 0.06, -0.21, 0.04, 0.00, 0.04, -5.20,
	}},
	{session.Effects, [weights]float64{
		-0.15, 0.17, 0.52, -0.23, 0.84, 0.64, -0.43, -1.57, 1.12, -1.23, -0.74, 0.40, -0.32,
		-0.11, 0.10, 0.18, -0.24, -1.11, -0.21, -0.50, -0.72, -0.97, 0.36, -0.47, 0.37, -2.35,
		-0.36, -0.95, 1.27, 0.75, 1.10, -0.74, 0.09, 0.43, -0.94, 0.10, 0.04, 0.11, 1.02,
	}},
}

// surest is how sure a guess by the sound alone may be: of stems of the same instruments that the weights were not fitted to 99 in a
// hundred are right where it is as sure as that (docs/numbers.md has the table), of others nobody knows.
const surest = 0.9

// likeliest returns the role that a sound most likely has, and how sure that is.
func (a *Analysis) likeliest() (session.Role, float64) {
	x := a.features()
	best, sum := 0, 0.0
	scores := make([]float64, len(roleWeights))
	for k, r := range roleWeights {
		scores[k] = r.weights[2*features]
		for i, v := range x {
			scores[k] += v*r.weights[i] + v*v*r.weights[features+i]
		}
		if scores[k] > scores[best] {
			best = k
		}
	}
	for _, s := range scores {
		sum += math.Exp(s - scores[best])
	}
	return roleWeights[best].role, min(surest, 1/sum)
}
