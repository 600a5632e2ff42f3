package duck

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

// pairOf is a kick and a bass with the kick's meter.
type pairOf struct {
	name string
	m    *meter.HitMeter
	bass meter.Held
}

// asItIs are the clearances with no duck.
func (p pairOf) asItIs(t testing.TB) []meter.Figure {
	t.Helper()
	c, err := p.m.Clearances(p.bass)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// meterOf finds the hits and the pitch of a kick, as the app does.
func meterOf(t testing.TB, kick []float32) *meter.HitMeter {
	t.Helper()
	hits := meter.Onsets(kick, rate)
	low, fs := meter.Low(kick, rate)
	p := meter.KickPitch(low, fs, hits)
	if p == nil {
		t.Fatal("the kick has no pitch")
	}
	var frames []int
	for _, h := range hits {
		frames = append(frames, int(math.Round(h*rate)))
	}
	m, err := meter.NewHitMeter(kick, rate, frames, p.Hz, meter.Range{From: 0, To: len(kick)})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// recordedPairs are bass drums and basses of the sound font, played from MIDI.
func recordedPairs(t testing.TB, every int) []pairOf {
	var out []pairOf
	r := rand.New(rand.NewPCG(9, 9))
	n := 0
	for k, kit := range sampled.Kits {
		for program := 32; program < 40; program++ {
			var kick, bass []sampled.Note
			key := 28 + r.IntN(12)
			for at := 0.2; at < 12; at += []float64{0.3, 0.45, 0.6, 0.9}[r.IntN(4)] {
				kick = append(kick, sampled.Note{At: at, End: at + 0.2, Key: 35 + k%2, Velocity: 95 + r.IntN(30), Channel: sampled.Drums})
				if r.IntN(3) > 0 {
					bass = append(bass, sampled.Note{At: at, End: at + 0.28, Key: key + []int{0, 0, 3, 5, 7}[r.IntN(5)], Velocity: 90 + r.IntN(30)})
				}
			}
			if n++; n%every != 0 {
				continue
			}
			x := sampled.Play(t, map[int]int{sampled.Drums: kit}, kick, 13).Mono()
			b := sampled.Play(t, map[int]int{0: program}, bass, 13).Mono()
			out = append(out, pairOf{name: "kit and bass", m: meterOf(t, x), bass: b})
		}
	}
	return out
}

// The fit against its bound, on recorded pairs: within 0.05 dB in the median and 0.1 at the worst; wherever it is not
// reached, that is what the full rate says; with the cap just over the depth that was used it is reached again.
func TestFitAgainstBound(t *testing.T) {
	outside.Slow(t)
	t.Parallel()
	var over []meter.Figure
	needed, reached := 0, 0
	r := rand.New(rand.NewPCG(4, 4))
	for i, p := range recordedPairs(t, 2) {
		goal := Goal{Clearance: 6 + 4*r.Float64(), MaxDepth: 12}
		gain := float32(math.Pow(10, (4-8*r.Float64())/20)) // the bass rather loud
		for k := range p.bass {
			p.bass[k] *= gain
		}
		f, err := Fit(p.m, p.bass, goal)
		if err != nil {
			t.Fatal(err)
		}
		if !f.Needed {
			continue
		}
		needed++
		if f.Duck == nil {
			t.Errorf("%d: %s", i, f.Reason)
			continue
		}
		c := newWhole(p.m, p.bass, 1).clearances(f.Duck)
		if got := worst(c) >= goal.Clearance; got != f.Reached {
			t.Errorf("%d: reached %v, measured %.3f dB of %.3f", i, f.Reached, worst(c), goal.Clearance)
		}
		if !f.Reached {
			t.Logf("%d: %s", i, f.Reason)
			continue
		}
		reached++
		was, err := p.m.LowEnergy(p.bass)
		if err != nil {
			t.Fatal(err)
		}
		lost := dsp.PowerDB(was / newWhole(p.m, p.bass, was).lowEnergy(f.Duck))
		if math.Abs(lost-float64(f.Loss)) > 0.03 {
			t.Errorf("%d: %.3f dB are lost, %.3f said", i, lost, float64(f.Loss))
		}
		over = append(over, f.Loss-f.Bound)
		if f.Loss-f.Bound > 0.15 {
			t.Errorf("%d: %.3f dB lost, bound %.3f: %s", i, float64(f.Loss), float64(f.Bound), Values(f.Duck))
		}
		again, err := Fit(p.m, p.bass, Goal{Clearance: goal.Clearance, MaxDepth: -f.Duck.Depth() + 0.1})
		if err != nil || !again.Reached {
			t.Errorf("%d: with a cap of %.2f dB, just over the %.2f that were used: %s", i, -f.Duck.Depth()+0.1, -f.Duck.Depth(), again.Reason)
		}
		rules(t, i, f.Duck, p.m, goal)
	}
	t.Logf(
		"%d pairs need a duck, %d reached; over the bound %.3f dB in the median, %.3f at the most",
		needed,
		reached,
		float64(meter.Median(over)),
		float64(meter.Percentile(over, 1)),
	)
	if meter.Median(over) > 0.05 || reached < needed*9/10 {
		t.Error("too far from the bound, or too seldom reached")
	}
}

// rules checks what any fitted curve keeps.
func rules(t *testing.T, i int, d *move.Duck, m *meter.HitMeter, goal Goal) {
	t.Helper()
	if err := d.Validate(); err != nil {
		t.Errorf("%d: %v", i, err)
	}
	if len(d.Points) > 8 || -d.Depth() > goal.MaxDepth+0.005 || pair.Steepest(d) > move.ClickDB {
		t.Errorf("%d: %d points, %.2f dB deep, %.2f dB/ms", i, len(d.Points), d.Depth(), pair.Steepest(d))
	}
	last := 0 // the last of the deepest points
	for k, p := range d.Points {
		if p.DB <= d.Depth()+0.005 {
			last = k
		}
	}
	if release := d.Points[len(d.Points)-1].MS - d.Points[last].MS; release < 0.97*1000/m.HomeHz {
		t.Errorf("%d: released within %.1f ms, a period is %.1f", i, release, 1000/m.HomeHz)
	}
	for k := range m.Hits {
		if (k+1 < len(m.Hits) || !m.Open) && !pair.Back(d, 1000*float64(m.Gaps[k])/rate) {
			t.Errorf("%d: not back after hit %d", i, k)
		}
	}
}

// The bound is a linear programme's: scipy.optimize.linprog (HiGHS) comes to the same on the same numbers.
func TestBoundAgainstLinprog(t *testing.T) {
	outside.Slow(t)
	t.Parallel()
	for i, p := range recordedPairs(t, 22) {
		tr, err := lowTrial(p.m, p.bass)
		if err != nil {
			t.Fatal(err)
		}
		goal := Goal{Clearance: worst(p.asItIs(t)) + 4, MaxDepth: 12}
		mod := tr.around(tr.room(p.m, goal), nil)
		var warm [][]float64
		b, asked := mod.choose(goal.Clearance, &warm)
		if b.over > 1e-6 {
			continue
		}
		less := dsp.Gain(-2 * goal.Clearance)
		var rows [][]float64
		var limits []float64
		for k := range mod.e {
			if asked[k] {
				rows, limits = append(rows, mod.e[k]), append(limits, mod.kick[k]*less-mod.rest[k])
			}
		}
		var out struct {
			Lost float64 `json:"lost"`
			OK   bool    `json:"ok"`
		}
		outside.Python(t, `
import json, sys
import numpy as np
from scipy.optimize import linprog
from scipy.sparse import coo_matrix
p = json.load(sys.stdin)
c, A, b = np.array(p["c"]), np.array(p["rows"]), np.array(p["limits"])
n = len(c)
scale = b.copy()
A, b = A / scale[:, None], b / scale
down, up = 10 ** (-p["fall"] * p["step"] / 10), 10 ** (p["rise"] * p["step"] / 10)
low, back = 10 ** (-p["cap"] / 10), 10 ** (p["back"] / 10)
# curves that go down once and come back once: for every step t at which they turn a part m[t] of one that falls up to t
# and rises from there on; v[t] = m[t] u[t]. The last n variables are the parts.
N = n * n + n
rows, cols, vals, rhs, k = [], [], [], [], 0
def less(terms): # sum of terms <= 0
    global k
    for i, v in terms:
        rows.append(k); cols.append(i); vals.append(v)
    rhs.append(0.0); k += 1
for t in range(n):
    m = n * n + t
    for j in range(n):
        i = t * n + j
        less([(i, 1), (m, -1)])
        one = j == 0 or j < p["wait"]
        less([(i, -1), (m, 1 if one else (back if j == n - 1 else low))])
        if j + 1 < n and j < t:
            less([(i + 1, 1), (i, -1)])
            less([(i, down), (i + 1, -1)])
        elif j + 1 < n:
            less([(i, 1), (i + 1, -1)])
            less([(i + 1, 1), (i, -up)])
for h in range(len(b)):
    for t in range(n):
        for j in range(n):
            if A[h, j]:
                rows.append(k); cols.append(t * n + j); vals.append(A[h, j])
    rhs.append(b[h]); k += 1
S = coo_matrix((vals, (rows, cols)), shape=(k, N)).tocsr()
obj = np.concatenate([np.tile(-c, n), np.zeros(n)])
eq = coo_matrix((np.ones(n), (np.zeros(n), np.arange(n * n, N))), shape=(1, N)).tocsr()
r = linprog(obj, S, np.array(rhs), eq, np.array([1.0]), bounds=(0, 1), method="highs")
print(json.dumps({"ok": r.status == 0, "lost": float(c.sum() + r.fun) if r.status == 0 else 0}))
`, map[string]any{"c": mod.c, "rows": rows, "limits": limits, "fall": boundFall, "rise": mod.rise, "step": boundStep,
			"cap": mod.least, "wait": mod.wait, "back": pair.BackDB}, &out)
		ours, theirs := lossDB(b.least), lossDB(out.Lost)
		t.Logf("%d: %d steps, %d hits asked: %.4f dB, linprog %.4f; our curve loses %.4f", i, mod.steps(), len(rows), ours, theirs, lossDB(b.lost))
		if !out.OK || math.Abs(ours-theirs) > 0.02 {
			t.Errorf("%d: bound %.4f dB, linprog %.4f (%v)", i, ours, theirs, out.OK)
		}
	}
}

// A random climb from the answer finds next to nothing: perturbed curves that keep the rules and reach the goal on the
// real signal lose at most 0.04 dB less.
func TestFitIsTheLeast(t *testing.T) {
	outside.Slow(t)
	t.Parallel()
	kick, bass := pattern(even(0.3, 0.45, 16), 8, 52, 0.08, 46, 0.2)
	for i, p := range append(recordedPairs(t, 17), pairOf{"synthetic", meterOf(t, kick.Ch[0]), bass.Ch[0]}) {
		goal := Goal{Clearance: worst(p.asItIs(t)) + 4, MaxDepth: 12}
		f, err := Fit(p.m, p.bass, goal)
		if err != nil || !f.Reached {
			t.Fatalf("%d: %+v, %v", i, f, err)
		}
		full, err := newTrial(p.m, p.bass, 1)
		if err == nil {
			err = full.withLosses()
		}
		if err != nil {
			t.Fatal(err)
		}
		r := full.room(p.m, goal)
		start := full.judge(f.Duck)
		best, at := start.loss, f.Duck
		rnd := rand.New(rand.NewPCG(uint64(i), 21))
		for range 250 {
			c := *at
			c.Points = append([]move.Point(nil), at.Points...)
			for k := range c.Points {
				c.Points[k].MS += 1.5 * rnd.NormFloat64() * float64(rnd.IntN(2))
				if k > 0 && k < len(c.Points)-1 {
					c.Points[k].DB = math.Min(0, c.Points[k].DB+0.3*rnd.NormFloat64()*float64(rnd.IntN(2)))
				}
			}
			if c.Validate() != nil || !knotsOf(&c).fits(r, 1) {
				continue
			}
			if j := full.judge(&c); j.clearance >= goal.Clearance && j.loss < best {
				best, at = j.loss, &c
			}
		}
		t.Logf("%d %s: %.3f dB, bound %.3f, a climb finds %.3f", i, p.name, start.loss, float64(f.Bound), best)
		if best < start.loss-0.04 {
			t.Errorf("%d: a climb finds %.3f dB, the fit %.3f", i, best, start.loss)
		}
	}
}

func knotsOf(d *move.Duck) (k knots) {
	for _, p := range d.Points {
		k.at, k.depth = append(k.at, p.MS), append(k.depth, -p.DB)
	}
	return k
}

// The trade-off: the fit's line over the bound's, both rising, and near each other.
func TestTradeOff(t *testing.T) {
	kick, bass := pattern(even(0.3, 0.45, 16), 8, 52, 0.08, 46, 0.2)
	m := meterOf(t, kick.Ch[0])
	tr, err := lowTrial(m, meter.Held(bass.Ch[0]))
	if err != nil {
		t.Fatal(err)
	}
	trade := tr.TradeOff(m, Goal{MaxDepth: 12})
	if len(trade) < 12 {
		t.Fatalf("%d points", len(trade))
	}
	for i, p := range trade {
		if p.Bound > p.Loss+1e-9 || p.Loss-p.Bound > 0.1 || i > 0 && (p.Loss < trade[i-1].Loss-0.02 || p.Bound < trade[i-1].Bound-0.02) {
			t.Errorf("%+v after %+v", p, trade[max(0, i-1)])
		}
	}
}
