package compare

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/meter"
	"mellowthump/internal/outside"
)

// soundLike is a sound with a tilt and a middle, at some loudness.
func soundLike(r *rand.Rand, tilt, middle, loud float64) Sound {
	s := Sound{Loudness: meter.Figure(loud), Crest: meter.Figure(8 + 6*r.Float64()), Range: meter.Figure(10 * r.Float64()), Correlation: meter.Figure(r.Float64())}
	for i := range meter.Bands {
		hz := meter.BandHz(i)
		l := loud - 20 + tilt*math.Log2(hz/1000) + r.Float64()
		if hz > 290 && hz < 3200 {
			l += middle
		}
		s.Bands = append(s.Bands, meter.Figure(l))
	}
	s.Tilt = Tilt(s.Bands)
	return s
}

// Mean and spread of a set are numpy's, in every band and every figure; percentiles count ties by half.
func TestSetByNumpy(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	var set []Sound
	for range 9 {
		set = append(set, soundLike(r, -2-2*r.Float64(), 4*r.Float64()-2, -8-8*r.Float64()))
	}
	song := soundLike(r, -3, 0, -12)
	got := Stand(song, set)
	var rows [][]float64
	for _, s := range set {
		row := []float64{float64(s.Loudness), float64(s.Tilt), float64(s.Middle()), float64(s.Crest), float64(s.Range), float64(s.Correlation)}
		for b := range meter.Bands {
			row = append(row, float64(s.About(b)))
		}
		rows = append(rows, row)
	}
	var want [][]float64
	outside.Python(t, `
import json, sys
import numpy as np
x = np.array(json.load(sys.stdin))
print(json.dumps([list(x.mean(0)), list(x.std(0, ddof=1))]))
`, rows, &want)
	check := func(name string, is Spread, k int) {
		if math.Abs(float64(is.Mean)-want[0][k]) > 1e-9 || math.Abs(float64(is.Deviation)-want[1][k]) > 1e-9 {
			t.Errorf("%s: %v, numpy says %.4f and %.4f", name, is, want[0][k], want[1][k])
		}
	}
	for k, p := range got.Places {
		check(p.Name, p.Spread, k)
		under := 0.0
		for _, row := range rows {
			if row[k] < float64(p.Song) {
				under++
			}
		}
		if math.Abs(float64(p.Under)-100*under/9) > 1e-9 || p.Says == "" {
			t.Errorf("%s: percentile %v of %v, %q", p.Name, p.Under, 100*under/9, p.Says)
		}
	}
	for b := range meter.Bands {
		check("a band", got.Bands[b], len(got.Places)+b)
	}
	same := Stand(set[0], []Sound{set[0], set[0], set[0]})
	for _, p := range same.Places {
		if p.Under != 50 || p.Says != "among the middle half" || float64(p.Deviation) > 1e-9 {
			t.Errorf("among itself: %+v", p)
		}
	}
	if one := Stand(song, set[:1]).Places[0]; one.Deviation.Valid() || one.Says != "too few to say" {
		t.Errorf("%+v", one)
	}
	if none := Stand(song, nil); none.Of != 0 || none.Places[0].Mean.Valid() || none.Places[0].Under.Valid() {
		t.Errorf("%+v", none.Places[0])
	}
}

// A hump of 4 dB in the middle is told, and a hollow, whatever the tilt.
func TestShape(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for _, tilt := range []float64{-5, -2.5, 0} {
		for middle, want := range map[float64]string{5: "humped", -5: "scooped", 0: "flat"} {
			if s := Shape(soundLike(r, tilt, middle, -10).Middle()); s != want {
				t.Errorf("tilt %.1f, middle %.0f: %s", tilt, middle, s)
			}
		}
	}
	if Shape((Sound{}).Middle()) != "" {
		t.Error("nothing has a shape")
	}
}
