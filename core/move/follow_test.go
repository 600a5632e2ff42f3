package move

import (
	"math"
	"math/rand/v2"
	"testing"
)

// A way back that follows the gaps: back a ms before each next hit, as written where there is room, held as long as
// written, never steeper than what clicks; in blocks as in one.
func TestFollowsTheGap(t *testing.T) {
	d := duckOf(Point{MS: -4}, Point{MS: 0, DB: -9}, Point{MS: 40, DB: -9}, Point{MS: 120, DB: -3, Bend: 0.3}, Point{MS: 240})
	d.Follow = true
	r := rand.New(rand.NewPCG(3, 4))
	for range 40 {
		p := Place{Rate: 8000, BPM: 120, Hits: []int{400}}
		for range 6 {
			p.Hits = append(p.Hits, p.Hits[len(p.Hits)-1]+400+r.IntN(2600))
		}
		n := p.Hits[6] + 3000
		g, err := d.Gain(p, n)
		if err != nil {
			t.Fatal(err)
		}
		db := func(hit int, ms float64) float64 {
			return 20 * math.Log10(float64(g[p.Hits[hit]+int(math.Round(8*ms))]))
		}
		for i := range p.Hits {
			gap := math.Inf(1)
			if i+1 < len(p.Hits) {
				gap = float64(p.Hits[i+1]-p.Hits[i]) / 8
			}
			by := math.Min(1, (gap-1-40)/200)
			for _, ms := range []float64{0, 20, 39, 40 + 40*by, 40 + 80*by, 40 + 140*by} {
				if ms > gap-5 {
					continue
				}
				want := d.GainDB(ms)
				if ms > 40 {
					want = d.GainDB(40 + (math.Round(8*ms)/8-40)/by)
				}
				if got := db(i, ms); gap > 49 && math.Abs(got-want) > 0.01 {
					t.Fatalf("hit %d with a gap of %.1f ms, %.1f ms after it: %.3f dB, want %.3f", i, gap, ms, got, want)
				}
			}
			if gap < 240 && gap > 75 && db(i, gap-4.5) < -3*4.5 {
				t.Errorf("a gap of %.1f ms: %.2f dB before the next hit", gap, db(i, gap-4.5))
			}
		}
		for i := 8; i < n; i++ {
			if by := math.Abs(20 * math.Log10(float64(g[i])/float64(g[i-8]))); by > 3.01 && g[i] > g[i-8] {
				t.Fatalf("at %d it comes back by %.2f dB in a ms", i, by)
			}
		}
		part, at := newDuckGain(d, p), 0
		for at < n {
			b := make([]float32, min(1+r.IntN(700), n-at))
			part.fill(b)
			for k, v := range b {
				if v != g[at+k] {
					t.Fatalf("frame %d in blocks: %g, at once %g", at+k, v, g[at+k])
				}
			}
			at += len(b)
		}
	}
}

// Where nothing is shortened the curve is the same object; where it is, its points keep their gains and their order.
func TestForAGap(t *testing.T) {
	d := duckOf(Point{MS: 0}, Point{MS: 5, DB: -12}, Point{MS: 60, DB: -12}, Point{MS: 160})
	if d.For(90) != d {
		t.Error("a curve that does not follow was changed")
	}
	d.Follow = true
	if d.For(161) != d || d.For(math.Inf(1)) != d {
		t.Error("a curve that has room was changed")
	}
	c := d.For(101)
	if from, to := c.Span(); from != 0 || math.Abs(to-100) > 1e-9 || c.Points[2] != d.Points[2] || c.Validate() != nil {
		t.Errorf("%+v", c.Points)
	}
	if _, to := d.For(20).Span(); math.Abs(to-64) > 1e-9 { // 12 dB at 3 dB/ms
		t.Errorf("as soon as may be: %g ms", to)
	}
	flat := duckOf(Point{MS: 0}, Point{MS: 100})
	flat.Follow = true
	if flat.For(50) != flat {
		t.Error("a flat curve was changed")
	}
}
