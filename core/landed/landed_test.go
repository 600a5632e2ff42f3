package landed

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/audio/wav"
	"mellowthump/core/dsp"
	"mellowthump/core/move"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

const rate = sampled.Rate

// material is a sound to be changed, with the hits that it may be ducked by.
type material struct {
	name string
	x    []float32
	hits []int
}

// recorded are a bass and a whole kit of recorded instruments, and a pad, in bars of 2 s.
func recorded(t testing.TB) []material {
	t.Helper()
	var bass, kit, pad []sampled.Note
	var hits []int
	keys := []int{29, 29, 32, 27, 36, 34}
	for i := range 16 {
		at := float64(i)
		bass = append(bass, sampled.Note{At: at, End: at + 0.9, Key: keys[i%len(keys)], Velocity: 90 + i%3*10})
		kit = append(
			kit,
			sampled.Note{At: at, End: at + 0.2, Key: 36, Velocity: 110, Channel: sampled.Drums},
			sampled.Note{At: at + 0.5, End: at + 0.6, Key: 38, Velocity: 95, Channel: sampled.Drums},
		)
		for k := range 4 {
			kit = append(kit, sampled.Note{At: at + float64(k)*0.25, End: at + float64(k)*0.25 + 0.1, Key: 42, Velocity: 70 + 10*(k%2), Channel: sampled.Drums})
		}
		if i%4 == 0 {
			for _, key := range []int{53, 56, 60, 63} {
				pad = append(pad, sampled.Note{At: at, End: at + 3.8, Key: key + i/4, Velocity: 80})
			}
		}
		hits = append(hits, int(at*rate))
	}
	out := []material{
		{"bass", sampled.Play(t, map[int]int{0: 33}, bass, 17).Mono(), hits},
		{"kit", sampled.Play(t, map[int]int{sampled.Drums: 24}, kit, 17).Mono(), hits},
		{"pad", sampled.Play(t, map[int]int{0: 89}, pad, 17).Mono(), hits},
		{"808", tuned(17), hits},
	}
	for _, m := range out { // sox clips what goes over full scale
		top := float32(0)
		for _, v := range m.x {
			top = max(top, v, -v)
		}
		for i := range m.x {
			m.x[i] *= 0.2 / top
		}
	}
	return out
}

// tuned is a generated 808: sines that ring out, hardly anything over 300 Hz.
func tuned(seconds float64) []float32 {
	x := make([]float32, int(seconds*rate))
	for i := range int(seconds) {
		hz := []float64{41.2, 49, 55, 43.7}[i%4]
		phase := 0.0
		for k := range int(0.95 * rate) {
			s := float64(k) / rate
			phase += 2 * math.Pi * hz * (1 + 2*math.Exp(-s/0.012)) / rate
			a := math.Exp(-s/0.5) * math.Min(1, s/0.001) * math.Min(1, (0.95-s)/0.02)
			if j := i*rate + k; j < len(x) {
				x[j] += float32(0.6 * a * math.Tanh(1.5*math.Sin(phase)))
			}
		}
	}
	return x
}

// sox runs a sound through effects of another program.
func sox(t testing.TB, x []float32, effects ...string) []float32 {
	t.Helper()
	if len(effects) == 0 {
		return slices.Clone(x)
	}
	in := outside.WriteWAV(t, "in.wav", audio.Buffer{Rate: rate, Ch: [][]float32{x}}, wav.Float32)
	out := filepath.Join(t.TempDir(), "out.wav")
	outside.Run(t, "sox", append([]string{"-D", in, "-e", "floating-point", "-b", "32", out}, effects...)...)
	f, err := os.Open(out)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		t.Fatal(err)
	}
	src, err := codec.Open(f, st.Size())
	if err != nil {
		t.Fatal(err)
	}
	b := audio.New(rate, 1, len(x))
	if err := src.ReadAt(b, 0); err != nil {
		t.Fatal(err)
	}
	return b.Ch[0]
}

// later delays by frames and a part of one: a windowed sinc of 129 taps.
func later(x []float32, frames float64) []float32 {
	out := make([]float32, len(x))
	whole := int(math.Floor(frames))
	part := frames - float64(whole)
	var taps [129]float64
	for k := range taps {
		u := part - float64(k-64)
		taps[k] = 1
		if math.Abs(u) > 1e-9 {
			taps[k] = math.Sin(math.Pi*u) / (math.Pi * u) * (0.5 + 0.5*math.Cos(math.Pi*u/66))
		}
	}
	for i := range out {
		sum := 0.0
		for k, h := range taps {
			if j := i - whole - (k - 64); j >= 0 && j < len(x) {
				sum += h * float64(x[j])
			}
		}
		out[i] = float32(sum)
	}
	return out
}

// lowered goes down at the hits: by depth dB within 3 ms, for hold ms, and back within release.
func lowered(x []float32, hits []int, depth, hold, release float64) []float32 {
	out := slices.Clone(x)
	for _, h := range hits {
		for k := -rate / 100; k < rate/2; k++ {
			ms, db := float64(k)*1000/rate, 0.0
			switch {
			case ms < -3:
			case ms < 0:
				db = depth * (ms + 3) / 3
			case ms < hold:
				db = depth
			case ms < hold+release:
				db = depth * (1 - (ms-hold)/release)
			}
			if at := h + k; at >= 0 && at < len(x) {
				out[at] = x[at] * float32(dsp.Gain(db))
			}
		}
	}
	return out
}

func chain(p ...move.Params) move.Chain {
	var out move.Chain
	for i, q := range p {
		out = append(out, move.Move{ID: fmt.Sprintf("m%d", i), Params: q})
	}
	return out
}

// done is what is done to a sound by another program (sox) and by plain arithmetic.
type done struct {
	gain          float64
	high          float64 // Hz; 0: none
	slope         int
	hz, q, db     float64
	delay         float64 // ms
	flip          bool
	depth         float64 // dB; 0: none
	hold, release float64 // ms
}

// drawn draws something that a producer may do to a material.
func drawn(r *rand.Rand, m material) done {
	between := func(lo, hi float64) float64 { return lo + (hi-lo)*r.Float64() }
	d := done{
		gain: math.Round(10*between(-9, 6)) / 10, high: math.Round(between(28, 120)), slope: []int{12, 24}[r.IntN(2)],
		hz: math.Round(between(90, 900)), q: math.Round(10*between(0.7, 2)) / 10, db: math.Round(10*between(1.5, 6)) / 10 * float64(2*r.IntN(2)-1),
		delay: math.Round(
			100*between(-8, 8),
		) / 100, flip: r.IntN(2) == 0, depth: -math.Round(10*between(2, 12)) / 10, hold: between(20, 80), release: between(40, 150),
	}
	switch m.name {
	case "pad":
		d.high = math.Round(between(150, 500))
	case "808":
		d.high, d.hz = math.Round(between(25, 45)), math.Round(between(80, 220))
	case "kit": // what is struck at the hit itself goes down with it
		d.depth = 0
	}
	return d
}

// does it.
func (d done) does(t testing.TB, m material) []float32 {
	t.Helper()
	effects := []string{"vol", fmt.Sprintf("%gdB", d.gain)}
	switch {
	case d.high == 0:
	case d.slope == 12:
		effects = append(effects, "highpass", "-2", fmt.Sprint(d.high), "0.70711q")
	default: // two sections of a Butterworth filter
		effects = append(effects, "highpass", "-2", fmt.Sprint(d.high), "0.54120q", "highpass", "-2", fmt.Sprint(d.high), "1.30656q")
	}
	if d.db != 0 {
		effects = append(effects, "equalizer", fmt.Sprint(d.hz), fmt.Sprintf("%gq", d.q), fmt.Sprint(d.db))
	}
	y := later(sox(t, m.x, effects...), d.delay*rate/1000)
	if d.flip {
		for i := range y {
			y[i] = -y[i]
		}
	}
	if d.depth != 0 {
		y = lowered(y, m.hits, d.depth, d.hold, d.release)
	}
	return y
}

// plan is it as a plan.
func (d done) plan(m material) Plan {
	p := Plan{Gains: []float64{0, d.gain}}
	if d.flip {
		p.Moves = append(p.Moves, move.Move{ID: "flip", Params: &move.Polarity{}})
	}
	if d.high != 0 {
		p.Moves = append(p.Moves, move.Move{ID: "high", Params: &move.Filter{Shape: dsp.Highpass, Hz: d.high, Slope: d.slope}})
	}
	if d.db != 0 {
		p.Moves = append(p.Moves, move.Move{ID: "bell", Params: &move.Filter{Shape: dsp.Bell, Hz: d.hz, Q: d.q, DB: d.db}})
	}
	if d.delay != 0 {
		p.Moves = append(p.Moves, move.Move{ID: "nudge", Params: &move.Nudge{MS: d.delay}})
	}
	if d.depth != 0 {
		ones := make([]float32, len(m.x))
		for i := range ones {
			ones[i] = 1
		}
		p.Ducked, p.Duck = lowered(m.x, m.hits, d.depth, d.hold, d.release), lowered(ones, m.hits, d.depth, d.hold, d.release)
		p.Moves = append(p.Moves, move.Move{ID: "duck", Params: move.StartingDuck()})
	}
	return p
}

// found checks what was found against what was done.
func (d done) found(t *testing.T, m material, r *Result) {
	t.Helper()
	f := r.Found
	bad := func(what string, got, want, within float64) {
		t.Helper()
		if !(math.Abs(got-want) <= within) {
			t.Errorf("%s, %+v: %s is %g, not %g; %+v", m.name, d, what, got, want, f)
		}
	}
	bad("gain", f.Gain, d.gain, 0.1)
	bad("delay", f.Delay, d.delay, 0.1)
	if f.Flip != d.flip {
		t.Errorf("%s, %+v: turned over %v", m.name, d, f.Flip)
	}
	if len(f.Filters) > 0 && f.Filters[0].Heard {
		bad("corner", math.Log2(f.Filters[0].Hz/d.high), 0, 1.0/6)
	}
	if len(f.Filters) > 1 && f.Filters[1].Heard {
		bad("bell", f.Filters[1].DB, d.db, 1)
	}
	if d.depth != 0 && f.Duck != nil {
		bad("duck", f.Duck.Depth, d.depth, 0.5)
	}
}

func states(r *Result) map[string]State {
	out := map[string]State{}
	for _, i := range r.Items {
		out[i.ID] = i.State
	}
	return out
}

// What was done is found to a tenth of a dB, a sixth of an octave, a dB, half a dB, a tenth of a ms, on recorded and generated
// sounds that another program changed: as it was planned, otherwise than planned, and not at all.
func TestFindsWhatWasDone(t *testing.T) {
	outside.Slow(t)
	r := rand.New(rand.NewPCG(7, 1))
	for _, m := range recorded(t) {
		for range 2 {
			d := drawn(r, m)
			y := d.does(t, m)
			as, err := Estimate(context.Background(), m.x, y, rate, m.hits, d.plan(m))
			if err != nil {
				t.Fatal(err)
			}
			d.found(t, m, as)
			for _, i := range as.Items {
				if i.State != Yes && i.State != Untold {
					t.Errorf("%s, %+v: %+v; others %q; %+v", m.name, d, i, as.Other, as.Found.Duck)
				}
			}
			if as.State() != Yes || len(as.Other) > 0 {
				t.Errorf("%s, %+v: %s, others %q", m.name, d, as.State(), as.Other)
			}

			other := d // planned
			other.gain, other.high, other.db, other.delay = d.gain+2, d.high*math.Exp2(0.6*float64(2*r.IntN(2)-1)), d.db*1.6, d.delay+0.5
			if d.depth != 0 {
				other.depth = d.depth - 3
			}
			got, err := Estimate(context.Background(), m.x, y, rate, m.hits, other.plan(m))
			if err != nil {
				t.Fatal(err)
			}
			d.found(t, m, got)
			if s := states(got); s[""] == Yes || s["high"] == Yes || s["nudge"] == Yes || s["duck"] == Yes || got.State() == Yes {
				t.Errorf("%s, %+v, planned %+v: %+v", m.name, d, other, got.Items)
			}

			none, err := Estimate(context.Background(), m.x, slices.Clone(m.x), rate, m.hits, d.plan(m))
			if err != nil {
				t.Fatal(err)
			}
			for _, i := range none.Items {
				if i.State != No && i.State != Untold {
					t.Errorf("%s, %+v, not done: %+v", m.name, d, i)
				}
			}
			if none.State() != No || len(none.Other) > 0 {
				t.Errorf("%s, %+v, not done: %s, others %q; %+v", m.name, d, none.State(), none.Other, none.Found)
			}
		}
	}
}

// What was done without a plan is told in words; what no filter, gain or duck explains is told too, and another sound is no
// bounce of the old one. A file of 16 bits is as good as one of 32.
func TestWithoutAPlan(t *testing.T) {
	outside.Slow(t)
	m := recorded(t)[1]
	d := done{gain: -3, high: 60, slope: 24, hz: 700, q: 1, db: -4}
	y := d.does(t, m)
	r := rand.New(rand.NewPCG(1, 2))
	for i, v := range y { // 16 bits with triangular dither
		y[i] = float32(math.Round(float64(v)*32768+r.Float64()-r.Float64()) / 32768)
	}
	estimate := func(y []float32, p Plan) *Result {
		t.Helper()
		got, err := Estimate(context.Background(), m.x, y, rate, m.hits, p)
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	got := estimate(y, Plan{})
	var high, bell *move.Filter
	for _, o := range got.Found.Others {
		switch o.Shape {
		case dsp.Highpass:
			high = o
		case dsp.Bell:
			bell = o
		}
	}
	if math.Abs(got.Found.Gain+3) > 0.1 || high == nil || bell == nil || len(got.Found.Others) != 2 || math.Abs(math.Log2(high.Hz/60)) > 1.0/6 ||
		high.Slope != 24 ||
		math.Abs(math.Log2(bell.Hz/700)) > 1.0/6 ||
		math.Abs(bell.DB+4) > 0.5 {
		t.Errorf("%q %+v", got.Other, got.Found)
	}
	if as := estimate(y, d.plan(m)); as.State() != Yes || len(as.Other) > 0 || as.Says() != "landed" {
		t.Errorf("in 16 bits: %s, %+v", as.Says(), as.Items)
	}
	bent := slices.Clone(m.x)
	for i, v := range bent {
		bent[i] = float32(math.Tanh(12*float64(v))) / 8
	}
	if got := estimate(bent, Plan{Gains: []float64{0, 2}}); !got.Sound() || !slices.Contains(got.Other, "something that none of these is") {
		t.Errorf("bent: %+v %q", got.Found, got.Other)
	}
	other := sox(t, recorded(t)[2].x, "vol", "-1dB")
	if got := estimate(other, d.plan(m)); got.Sound() || got.State() != Untold || len(got.Other) > 0 {
		t.Errorf("another sound: %s %+v", got.Says(), got.Items)
	}
	for _, silent := range [][]float32{make([]float32, len(m.x)), nil} {
		if got := estimate(silent, d.plan(m)); got.Sound() || got.State() != Untold {
			t.Errorf("silence: %s %+v", got.Says(), got.Items)
		}
	}
	short := m.x[:rate/3] // a single hit
	y = sox(t, short, "vol", "-2dB")
	one, err := Estimate(context.Background(), short, y, rate, m.hits[:1], Plan{Gains: []float64{0, -2}})
	if err != nil || one.State() != Yes {
		t.Errorf("a single hit: %v %+v", err, one)
	}
}

// What cannot be told is said to be so: a high-pass under all that sounds; kinds that leave no such trace.
func TestUntold(t *testing.T) {
	m := recorded(t)[2] // nothing under 100 Hz
	x := m.x[:8*rate]
	p := Plan{Moves: chain(&move.Filter{Shape: dsp.Highpass, Hz: 20, Slope: 12}, &move.Compress{})}
	got, err := Estimate(context.Background(), x, slices.Clone(x), rate, nil, p)
	if err != nil {
		t.Fatal(err)
	}
	for _, i := range got.Items {
		if i.State != Untold {
			t.Errorf("%+v", i)
		}
	}
	if got.State() != Untold || got.Says() != "nothing was planned that can be told" {
		t.Error(got.Says())
	}
}

// Over other recorded instruments, with any part of the plan left undone: each is told rightly, and nothing is told that was not done.
func TestInstruments(t *testing.T) {
	outside.Slow(t)
	r := rand.New(rand.NewPCG(99, 4))
	for _, program := range []int{34, 38, 4, 48, 11, 24} {
		low := program >= 32 && program < 40
		var notes []sampled.Note
		var hits []int
		for i := range 12 {
			at, key := float64(i)*1.3, 50+r.IntN(14)
			if low {
				key -= 20
			}
			notes = append(
				notes,
				sampled.Note{At: at + 0.02*r.Float64(), End: at + 0.6 + 0.6*r.Float64(), Key: key, Velocity: 70 + r.IntN(50)},
				sampled.Note{At: at + 0.65, End: at + 1.2, Key: key + 7, Velocity: 60 + r.IntN(50)},
			)
			hits = append(hits, int(at*rate))
		}
		m := material{fmt.Sprintf("program %d", program), sampled.Play(t, map[int]int{0: program}, notes, 16.5).Mono(), hits}
		top := float32(0)
		for _, v := range m.x {
			top = max(top, v, -v)
		}
		for i := range m.x {
			m.x[i] *= 0.2 / top
		}
		plan := drawn(r, m)
		if !low {
			plan.high = math.Round(80 + 200*r.Float64())
		}
		did, not := plan, map[string]bool{}
		for _, part := range []struct {
			id string
			of *float64
		}{{"high", &did.high}, {"bell", &did.db}, {"duck", &did.depth}, {"nudge", &did.delay}} {
			if r.IntN(3) == 0 {
				*part.of, not[part.id] = 0, true
			}
		}
		got, err := Estimate(context.Background(), m.x, did.does(t, m), rate, hits, plan.plan(m))
		if err != nil {
			t.Fatal(err)
		}
		for _, i := range got.Items {
			want := Yes
			if not[i.ID] {
				want = No
			}
			if i.State != want && i.State != Untold {
				t.Errorf("%s, %+v: %+v, not %s", m.name, plan, i, want)
			}
		}
		if len(got.Other) > 0 {
			t.Errorf("%s, %+v, but for %v: others %q", m.name, plan, not, got.Other)
		}
	}
}
