package meter

import (
	"math"
	"math/rand/v2"
	"sort"
	"testing"

	"mellowthump/internal/outside"
)

// The truth is the tempo and the swing that the pattern was made with; hits miss the grid by some ms.
func TestTempo(t *testing.T) {
	outside.Slow(t)
	r := rand.New(rand.NewPCG(5, 6))
	patterns := map[string][]float64{ // in beats, of two bars
		"four on the floor": {0, 1, 2, 3, 4, 5, 6, 7},
		"trap":              {0, 1.5, 2, 2.5, 4, 4.75, 6, 7.5},
		"boom bap":          {0, 1, 1.75, 2.5, 3, 4, 5, 6.5, 7},
		"offbeat":           {0, 0.5, 1.5, 2, 3.5, 4, 5.5, 6, 7.5},
		"drill":             {0, 1.5, 3, 4, 5.5, 6.75},
		"two step":          {0, 2.5, 4, 5.75, 6.5},
		"rolling":           {0, 0.75, 1.5, 2.25, 3, 4, 4.5, 5.5, 6, 7, 7.5},
	}
	swung := map[string][]float64{ // the second half of an eighth is swung
		"shuffle": {0, 0.5, 1, 1.5, 2, 2.5, 3, 3.5, 4, 4.5, 5, 5.5, 6, 6.5, 7, 7.5},
		"swing":   {0, 1, 1.5, 2, 3, 3.5, 4, 5, 5.5, 6, 7},
		"lazy":    {0, 1.5, 2, 3.5, 4, 5.5, 6, 6.5, 7.5},
	}
	tempi := []float64{62, 71, 80, 88, 93.5, 104, 120, 126, 142, 158, 174}
	made := func(beats []float64, bpm, swing float64, of float64, bars int) ([]float64, float64) {
		var hits []float64
		offset := 0.02 + 0.2*r.Float64()
		for bar := range bars / 2 {
			for _, b := range beats {
				unit := math.Floor(b / of)
				in := b - unit*of
				if in >= of/2-1e-9 { // the second half begins later
					in = of*swing + (in-of/2)*(1-swing)*2
				}
				hits = append(hits, offset+(unit*of+in+8*float64(bar))*60/bpm+0.003*r.NormFloat64())
			}
		}
		return hits, offset
	}
	type count struct{ exact, other, bar, swing, n int }
	judge := func(name string, c *count, hits []float64, bpm, offset, swing float64) {
		got := EstimateTempo(hits, nil)
		c.n++
		if got == nil {
			return
		}
		if math.Abs(got.BPM/bpm-1) < 0.002 {
			c.exact++
			bar := 240 / got.BPM
			if math.Abs(math.Remainder(got.Offset-offset, bar)) < 0.010 {
				c.bar++
			} else {
				t.Logf("%s at %g bpm, swing %.2f from %.3f: bar %+v", name, bpm, swing, offset, *got)
			}
			if math.Abs(got.Swing-swing) < 0.015 {
				c.swing++
			} else {
				t.Logf("%s at %g bpm, swing %.2f: %+v", name, bpm, swing, *got)
			}
			return
		}
		for _, o := range got.Others {
			if math.Abs(o/bpm-1) < 0.002 {
				c.other++
				return
			}
		}
		t.Logf("%s at %g bpm, swing %.2f: %+v", name, bpm, swing, *got)
	}
	var straight, eighths, sixteenths, long count
	for name, beats := range patterns {
		for _, bpm := range tempi {
			hits, offset := made(beats, bpm, 0.5, 1, 16)
			judge(name, &straight, hits, bpm, offset, 0.5)
			hits, offset = made(beats, bpm+0.13, 0.5, 1, 96)
			judge(name+", long", &long, hits, bpm+0.13, offset, 0.5)
		}
	}
	for name, beats := range swung {
		for _, bpm := range tempi {
			for _, swing := range []float64{0.58, 0.62, 2. / 3} {
				hits, offset := made(beats, bpm, swing, 1, 16)
				judge(name, &eighths, hits, bpm, offset, swing)
			}
		}
	}
	for name, beats := range map[string][]float64{ // the second half of a sixteenth's pair is swung
		"boom bap": {0, 0.75, 1.5, 2.25, 2.5, 3.75, 4, 5.25, 5.5, 6.75, 7.25},
		"hop":      {0, 0.25, 1, 1.75, 2.5, 2.75, 4, 4.75, 5.5, 6.25, 7, 7.75},
	} {
		for _, bpm := range []float64{80, 86, 93.5, 100} {
			for _, swing := range []float64{0.58, 0.62, 2. / 3} {
				hits, offset := made(beats, bpm, swing, 0.5, 16)
				judge(name, &sixteenths, hits, bpm, offset, swing)
			}
		}
	}
	for _, c := range []struct {
		name string
		count
	}{{"straight", straight}, {"long", long}, {"swung eighths", eighths}, {"swung sixteenths", sixteenths}} {
		if c.exact+c.other < c.n*98/100 || c.exact < c.n*60/100 || c.bar < c.exact*97/100 || c.swing < c.exact*97/100 {
			t.Errorf("%s: too many are wrong", c.name)
		}
		t.Logf("%s: of %d, %d exact, %d among the others; first bar %d, swing %d", c.name, c.n, c.exact, c.other, c.bar, c.swing)
	}
	if EstimateTempo([]float64{1, 2}, nil) != nil {
		t.Error("two hits have a tempo")
	}
}

// A tempo that is 0.9 sure is right, or half or twice what is right, in 98 of 100, and hits that stand on no grid are never that sure; most
// rhythms are. Invented rhythms of sixteenths over two bars, straight and swung, played by up to 10 ms beside.
func TestTempoSure(t *testing.T) {
	outside.Slow(t)
	r := rand.New(rand.NewPCG(1, 2))
	const songs = 100
	sure, wrong := 0, 0
	for range songs {
		bpm, swing, beside := 70+110*r.Float64(), 0.5, 0.010*r.Float64()
		if r.IntN(2) == 0 {
			swing += 0.17 * r.Float64()
		}
		var pattern [32]bool
		for i := range pattern {
			often := map[bool]float64{true: 0.2, false: 0.06}[i%2 == 0]
			if i%4 == 0 {
				often = 0.35
			}
			pattern[i] = i%16 == 0 || r.Float64() < often
		}
		back := 4 + 4*r.IntN(2) // where the snare is
		for i := back; i < len(pattern); i += 2 * back {
			pattern[i] = true
		}
		start := 2 * r.Float64()
		var hits, none []float64
		at := 0.0
		for b := range len(pattern) * (4 + r.IntN(8)) {
			if pattern[b%len(pattern)] {
				eighth := float64(b/2) + swing*float64(b%2)
				hits = append(hits, start+eighth*30/bpm+beside*r.NormFloat64())
				at += 0.1 + 0.4*r.ExpFloat64()
				none = append(none, at)
			}
		}
		sort.Float64s(hits)
		if got := EstimateTempo(hits, nil); got.Confidence >= 0.9 {
			sure++
			if off := math.Remainder(math.Log2(got.BPM/bpm), 1); math.Abs(off) > 0.007 {
				wrong++
			}
		}
		if got := EstimateTempo(none, nil); got.Confidence >= 0.9 {
			t.Errorf("hits that stand on no grid are %.0f %% sure of %g bpm", 100*got.Confidence, got.BPM)
		}
	}
	if 50*wrong > sure || sure < songs/2 {
		t.Errorf("of %d made rhythms %d are 0.9 sure, of these %d wrong", songs, sure, wrong)
	}
}
