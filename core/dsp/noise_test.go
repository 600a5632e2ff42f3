package dsp

import (
	"math"
	"testing"

	"mellowthump/internal/outside"
)

// Pink noise falls by 10 log10 2 = 3.01 dB per octave of density, so octaves hold equal power:
// every octave from 20 Hz to 16 kHz within 0.5 dB of the next, by scipy's Welch estimate.
func TestPinkNoise(t *testing.T) {
	outside.Slow(t)
	const fs = 44100.0
	x := PinkNoise(1<<18, fs)
	var density struct{ Slope, Worst, RMS float64 }
	outside.Python(t, `
import json, sys
import numpy as np
from scipy import signal
d = json.load(sys.stdin)
x = np.array(d["x"])
f, p = signal.welch(x, d["fs"], nperseg=32768)
edges = 20 * 2.0 ** (np.arange(0, 29) / 3)   # thirds of octaves, 20 Hz to 12.9 kHz, then to 16 kHz
edges = np.append(edges, 16000)
mid, level = [], []
for lo, hi in zip(edges, edges[1:]):
    k = (f >= lo) & (f < hi)
    if k.sum() < 3: continue
    mid.append(np.log2(f[k]).mean()); level.append(10 * np.log10((p[k] * f[k]).mean()))
slope = np.polyfit(mid, level, 1)[0]
print(json.dumps({"Slope": slope, "Worst": float(np.abs(np.array(level) - np.mean(level)).max()), "RMS": float(np.sqrt((x**2).mean()))}))
`, map[string]any{"x": x, "fs": fs}, &density)
	// density x frequency is flat where the density falls by 3.01 dB per octave
	if math.Abs(density.Slope) > 0.05 || density.Worst > 0.5 {
		t.Errorf("off -3.01 dB per octave by %.3f dB, at the worst band by %.2f dB", density.Slope, density.Worst)
	}
	if math.Abs(density.RMS-1) > 1e-3 {
		t.Errorf("RMS %.4f", density.RMS)
	}
	if got := PinkShare(20, 40, fs) / PinkShare(5000, 10000, fs); math.Abs(got-1) > 1e-9 {
		t.Errorf("two octaves hold %.3f of each other's power", got)
	}
	if s := PinkShare(0, 1e6, fs); math.Abs(s-1) > 1e-9 {
		t.Errorf("all of it is %.3f", s)
	}
}
