package facts

import (
	"math"

	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// The features by which a role is told from the sound: each about -1 to 1 on the stems that the weights were
// fitted to (see roles.go).
const features = 16

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
	}
}

const weights = 2*features + 1 // of each feature, of its square, and one

// roleWeights are those of a multinomial logistic regression with a penalty of 0.3 on their squares, fitted to the 181
// stems of stemsOfAllRoles and the demo, each as it is and three times at other speeds, tilts and drives
// (scripts/fit-roles). They are our own; common practice has no published source for them.
var roleWeights = []struct {
	role    session.Role
	weights [weights]float64
}{
	{
		session.Kick,
		[weights]float64{
			1.34,
			-0.30,
			-1.04,
			0.37,
			-0.95,
			-1.00,
			-0.38,
			0.41,
			-0.06,
			-0.73,
			0.62,
			-0.27,
			2.22,
			1.54,
			-1.00,
			-0.72,
			-0.13,
			0.09,
			0.72,
			-0.42,
			0.91,
			0.65,
			-0.37,
			-0.32,
			-0.63,
			-1.41,
			0.14,
			-0.26,
			0.19,
			-0.34,
			0.91,
			-0.17,
			-0.67,
		},
	},
	{
		session.Bass,
		[weights]float64{
			1.04,
			0.45,
			-0.73,
			-0.55,
			-0.62,
			-1.21,
			0.17,
			-0.11,
			1.07,
			-0.51,
			-0.03,
			0.25,
			-1.68,
			-0.24,
			-0.18,
			-1.52,
			-0.47,
			-0.17,
			-0.03,
			0.73,
			0.75,
			0.88,
			-0.62,
			-1.07,
			0.48,
			0.34,
			-0.41,
			-0.20,
			-1.05,
			0.59,
			-0.37,
			0.92,
			0.56,
		},
	},
	{
		session.Snare,
		[weights]float64{
			0.56,
			0.04,
			0.07,
			0.59,
			0.19,
			-0.42,
			-2.40,
			-0.35,
			-0.12,
			-1.71,
			0.62,
			-1.23,
			0.55,
			-0.33,
			0.71,
			-0.07,
			0.17,
			0.29,
			-0.87,
			-0.76,
			-1.72,
			-0.61,
			1.96,
			1.31,
			-0.39,
			1.65,
			0.88,
			-2.39,
			-0.37,
			-0.33,
			-0.77,
			-0.37,
			-1.63,
		},
	},
	{
		session.Hats,
		[weights]float64{
			-0.78,
			-0.67,
			1.27,
			-0.53,
			1.49,
			1.21,
			1.10,
			0.36,
			-1.71,
			3.12,
			-0.03,
			1.06,
			0.23,
			-0.00,
			0.61,
			0.38,
			0.19,
			-0.43,
			-0.25,
			0.01,
			-1.09,
			1.49,
			-0.03,
			-1.10,
			1.67,
			-1.92,
			-0.28,
			-0.41,
			0.19,
			1.31,
			0.66,
			-0.20,
			-0.07,
		},
	},
	{
		session.Perc,
		[weights]float64{
			-1.27,
			-0.47,
			-0.56,
			-0.17,
			-0.20,
			0.34,
			-0.80,
			1.12,
			0.08,
			1.87,
			0.55,
			-2.17,
			0.48,
			-1.07,
			-0.91,
			0.87,
			0.81,
			1.11,
			1.48,
			0.64,
			1.30,
			-1.59,
			-0.50,
			-0.08,
			0.08,
			-1.45,
			-1.41,
			-1.35,
			-0.31,
			-0.34,
			-0.25,
			0.34,
			5.88,
		},
	},
	{
		session.Melodic,
		[weights]float64{
			-1.07,
			0.96,
			0.21,
			-0.09,
			-0.26,
			0.69,
			0.44,
			1.79,
			1.06,
			-0.82,
			-0.79,
			1.71,
			-0.37,
			-0.19,
			0.51,
			0.55,
			0.18,
			-0.15,
			0.20,
			-0.36,
			0.64,
			-0.67,
			0.41,
			0.63,
			-1.25,
			1.25,
			-0.10,
			2.56,
			0.33,
			-0.22,
			-0.10,
			0.58,
			-2.49,
		},
	},
	{
		session.Texture,
		[weights]float64{
			0.12,
			-0.22,
			0.18,
			0.47,
			-0.32,
			0.18,
			2.40,
			-1.75,
			-1.14,
			-0.49,
			0.04,
			0.87,
			-0.46,
			0.35,
			0.12,
			0.35,
			-0.29,
			-0.04,
			-0.25,
			-0.09,
			0.20,
			0.04,
			1.35,
			1.09,
			0.93,
			0.71,
			0.38,
			0.70,
			0.16,
			-0.29,
			-0.25,
			-0.20,
			-4.44,
		},
	},
	{
		session.Effects,
		[weights]float64{
			0.05,
			0.22,
			0.59,
			-0.08,
			0.67,
			0.20,
			-0.53,
			-1.47,
			0.82,
			-0.72,
			-0.98,
			-0.21,
			-0.97,
			-0.05,
			0.13,
			0.16,
			-0.46,
			-0.71,
			-1.00,
			0.25,
			-0.98,
			-0.19,
			-2.19,
			-0.45,
			-0.89,
			0.83,
			0.80,
			1.35,
			0.87,
			-0.38,
			0.16,
			-0.90,
			2.86,
		},
	},
}

// surest is how sure a guess by the sound alone may be: with instruments that the weights do not know, one in ten is wrong.
const surest = 0.8

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
