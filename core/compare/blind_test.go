package compare

import (
	"bytes"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/meter"
	"mellowthump/internal/outside"
)

// The chance is exact. Least numbers of right answers at 5 % of the paired-difference test, one-sided, are those of Roessler,
// Pangborn, Sidel and Stone, "Expanded statistical tables for estimating significance in paired-preference, paired-difference,
// duo-trio and triangle tests", J. Food Science 43 (1978) 940 (from memory); all tails to 40 trials are scipy's.
func TestBinomial(t *testing.T) {
	for n, least := range map[int]int{5: 5, 7: 7, 8: 7, 10: 9, 12: 10, 15: 12, 16: 12, 20: 15, 25: 18, 30: 20} {
		if AtLeast(least, n) > 0.05 || AtLeast(least-1, n) <= 0.05 {
			t.Errorf("%d trials: %d right have a chance of %.4f, %d of %.4f", n, least, AtLeast(least, n), least-1, AtLeast(least-1, n))
		}
	}
	var want [][]float64
	outside.Python(t, `
import json
from scipy.stats import binom
print(json.dumps([[float(binom.sf(k-1, n, 0.5)) for k in range(n+1)] for n in range(1, 41)]))
`, nil, &want)
	for n, row := range want {
		for k, p := range row {
			if is := AtLeast(k, n+1); math.Abs(is-p) > 1e-12 {
				t.Errorf("%d of %d: %.15f, scipy says %.15f", k, n+1, is, p)
			}
		}
	}
}

// The order is drawn evenly, each trial by itself; nothing is told before the end; what is answered counts once.
func TestBlind(t *testing.T) {
	for _, kind := range []string{SameOrDifferent, Preference} {
		var count [2][2]int
		follow := 0
		for range 40 {
			b, err := NewBlind(kind, 100)
			if err != nil {
				t.Fatal(err)
			}
			for i, o := range b.Order {
				x, y := 0, 0
				if o[0] {
					x = 1
				}
				if o[1] {
					y = 1
				}
				count[x][y]++
				if i > 0 && b.Order[i-1] == o {
					follow++
				}
			}
		}
		cells, likely := 4.0, 1000.0
		if kind == Preference {
			cells, likely = 2, 2000
		}
		for x := range 2 {
			for y := range 2 {
				if kind == Preference && x == y {
					if count[x][y] != 0 {
						t.Error("a preference between two that are the same")
					}
				} else if math.Abs(float64(count[x][y])-likely) > 6*math.Sqrt(likely*(1-1/cells)) {
					t.Errorf("%s: %v", kind, count)
				}
			}
		}
		if n := 40 * 99.0; math.Abs(float64(follow)-n/cells) > 6*math.Sqrt(n/cells) {
			t.Errorf("%s: %d of %.0f trials are as the one before", kind, follow, n)
		}
	}
	for _, trials := range []int{0, 4, 101, -1} {
		if _, err := NewBlind(SameOrDifferent, trials); err == nil {
			t.Errorf("%d trials are taken", trials)
		}
	}
	if _, err := NewBlind("guess", 10); err == nil {
		t.Error("any kind is taken")
	}
	b, _ := NewBlind(SameOrDifferent, 10)
	for i := range 9 {
		if err := b.Answer(i, b.Order[i][0] != b.Order[i][1]); err != nil {
			t.Fatal(err)
		}
	}
	if _, ok := b.Result(); ok || !strings.Contains(b.Says("A", "B"), "9 of 10 trials: no result") {
		t.Errorf("told before the end: %q", b.Says("A", "B"))
	}
	for _, n := range []int{8, 10, 0} {
		if b.Answer(n, true) == nil {
			t.Errorf("trial %d is answered out of order", n)
		}
	}
	b.Answer(9, b.Order[9][0] == b.Order[9][1])
	if r, ok := b.Result(); !ok || r.Hits != 9 || math.Abs(r.Chance-11.0/1024) > 1e-12 ||
		!strings.Contains(b.Says("A", "B"), "9 of 10 right. Guessing does as well in 1.1 % of tests: the difference is heard") {
		t.Errorf("%+v %q", r, b.Says("A", "B"))
	}
	if b.Answer(10, true) == nil {
		t.Error("more answers than trials")
	}
	p := &Blind{Kind: Preference}
	for i := range 8 { // B is chosen each time
		p.Order = append(p.Order, [2]bool{i%2 == 0, i%2 != 0})
		p.Answers = append(p.Answers, i%2 != 0)
	}
	if r, _ := p.Result(); r.Hits != 8 || math.Abs(r.Chance-2.0/256) > 1e-12 || !strings.Contains(p.Says("old", "new"), "new was better 8 of 8 times") {
		t.Errorf("%+v %q", r, p.Says("old", "new"))
	}
	for i := range 4 {
		p.Answers[i] = !p.Answers[i]
	}
	if s := p.Says("old", "new"); !strings.HasPrefix(s, "Even: 4 of 8") {
		t.Error(s)
	}
}

// What goes out tells nothing: one length, two channels, loudness within 0.1 LU by ffmpeg, no peak over full scale, never the
// same bytes twice; a sound without a loudness is refused.
func TestPair(t *testing.T) {
	a, b := outside.Sine(rate, 1, 220, 0.9, 4, 0), outside.Sine(rate, 2, 1000, 0.05, 5, 0)
	p, err := Pair(a, b, true)
	if err != nil {
		t.Fatal(err)
	}
	var loud [2]float64
	var files [2][]byte
	for i, x := range p {
		if len(x.Ch) != 2 || x.Frames() != 4*rate || float64(meter.PeakDB(x.Ch...)) > -1+1e-3 {
			t.Errorf("%d channels, %d frames, %.1f dBFS", len(x.Ch), x.Frames(), float64(meter.PeakDB(x.Ch...)))
		}
		loud[i] = outside.EBUR128(t, outside.WriteWAV(t, "x.wav", x, wav.Float32)).Integrated
		var w bytes.Buffer
		if err := wav.Write(&w, Veiled(x), wav.Int24); err != nil {
			t.Fatal(err)
		}
		files[i] = w.Bytes()
	}
	if math.Abs(loud[0]-loud[1]) > 0.1 {
		t.Errorf("%.2f and %.2f LUFS", loud[0], loud[1])
	}
	if len(files[0]) != len(files[1]) || !bytes.Equal(files[0][:44], files[1][:44]) {
		t.Error("length or header differ")
	}
	var again bytes.Buffer
	if err := wav.Write(&again, Veiled(p[0]), wav.Int24); err != nil || bytes.Equal(again.Bytes(), files[0]) {
		t.Error("the same sound goes out as the same bytes")
	}
	v := Veiled(p[0])
	most, sum := 0.0, 0.0
	for i := range v.Ch[0] {
		d := float64(v.Ch[0][i]-p[0].Ch[0][i]) * (1 << 23)
		most, sum = math.Max(most, math.Abs(d)), sum+d*d
	}
	if rms := math.Sqrt(sum / float64(len(v.Ch[0]))); most > 1.6 || math.Abs(rms-math.Sqrt(1.0/6)) > 0.1 {
		t.Errorf("the dither reaches %.2f steps, rms %.3f", most, rms)
	}
	if Same(p) {
		t.Error("two sounds count as one")
	}
	if twice, err := Pair(a, a, true); err != nil || !Same(twice) {
		t.Error("one sound counts as two", err)
	}
	apart, err := Pair(a, b, false)
	if err != nil {
		t.Fatal(err)
	}
	if d := meter.IntegratedLoudness(apart[0]) - meter.IntegratedLoudness(apart[1]); d < 10 {
		t.Errorf("levels that are asked about are matched: %.1f LU", float64(d))
	}
	if _, err := Pair(a, audio.New(rate, 2, 4*rate), true); err != ErrLoud {
		t.Errorf("%v", err)
	}
}

// A drill gets harder after two right answers in a row, easier after one wrong, and stays within its levels; its options are drawn evenly.
func TestDrills(t *testing.T) {
	play := func(levels int, right ...bool) int {
		var all []Question
		for _, r := range right {
			q := Question{Level: NextLevel(all, levels), Truth: 1}
			if r {
				q.Answer = 1
			}
			all = append(all, q)
		}
		return NextLevel(all, levels)
	}
	for _, c := range []struct {
		want  int
		right []bool
	}{{0, nil}, {0, []bool{true}}, {1, []bool{true, true}}, {0, []bool{true, false, true}}, {1, []bool{true, true, true}}, {2, []bool{true, true, true,
		true}}, {1, []bool{true, true, true, true, true, false}}, {0, []bool{false, false}}, {2, []bool{true, true, true, true, true, true, true, true}}} {
		if l := play(3, c.right...); l != c.want {
			t.Errorf("%v: level %d, not %d", c.right, l, c.want)
		}
	}
	for _, d := range Drills {
		count := make([]int, len(d.Options))
		for range 400 * len(count) {
			q := d.Ask(0)
			if q.Answer != -1 || q.Level != 0 {
				t.Fatalf("%+v", q)
			}
			count[q.Truth]++
		}
		for i, n := range count {
			if math.Abs(float64(n)-400) > 120 {
				t.Errorf("%s: option %d was right %d times of %d", d.Key, i, n, 400*len(count))
			}
		}
		for l := range d.Levels {
			if s := d.Says(l); strings.Contains(s, "%") || s == "" {
				t.Error(s)
			}
			for o := range d.Options {
				if s := d.Option(o, l); strings.Contains(s, "%") || s == "" {
					t.Error(s)
				}
			}
		}
	}
	if _, ok := DrillOf("names"); ok {
		t.Error("there is a drill of that name")
	}
}
