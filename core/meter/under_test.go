package meter_test

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/internal/outside"
)

// What lies under a frequency, against scipy's averaged periodogram over all of the sound: a tone at 20 Hz under noise, within half a
// decibel; and where it is strongest.
func TestUnderDB(t *testing.T) {
	const rate = 44100
	r := rand.New(rand.NewPCG(7, 7))
	for _, level := range []float64{0.3, 0.05, 0.01} {
		x := make([]float32, 12*rate)
		for i := range x {
			x[i] = float32(0.1*r.NormFloat64() + level*math.Sin(2*math.Pi*20*float64(i)/rate))
		}
		low, fs := meter.Low(x, rate)
		got, at := meter.UnderDB(meter.LowShares(low, fs, meter.Energy(x)/float64(len(x))), 30)
		var want float64
		outside.Python(t, `
import json, sys, numpy as np
from scipy.signal import welch
d = json.load(sys.stdin); x = np.array(d["x"])
f, p = welch(x, d["fs"], "hann", 131072, detrend="constant")
print(json.dumps(float(10 * np.log10(p[(f >= 4.5) & (f < 29.5)].sum() / p[f >= 29.5].sum()))))`, map[string]any{"x": x, "fs": rate}, &want)
		if math.Abs(float64(got)-want) > 0.5 || at != 20 {
			t.Errorf("a tone of %g: %.2f dB at %g Hz, scipy says %.2f", level, got, at, want)
		}
	}
}

// Tops that were cut off are told also where the file was turned down since; a sine, a square wave and a file of 16 bit are not.
func TestFlatTops(t *testing.T) {
	const rate = 44100
	runs := func(f func(s float64) float64) int {
		b := audio.New(rate, 1, 2*rate)
		for i := range b.Ch[0] {
			b.Ch[0][i] = float32(f(float64(i) / rate))
		}
		m := meter.NewLevelMeter(rate, 1)
		m.Add(b)
		if got, at := m.Levels().ClippedRuns, m.ClippedAt(); got != len(at) {
			t.Errorf("%d runs at %d places", got, len(at))
		}
		return m.Levels().ClippedRuns
	}
	sine := func(hz float64) func(float64) float64 {
		return func(s float64) float64 { return math.Sin(2 * math.Pi * hz * s) }
	}
	cut := func(f func(float64) float64, over, down float64) func(float64) float64 {
		return func(s float64) float64 { return down * math.Max(-1, math.Min(1, over*f(s))) }
	}
	if n := runs(cut(sine(440), 1.8, 1)); n < 1600 {
		t.Errorf("cut off at full scale: %d of 1760", n)
	}
	if n := runs(cut(sine(440), 1.8, 0.25)); n < 1600 {
		t.Errorf("cut off and turned down: %d of 1760", n)
	}
	in16 := func(f func(float64) float64) func(float64) float64 {
		return func(s float64) float64 { return math.Round(f(s)*32767) / 32768 }
	}
	for name, f := range map[string]func(float64) float64{
		"a sine": sine(44), "soft in 16 bit": in16(cut(sine(44), 0.2, 1)), "softer in 16 bit": in16(cut(sine(30), 0.03, 1)),
		"a square wave": func(s float64) float64 { return math.Copysign(0.3, math.Sin(2*math.Pi*110*s)) },
		"silence":       func(float64) float64 { return 0 },
	} {
		if n := runs(f); n != 0 {
			t.Errorf("%s is told to be clipped in %d places", name, n)
		}
	}
}
