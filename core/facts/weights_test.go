package facts

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"os"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/demo"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

// featuresOf is a row of what scripts/fit-roles reads.
type featuresOf struct {
	Role string
	X    [features]float64
}

// With FEATURES set to a path it writes what the weights of roles are fitted to (scripts/fit-roles); without, it looks
// that every feature is a number in a sane range.
func TestFeatures(t *testing.T) {
	outside.Slow(t)
	path := os.Getenv("FEATURES")
	var stems []stemOf
	for _, d := range demo.SlowFerry().Stems {
		stems = append(stems, stemOf{d.Name, d.Role, d.Sound})
	}
	times := 1
	if path != "" {
		stems, times = append(stems, stemsOfAllRoles(t)...), 4
	}
	var rows []featuresOf
	for i, s := range stems {
		for k := range times {
			x := s.sound.Mono()
			if k > 0 {
				x = changed(x, rand.New(rand.NewPCG(uint64(i), uint64(k))))
			}
			f := analysed(t, audio.Buffer{Rate: sampled.Rate, Ch: [][]float32{x}}).features()
			for j, v := range f {
				if !(math.Abs(v) < 6) {
					t.Errorf("%s: feature %d is %g", s.name, j, v)
				}
			}
			rows = append(rows, featuresOf{string(s.role), f})
		}
	}
	if path == "" {
		return
	}
	b, err := json.Marshal(rows)
	if err == nil {
		err = os.WriteFile(path, b, 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// changed plays a sound at another speed, brighter or darker, driven or with noise.
func changed(x []float32, r *rand.Rand) []float32 {
	speed, y, peak := math.Pow(2, (r.Float64()-0.5)*0.6), []float32(nil), float32(0)
	for u := 0.0; int(u)+1 < len(x); u += speed {
		y = append(y, x[int(u)]+float32(u-math.Floor(u))*(x[int(u)+1]-x[int(u)]))
	}
	if s, err := dsp.RBJ(dsp.HighShelf, 1000, 0.7, (r.Float64()-0.5)*12, sampled.Rate); err == nil {
		dsp.NewFilter([]dsp.Biquad{s}).Process(y, y)
	}
	for _, v := range y {
		peak = max(peak, v, -v)
	}
	drive := r.Float64() * 1.5
	for k, v := range y {
		if drive > 0.5 {
			y[k] = float32(math.Tanh(drive * float64(v/peak)))
		}
		y[k] += peak * float32(0.001*r.NormFloat64()*r.Float64())
	}
	return y
}
