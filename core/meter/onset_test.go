package meter

import (
	"math"
	"math/rand/v2"
	"testing"
)

// matched counts the true hits that are found, within a tolerance in seconds.
func matched(found, truth []float64, tolerance float64) int {
	hit := 0
	used := map[int]bool{}
	for _, w := range truth {
		for i, g := range found {
			if !used[i] && math.Abs(w-g) <= tolerance {
				used[i] = true
				hit++
				break
			}
		}
	}
	return hit
}

// fMeasure compares found hits with true ones at a tolerance in seconds.
func fMeasure(found, truth []float64, tolerance float64) float64 {
	return 2 * float64(matched(found, truth, tolerance)) / float64(len(found)+len(truth))
}

// Hits among what else a kick's file may hold: ghost notes 14 dB down, rolls to 60 ms, room
// tone at -50 dBFS, a bass 12 dB under the kick through it all. The truth is where the hits were put.
func TestHitsAreRobust(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	hit := kick(52, 190, 0.009, 0.07, 0.4)
	ghost := make([]float32, len(hit))
	for i, v := range hit {
		ghost[i] = v * float32(math.Pow(10, -14.0/20))
	}
	var loud, ghosts, all []float64
	for bar := range 8 {
		at := 0.1 + 2*float64(bar)
		loud = append(loud, at, at+0.75, at+1)
		ghosts = append(ghosts, at+0.5)
		for k := range 4 {
			loud = append(loud, at+1.5+0.06*float64(k)) // a roll
		}
	}
	x := pattern(loud, 17, hit)
	for i, v := range pattern(ghosts, 17, ghost) {
		x[i] += v
	}
	all = append(append(all, loud...), ghosts...)
	check := func(name string, x []float32, least float64) {
		t.Helper()
		m := NewOnsetMeter(testRate)
		m.Add(x)
		for quiet, truth := range map[float64][]float64{QuietHits: loud, 20: all} { // the ghosts are doubtful at first
			if f := fMeasure(Sure(m.Onsets(x), quiet), truth, 0.010); f < least {
				t.Errorf("%s: F-measure %.3f at %g dB, want %.2f", name, f, quiet, least)
			}
		}
	}
	check("dry", x, 0.98)
	room := append([]float32(nil), x...)
	for i := range room {
		room[i] += float32(math.Pow(10, -50.0/20) * r.NormFloat64())
	}
	check("room tone", room, 0.96)
	// a bass held in the same file: every loud hit is found, and little else but its own start
	for _, b := range []struct {
		name string
		hz   float64
		amps []float64
	}{
		{"a plain bass", 43.65, []float64{0.2, 0.05}},
		{"a low one", 36.7, []float64{0.2, 0.02}},
		{"a driven one", 49, []float64{0.2, 0.1, 0.06, 0.04}},
	} {
		with := append([]float32(nil), x...)
		for i, v := range partials(b.hz, 17, b.amps...) {
			with[i] += v
		}
		found := Onsets(with, testRate)
		if hit := matched(found, loud, 0.010); hit < len(loud)*95/100 || len(found) > len(loud)*108/100 {
			t.Errorf("with %s: %d of %d loud hits, %d found in all", b.name, hit, len(loud), len(found))
		}
	}
}
