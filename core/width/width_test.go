package width

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/demo"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/internal/outside"
)

const rate = 44100

func noise(r *rand.Rand, seconds float64) []float32 {
	x := make([]float32, int(seconds*rate))
	for i := range x {
		x[i] = float32(0.1 * r.NormFloat64())
	}
	return x
}

func stereo(l, r []float32) audio.Buffer { return audio.Buffer{Rate: rate, Ch: [][]float32{l, r}} }

func scaled(x []float32, g float32) []float32 {
	out := make([]float32, len(x))
	for i, v := range x {
		out[i] = g * v
	}
	return out
}

func later(x []float32, n int) []float32 {
	return append(make([]float32, n), x[:len(x)-n]...)
}

// Closed forms: two channels alike, one of them softer, unrelated, upside down, one silent, mono; and a delay, which is a comb
// with its notches at the odd multiples of 1/2d.
func TestClosedForms(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	a, b := noise(r, 8), noise(r, 8)
	near := func(what string, got meter.Figure, want, within float64) {
		t.Helper()
		if !got.Valid() || math.Abs(float64(got)-want) > within {
			t.Errorf("%s: %.3f, want %.3f", what, float64(got), want)
		}
	}
	f := Measure(stereo(a, a))
	near("alike: correlation", f.Correlation, 1, 1e-9)
	near("alike: fold", f.Fold, 0, 1e-9)
	near("alike: LU", f.FoldLU, 0, 1e-9)
	if !f.Mono || !f.Safe(0.9) {
		t.Error("two alike are not mono")
	}
	f = Measure(stereo(a, scaled(a, 0.5)))
	near("half: correlation", f.Correlation, 1, 1e-9)
	near("half: fold", f.Fold, 10*math.Log10(1.25/(2*0.75*0.75)), 1e-6)
	near("half: side", f.Side, 20*math.Log10(0.25/0.75), 1e-6)
	f = Measure(stereo(a, b))
	near("unrelated: correlation", f.Correlation, 0, 0.02)
	near("unrelated: fold", f.Fold, 3.01, 0.1)
	near("unrelated: LU", f.FoldLU, 3.01, 0.15)
	f = Measure(stereo(a, scaled(a, -1)))
	near("upside down: correlation", f.Correlation, -1, 1e-9)
	near("upside down: fold", f.Fold, foldGone, 0)
	if !f.Turned || f.Delay.Valid() || f.Safe(-0.9) && f.Low < 0 {
		t.Errorf("upside down: %+v", f)
	}
	f = Measure(stereo(a, make([]float32, len(a))))
	near("one side: fold", f.Fold, 3.01, 0.01)
	if f.Correlation.Valid() || f.Turned || f.Delay.Valid() {
		t.Errorf("one side: %+v", f)
	}
	if f := Measure(audio.Buffer{Rate: rate, Ch: [][]float32{a}}); !f.Mono || !f.Safe(1) || f.Fold.Valid() {
		t.Errorf("mono: %+v", f)
	}
	if f := Measure(audio.New(rate, 2, rate)); f.Correlation.Valid() || f.FoldLU.Valid() || !f.Safe(0.5) {
		t.Errorf("silence: %+v", f)
	}
	for _, n := range []int{88, -441} {
		x := stereo(a, later(a, max(n, 0)))
		if n < 0 {
			x = stereo(later(a, -n), a)
		}
		for _, turn := range []float32{1, -1} {
			x.Ch[1] = scaled(x.Ch[1], turn)
			f := Measure(x)
			near("delay", f.Delay, 1000*float64(n)/rate, 1e-9)
			if f.Turned != (turn < 0) {
				t.Errorf("a delay of %d frames, turned %v: %+v", n, turn < 0, f.Turned)
			}
		}
	}
	for k, hz := range Notches(2, false, 3) { // what they say is what a sine gives
		x := outside.Sine(rate, 1, hz, 0.5, 2, 0).Ch[0]
		y := outside.Sine(rate, 1, hz, 0.5, 2, -hz*0.002).Ch[0]
		if f := Measure(stereo(x, y)); f.Fold < 40 || hz != float64(2*k+1)*250 {
			t.Errorf("a sine in the notch at %g Hz loses %.1f dB", hz, float64(f.Fold))
		}
	}
	if f := Measure(stereo(outside.Sine(rate, 1, 440, 0.5, 4, 0).Ch[0], outside.Sine(rate, 1, 440, 0.5, 4, -0.16).Ch[0])); f.Delay.Valid() || f.Turned {
		t.Errorf("a held tone is said to be delayed: %+v", f)
	}
}

// phased is a pad whose lows are upside down between the channels under a frequency, like the demo's.
func phased(under float64) audio.Buffer {
	l, r := make([]float32, 6*rate), make([]float32, 6*rate)
	for i := range l {
		s := float64(i) / rate
		for k, hz := range []float64{62, 98, 147, 196, 330, 494, 740} {
			v := 0.05 * math.Sin(2*math.Pi*hz*s+float64(k))
			l[i] += float32(v)
			if hz < under {
				v = -v
			}
			r[i] += float32(v)
		}
	}
	return stereo(l, r)
}

// The corner is the lowest: with it the sound is safe, a quarter of an octave less is not, both by a script of scipy; the mid
// is bit-true, left and right together are unchanged to -120 dBFS.
func TestCornerIsTheLowest(t *testing.T) {
	outside.Slow(t)
	r := rand.New(rand.NewPCG(5, 6))
	n := noise(r, 6)
	low, err := dsp.ButterworthLowpass(4, 170, rate)
	if err != nil {
		t.Fatal(err)
	}
	rumble := make([]float32, len(n))
	dsp.NewFilter(low).Process(rumble, n)
	wide := stereo(noise(r, 6), nil)
	wide.Ch[1] = append([]float32(nil), wide.Ch[0]...)
	for i, v := range rumble {
		wide.Ch[0][i] += 4 * v
		wide.Ch[1][i] -= 4 * v
	}
	var pad audio.Buffer
	for _, s := range demo.SlowFerry().Stems {
		if s.ID == "pad" {
			pad = s.Sound.Slice(0, 14*rate)
		}
	}
	for name, x := range map[string]audio.Buffer{"a pad": phased(210), "rumble": wide, "the demo's pad": pad} {
		hz, ok := Corner(x, 0)
		if !ok || hz < 30 {
			t.Fatalf("%s: %g %v", name, hz, ok)
		}
		var got [2][2]float64
		outside.Python(t, `
import json, sys
import numpy as np
from scipy.signal import butter, sosfilt
q = json.load(sys.stdin)
l, r, fs = np.array(q["l"]), np.array(q["r"]), 44100
m, s = (l + r) / 2, (l - r) / 2
out = []
for hz in (q["hz"], q["hz"] / 2 ** 0.25):
    v = sosfilt(butter(4, hz, "high", fs=fs, output="sos"), s)
    a, b = m + v, m - v
    n = int(0.4 * fs)
    c = [np.sum(a[i:i+n]*b[i:i+n]) / np.sqrt(np.sum(a[i:i+n]**2) * np.sum(b[i:i+n]**2)) for i in range(0, len(a), n) if len(a[i:i+n]) > n // 50]
    f = np.fft.rfftfreq(len(m), 1 / fs)
    k = (f >= 20) & (f < 120)
    w = np.hanning(len(m))
    out.append([float(np.percentile(c, 10)), float(10 * np.log10(np.sum(abs(np.fft.rfft(v * w)[k])**2) / max(np.sum(abs(np.fft.rfft(m * w)[k])**2),
      0.1 * np.sum(abs(np.fft.rfft(m * w))**2))))])
print(json.dumps(out))
`, map[string]any{"l": x.Ch[0], "r": x.Ch[1], "hz": hz}, &got)
		safe := func(v [2]float64) bool { return v[0] >= -0.06 && (v[1] <= -LowUnder+0.1) }
		t.Logf("%s: %g Hz; scipy: %.3f and %.1f dB, a quarter octave less %.3f and %.1f", name, hz, got[0][0], got[0][1], got[1][0], got[1][1])
		if !safe(got[0]) || safe(got[1]) {
			t.Errorf("%s: %g Hz is not the lowest: %v", name, hz, got)
		}
		p, err := (&move.SideCut{Hz: hz, Slope: cornerSlope}).Processor(move.Place{Rate: rate})
		if err != nil {
			t.Fatal(err)
		}
		y := audio.New(rate, 2, x.Frames())
		copy(y.Ch[0], x.Ch[0])
		copy(y.Ch[1], x.Ch[1])
		p.Process(y, audio.Buffer{})
		for i := range y.Ch[0] {
			if d := math.Abs(float64(y.Ch[0][i]) + float64(y.Ch[1][i]) - float64(x.Ch[0][i]) - float64(x.Ch[1][i])); d > 1e-6 {
				t.Fatalf("%s: left and right together move by %g", name, d)
			}
		}
		if f := Measure(y); !f.Safe(0) {
			t.Errorf("%s: behind the cut it is not safe: %+v", name, f.Worst)
		}
	}
	if hz, ok := Corner(stereo(n, n), 0); hz != 0 || !ok {
		t.Errorf("mono needs a corner of %g (%v)", hz, ok)
	}
	high := scaled(n, 1)
	if _, ok := Corner(stereo(n, scaled(high, -1)), 0); ok {
		t.Error("what is upside down from bottom to top is cured by a corner")
	}
}

// Correlation, fold-down loss and side share, whole and by third-octave, against numpy on noise of which each band is as wide as it likes.
func TestAgainstNumpy(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	a, b := noise(r, 8), noise(r, 8)
	s, err := dsp.ButterworthHighpass(2, 900, rate)
	if err != nil {
		t.Fatal(err)
	}
	dsp.NewFilter(s).Process(b, b)
	x := stereo(make([]float32, len(a)), make([]float32, len(a)))
	for i := range a {
		x.Ch[0][i], x.Ch[1][i] = a[i]+b[i], 0.8*a[i]-0.7*b[i]
	}
	f := Measure(x)
	var hz []float64
	for _, b := range f.Bands {
		hz = append(hz, b.Hz)
	}
	var got struct {
		Correlation, Fold, Side, Worst float64
		Bands                          [][2]float64
	}
	outside.Python(t, `
import json, sys
import numpy as np
q = json.load(sys.stdin)
l, r = np.array(q["l"]), np.array(q["r"])
m, s = (l + r) / 2, (l - r) / 2
n = int(0.4 * 44100)
steps = [np.corrcoef(l[i:i+n], r[i:i+n])[0, 1] for i in range(0, len(l), n)]
L, R, M = (np.fft.rfft(v) for v in (l, r, m))
f = np.fft.rfftfreq(len(l), 1 / 44100)
bands = []
for hz in q["hz"]:
    k = (f >= hz * 2 ** (-1/6)) & (f < hz * 2 ** (1/6))
    ll, rr, lr, mm = (np.sum(v[k]).real for v in (abs(L)**2, abs(R)**2, L * np.conj(R), abs(M)**2))
    bands.append([lr / np.sqrt(ll * rr), 10 * np.log10((ll + rr) / (2 * mm))])
print(json.dumps({"Correlation": float(np.sum(l*r) / np.sqrt(np.sum(l*l) * np.sum(r*r))),
  "Fold": float(10*np.log10((np.sum(l*l) + np.sum(r*r)) / (2 * np.sum(m*m)))),
    "Side": float(10*np.log10(np.sum(s*s) / np.sum(m*m))), "Worst": float(np.percentile(steps, 10)), "Bands": bands}))
`, map[string]any{"l": x.Ch[0], "r": x.Ch[1], "hz": hz}, &got)
	for _, c := range []struct {
		what      string
		got       meter.Figure
		want, far float64
	}{{"correlation", f.Correlation, got.Correlation, 1e-4}, {"fold", f.Fold, got.Fold, 1e-3}, {"side", f.Side, got.Side, 1e-3}, {"worst tenth", f.Worst,
		got.Worst, 0.005}} {
		if math.Abs(float64(c.got)-c.want) > c.far {
			t.Errorf("%s: %.4f, numpy %.4f", c.what, float64(c.got), c.want)
		}
	}
	for i, b := range f.Bands {
		if b.Hz < 40 { // few bins
			continue
		}
		if math.Abs(float64(b.Correlation)-got.Bands[i][0]) > 0.08 || math.Abs(float64(b.Fold)-got.Bands[i][1]) > 0.4 {
			t.Errorf("%.0f Hz: correlation %.3f, numpy %.3f; fold %.2f, numpy %.2f", b.Hz, float64(b.Correlation), got.Bands[i][0], float64(b.Fold), got.Bands[i][1])
		}
	}
}
