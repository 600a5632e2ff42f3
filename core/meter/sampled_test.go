package meter

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

// A drum recorded alone, and where its sound passes a tenth of its peak: the truth of when it is heard.
type drum struct {
	name  string
	x     []float32
	tenth float64 // s
}

// sampledKicks are the bass drums of all kits, each played alone.
func sampledKicks(t testing.TB) []drum {
	var out []drum
	for _, kit := range sampled.Kits {
		for _, key := range []int{35, 36} {
			b := sampled.Play(t, map[int]int{sampled.Drums: kit}, []sampled.Note{{At: 0.1, End: 0.4, Key: key, Velocity: 110, Channel: sampled.Drums}}, 1.5)
			out = append(out, newDrum(fmt.Sprintf("kit %d key %d", kit, key), b.Mono()))
		}
	}
	return out
}

// newDrum cuts the silence before a drum away; it stands at its own tenth then.
func newDrum(name string, x []float32) drum {
	peak := peakOf(x[:len(x)*9/10])
	first, at := -1, 0
	for i, v := range x {
		if first < 0 && (v > peak/1000 || -v > peak/1000) {
			first = i
		}
		if v > peak/10 || -v > peak/10 {
			at = i
			break
		}
	}
	x = x[first:]
	const fade = testRate / 5 // no click at its end
	for i := range fade {
		x[len(x)-1-i] *= float32(i) / fade
	}
	return drum{name, x, float64(at-first) / testRate}
}

// long is a long synthetic kick with a click of noise, and without one.
func longKicks() []drum {
	r := rand.New(rand.NewPCG(1, 9))
	var out []drum
	for _, f := range []float64{45, 55} {
		for _, decay := range []float64{0.2, 0.5} {
			x := kick(f, 180, 0.010, decay, 1.2)
			for i := range 400 {
				x[i] += float32(0.15 * r.NormFloat64() * math.Exp(-float64(i)/80))
			}
			out = append(out, newDrum(fmt.Sprintf("long %g Hz %g s", f, decay), x))
		}
	}
	return out
}

// struck lays a drum at times, at gains in dB; choked cuts each off at the next.
func struck(d drum, times, gains []float64, seconds float64, choked bool) (x []float32, truth []float64) {
	x = make([]float32, int(seconds*testRate))
	for k, s := range times {
		at := int(math.Round(s * testRate))
		g := float32(math.Pow(10, gains[k]/20))
		if choked {
			for i := max(0, at-66); i < len(x); i++ {
				x[i] *= float32(max(0, 1-float64(i-at+66)/66))
			}
		}
		for i, v := range d.x {
			if at+i < len(x) {
				x[at+i] += g * v
			}
		}
		truth = append(truth, float64(at)/testRate+d.tenth)
	}
	return x, truth
}

func addNoise(r *rand.Rand, x []float32, db float64) {
	g := math.Pow(10, db/20)
	for i := range x {
		x[i] += float32(g * r.NormFloat64())
	}
}

func normalise(x []float32) {
	p := peakOf(x)
	for i := range x {
		x[i] *= 0.8 / p
	}
}

// 3-sound: F-measure 0.99 at gaps of 180 ms and more, 0.98 at 120, 0.95 at 60, on the bass drums of sampled kits
// and on long synthetic ones, each cut off by the next or ringing into it, in room noise at -50 dBFS; times
// within 8 ms. The truth is where the drums were put.
func TestSampledHits(t *testing.T) {
	outside.Slow(t)
	kicks := append(sampledKicks(t), longKicks()...)
	for _, gaps := range []struct{ from, to, want float64 }{{0.18, 0.5, 0.99}, {0.12, 0.18, 0.98}, {0.06, 0.12, 0.95}} {
		for _, choked := range []bool{true, false} {
			r := rand.New(rand.NewPCG(7, 8))
			var found, truth, hit int
			var late []float64
			for _, d := range kicks {
				var times, gains []float64
				for at := 0.1; at < 10; at += gaps.from + (gaps.to-gaps.from)*r.Float64() {
					times, gains = append(times, at), append(gains, -4*r.Float64())
				}
				x, tr := struck(d, times, gains, 11, choked)
				normalise(x)
				addNoise(r, x, -50)
				got := Onsets(x, testRate)
				m := matched(got, tr, 0.010)
				found, truth, hit = found+len(got), truth+len(tr), hit+m
				for _, w := range tr {
					for _, g := range got {
						if math.Abs(g-w) < 0.05 {
							late = append(late, math.Abs(g-w))
						}
					}
				}
				f := 2 * float64(m) / float64(len(got)+len(tr))
				if f < gaps.want {
					t.Logf("  %s: F %.3f, %d found of %d, %d matched", d.name, f, len(got), len(tr), m)
				}
			}
			f := 2 * float64(hit) / float64(found+truth)
			in2, in8 := 0, 0
			for _, l := range late {
				if l <= 0.002 {
					in2++
				}
				if l <= 0.008 {
					in8++
				}
			}
			t.Logf("gaps %.0f-%.0f ms choked %v: F %.3f recall %.3f precision %.3f; within 2 ms %.3f, 8 ms %.3f", 1000*gaps.from, 1000*gaps.to, choked, f,
				float64(hit)/float64(truth), float64(hit)/float64(found), float64(in2)/float64(len(late)), float64(in8)/float64(len(late)))
			if f < gaps.want || float64(in8) < 0.99*float64(len(late)) {
				t.Errorf("F-measure %.3f, want %.2f; %d of %d within 8 ms", f, gaps.want, in8, len(late))
			}
		}
	}
}

// Two modes of one drum that beat are one hit: at most 1 % too many are found. The truth is where the hits were
// put.
func TestBeatingModes(t *testing.T) {
	outside.Slow(t)
	r := rand.New(rand.NewPCG(3, 3))
	found, truth, hit := 0, 0, 0
	for _, pair := range [][2]float64{{58, 61}, {60, 75}, {50, 56}, {47, 58}, {62, 70}} {
		for _, decay := range []float64{0.25, 0.5, 1} {
			for _, click := range []bool{true, false} {
				for _, second := range []float64{1, 0.6} {
					x := make([]float32, int(1.2*testRate))
					for i := range x {
						s := float64(i) / testRate
						v := math.Sin(2*math.Pi*pair[0]*s) + second*math.Sin(2*math.Pi*pair[1]*s)
						v *= math.Exp(-s/decay) * (1 - math.Exp(-s/0.001))
						if click {
							v += 0.6 * r.NormFloat64() * math.Exp(-s/0.002)
						}
						x[i] = float32(0.4 * v)
					}
					d := newDrum("", x)
					var times, gains []float64
					for at := 0.1; at < 10; at += 0.45 + 0.5*r.Float64() {
						times, gains = append(times, at), append(gains, 0)
					}
					y, tr := struck(d, times, gains, 11, r.IntN(2) == 0)
					normalise(y)
					addNoise(r, y, -60)
					got := Onsets(y, testRate)
					hit += matched(got, tr, 0.030)
					if len(got) != len(tr) {
						t.Logf("%v decay %g click %v second %g: %d found of %d (%d match)", pair, decay, click, second, len(got), len(tr), matched(got, tr, 0.01))
					}
					found, truth = found+len(got), truth+len(tr)
				}
			}
		}
	}
	t.Logf("%d found, %d true", found, truth)
	if found > truth*101/100 || hit < truth*98/100 {
		t.Errorf("%d hits found, %d of %d true ones", found, hit, truth)
	}
}

// A bass drum of each kit with ghosts 20 dB down, with hats, a pedal hat and a bass in the same file 12 dB under
// it. At the usual threshold the ghosts are doubtful and little else is found; with a threshold of 24 dB they
// are hits. The truth is where the drums were put.
func TestHitsAmongOthers(t *testing.T) {
	outside.Slow(t)
	drums := sampledKicks(t)
	for _, with := range []struct {
		name         string
		hats, bass   bool
		hits, ghosts float64 // of them that are found; of the ghosts at 24 dB (under a bass nothing tells them)
	}{{"alone", false, false, 1, 0.98}, {"hats", true, false, 1, 0.98}, {"bass", false, true, 0.96, 0}, {"hats and bass", true, true, 0.98, 0}} {
		var found, loud, hit, ghost, ghosts, wide int
		for k, kit := range sampled.Kits {
			d := drums[2*k+1]
			r := rand.New(rand.NewPCG(uint64(kit), 3))
			var times, gains, soft, hard []float64
			for at := 0.2; at < 15; at += []float64{0.6, 0.9, 1.2}[r.IntN(3)] {
				times, gains = append(times, at), append(gains, -2*r.Float64())
				hard = append(hard, at+d.tenth)
				if r.IntN(4) == 0 {
					times, gains = append(times, at+0.3), append(gains, -20)
					soft = append(soft, at+0.3+d.tenth)
				}
			}
			x, _ := struck(d, times, gains, 16, false)
			normalise(x)
			var notes []sampled.Note
			programs := map[int]int{sampled.Drums: kit}
			for n := 0; with.hats && n < 100; n++ {
				s := 0.2 + 0.15*float64(n)
				notes = append(notes, sampled.Note{At: s, End: s + 0.1, Key: []int{42, 44, 42, 42}[n%4], Velocity: 70 + r.IntN(30), Channel: sampled.Drums})
			}
			for n := 0; with.bass && n < 25; n++ {
				programs[0] = 32 + k
				s := 0.2 + 0.6*float64(n)
				notes = append(notes, sampled.Note{At: s, End: s + 0.5, Key: 28 + r.IntN(12), Velocity: 70})
			}
			if len(notes) > 0 {
				o := sampled.Play(t, programs, notes, 16).Mono()
				p := peakOf(o)
				for i, v := range o {
					x[i] += 0.25 * 0.8 * v / p
				}
			}
			addNoise(r, x, -60)
			m := NewOnsetMeter(testRate)
			m.Add(x)
			all := m.Onsets(x)
			got, more := Sure(all, QuietHits), Sure(all, 24)
			found, loud, hit = found+len(got), loud+len(hard), hit+matched(got, hard, 0.015)
			ghost, ghosts, wide = ghost+matched(more, soft, 0.015), ghosts+len(soft), wide+len(more)-matched(more, append(hard, soft...), 0.015)
			for _, o := range all {
				if c := o.Confidence(); c <= 0 || c > 1 || o.Doubt(QuietHits) == "" && c < 0.5 {
					t.Errorf("a hit has a confidence of %g: %+v", c, o)
				}
			}
		}
		t.Logf("%s: %d found, %d of %d; at 24 dB %d of %d ghosts, %d of nothing", with.name, found, hit, loud, ghost, ghosts, wide)
		if float64(hit) < with.hits*float64(loud) || found > loud*105/100 || float64(ghost) < with.ghosts*float64(ghosts) {
			t.Errorf("%s: %d found, %d of %d hits, %d of %d ghosts", with.name, found, hit, loud, ghost, ghosts)
		}
	}
}
