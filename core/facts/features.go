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
		0.98, -0.46, -0.70, 0.03, -0.80, -1.31, -0.17, -0.30, -0.03, 0.14, 0.31, -0.83, 2.30,
		1.32, -1.28, -1.00, 0.26, -0.37, -0.87, 0.15, 0.81, 0.44, -0.15, 0.66, 0.76, 0.00,
		-0.44, -0.67, -0.62, 0.19, -0.17, 1.07, -0.57, -0.55, 0.34, 0.53, 0.13, 0.34, -3.44,
	}},
	{session.Bass, [weights]float64{
		1.48, 0.40, -0.82, -0.47, -0.53, -1.01, 0.42, 0.12, 0.92, -0.11, -0.30, 0.40, -1.91,
		-0.91, 0.32, -1.46, 0.21, -0.02, -0.46, -0.83, -0.48, -0.25, 0.63, 0.79, 0.59, -0.43,
		-0.75, 0.27, 0.05, -0.14, 0.09, -0.58, 0.38, 0.40, 0.85, 0.14, 0.01, 0.16, -0.73,
	}},
	{session.Snare, [weights]float64{
		0.05, 0.24, 0.16, 0.75, 0.07, 0.18, -2.41, -0.33, -0.31, -2.04, 0.55, -0.69, 0.40,
		-0.18, 0.37, 0.01, 0.76, -0.02, 0.17, -0.43, 0.31, -0.30, -0.73, -1.38, -0.76, 1.84,
		0.74, -0.20, 1.86, 0.89, -2.19, -0.36, 0.69, 0.12, -0.30, 0.08, -0.14, 0.02, -1.79,
	}},
	{session.Hats, [weights]float64{
		-0.35, -0.86, 1.05, -0.56, 1.36, 0.94, 1.17, 0.54, -1.80, 2.24, -0.23, 1.24, 0.14,
		-0.60, 0.73, 0.27, -0.13, 0.33, -0.57, 0.24, -0.41, -0.44, 0.15, -0.84, 1.05, -0.24,
		-0.94, 1.82, -1.69, 0.16, -0.52, 0.08, 1.04, 0.36, -0.20, 0.02, 0.30, 0.11, -1.29,
	}},
	{session.Perc, [weights]float64{
		-1.24, -0.59, -0.18, -0.07, -1.04, 0.29, -0.92, 1.78, 0.13, -0.01, 0.19, -1.64, 0.59,
		-0.19, -0.62, 0.89, -0.96, 1.20, -0.63, 1.25, 0.96, 1.71, 0.53, 1.78, -1.03, -0.36,
		0.59, 0.17, -1.59, -0.79, -0.66, -0.12, -0.91, -0.32, -0.25, 0.28, 0.40, 0.38, 0.53,
	}},
	{session.Drums, [weights]float64{
		0.71, 0.25, -0.52, 0.35, 0.47, -0.64, -0.73, -0.13, -0.37, 2.18, 0.48, -1.75, -0.09,
		-0.24, -0.23, 0.20, 0.20, 0.09, 1.95, -0.12, -0.44, -0.46, -0.28, -1.23, -0.26, -0.69,
		-0.26, -0.31, -1.03, -1.15, -0.79, -0.23, -0.21, -0.01, -0.08, -0.87, -0.64, -0.73, 11.36,
	}},
	{session.Melodic, [weights]float64{
		-1.62, 1.18, 0.21, -0.11, -0.02, 0.85, 0.97, 1.72, 1.42, -0.83, -0.46, 1.68, -0.41,
		0.35, 0.47, 0.56, -0.12, 0.28, 0.53, 0.34, 0.06, 0.10, -0.33, 0.56, -0.70, 0.92,
		0.16, -1.07, 1.31, -0.23, 2.36, 0.38, -0.26, -0.75, 0.69, -0.27, -0.25, -0.37, -0.00,
	}},
	{session.Texture, [weights]float64{
		0.06, -0.39, 0.32, 0.28, -0.25, 0.27, 2.28, -2.09, -0.99, -0.50, 0.18, 1.07, -0.49,
		0.36, 0.06, 0.28, -0.13, -0.41, -0.01, -0.20, -0.06, -0.00, -0.00, 0.22, 0.14, 1.38,
		1.20, 0.80, 0.70, 0.27, 0.67, 0.23, -0.38, 0.18, -0.14, 0.01, 0.00, 0.01, -5.34,
	}},
	{session.Effects, [weights]float64{
		-0.06, 0.21, 0.48, -0.20, 0.74, 0.43, -0.62, -1.32, 1.04, -1.06, -0.71, 0.51, -0.52,
		0.08, 0.19, 0.25, -0.10, -1.08, -0.10, -0.39, -0.75, -0.80, 0.19, -0.57, 0.23, -2.43,
		-0.30, -0.82, 1.01, 0.81, 1.21, -0.48, 0.20, 0.57, -0.90, 0.07, 0.19, 0.07, 0.71,
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
