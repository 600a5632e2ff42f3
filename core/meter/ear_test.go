package meter

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
)

// A roex filter is as wide as the ERB formula says: its area over its height is the equivalent rectangular bandwidth.
func TestRoexBandwidth(t *testing.T) {
	for _, fc := range []float64{50, 100, 250, 500, 1000, 4000, 10000} {
		area, step := 0.0, fc/20000
		for hz := step / 2; hz < 4*fc; hz += step {
			area += Roex(fc, hz) * step
		}
		lost := 0.0 // of the lower skirt, under 0 Hz: (2 + x) e^-x of fc / p, x = p
		p := 4 * fc / ERB(fc)
		lost = (2 + p) * math.Exp(-p) * fc / p
		if want := ERB(fc); math.Abs((area+lost)/want-1) > 0.01 {
			t.Errorf("%g Hz: %.2f Hz wide, want %.2f", fc, area+lost, want)
		}
	}
}

// The excitation of a tone of 1 kHz is the closed form of roex at every channel, and its level the tone's: 0 dBFS RMS is
// the playback level and 20 dB.
func TestExcitationOfATone(t *testing.T) {
	const rate = 48000
	e := NewEar(rate, Playback)
	x := outside.Sine(rate, 1, 1000, 0.5, 1, 0)
	power, out := make([]float64, e.Frame/2+1), make([]float64, len(e.Hz))
	e.Power(power, x, rate/4)
	e.Excite(out, power, 0, len(out))
	for n, fc := range e.Hz {
		w := Roex(fc, 1000)
		if w < 1e-5 {
			continue
		}
		if got, want := 10*math.Log10(out[n]), 10*math.Log10(0.125*w); math.Abs(got-want) > 0.3 {
			t.Errorf("at %.0f Hz: %.2f dB, want %.2f", fc, got, want)
		}
	}
	if n := e.Below(1000); math.Abs(e.Quiet[n]/math.Pow(10, (HearingThreshold(e.Hz[n])-103)/10)-1) > 1e-9 {
		t.Error("the threshold is not at the playback level")
	}
}

// The same from numpy on the same file.
func TestExcitationAgainstNumpy(t *testing.T) {
	const rate = 44100
	x := audio.New(rate, 2, rate)
	for i := range x.Ch[0] {
		ts := float64(i) / rate
		x.Ch[0][i] = float32(0.3*math.Sin(2*math.Pi*55*ts) + 0.1*math.Sin(2*math.Pi*(300+200*ts)*ts))
		x.Ch[1][i] = float32(0.2*math.Sin(2*math.Pi*55*ts) + 0.05*math.Sin(2*math.Pi*3000*ts))
	}
	path := outside.WriteWAV(t, "tones.wav", x, wav.Float32)
	e := NewEar(rate, Playback)
	power, out := make([]float64, e.Frame/2+1), make([]float64, len(e.Hz))
	const at = 10000
	e.Power(power, x, at)
	e.Excite(out, power, 0, len(out))
	var there []float64
	outside.Python(t, `
import sys, json
import numpy as np
from scipy.io import wavfile
path, at = json.load(sys.stdin)
fs, x = wavfile.read(path)
N = 4096
w = 0.5 - 0.5*np.cos(2*np.pi*(np.arange(N)+0.5)/N)
P = sum(np.abs(np.fft.rfft(x[at:at+N, c].astype(float)*w))**2 for c in range(2))/2 * 2/(N*np.sum(w**2))
f = np.arange(N//2+1)*fs/N
erb = lambda f: 24.7*(4.37*f/1000+1)
k = 1000/(24.7*4.37)
num = lambda f: k*np.log(4.37*f/1000+1)
inv = lambda n: (np.exp(n/k)-1)*1000/4.37
out = []
n = num(20.0)
while inv(n) <= 16000:
    fc = inv(n)
    pg = 4*fc/erb(fc)*np.abs(f-fc)/fc
    out.append(float(np.sum(P*(1+pg)*np.exp(-pg))))
    n += 0.25
print(json.dumps(out))
`, []any{path, at}, &there)
	if len(there) != len(out) {
		t.Fatalf("%d channels there, %d here", len(there), len(out))
	}
	compared := 0
	for n := range out {
		if there[n] < e.Quiet[n]/100 { // 20 dB under what can be heard: skirts that are left out
			continue
		}
		compared++
		if d := 10 * math.Log10(out[n]/there[n]); math.Abs(d) > 0.2 {
			t.Errorf("at %.0f Hz: %.2f dB off", e.Hz[n], d)
		}
	}
	if compared < 70 {
		t.Errorf("%d channels were compared", compared)
	}
}

// What moves by more than 1 dB over the threshold is heard; under it, or by less, it is not.
func TestHeard(t *testing.T) {
	e := NewEar(44100, Playback)
	was, now := make([]float64, len(e.Hz)), make([]float64, len(e.Hz))
	n := e.Below(500)
	for _, c := range []struct {
		level, by float64 // dB over the threshold, dB
		want      bool
	}{{20, 1.1, true}, {20, 0.9, false}, {20, -1.1, true}, {-3, 2, false}, {-0.5, 2, true}, {20, 0, false}} {
		was[n] = e.Quiet[n] * math.Pow(10, c.level/10)
		now[n] = was[n] * math.Pow(10, c.by/10)
		if got := e.Heard(was, now, 0, len(was)); got != c.want {
			t.Errorf("%g dB over the threshold, by %g dB: %v", c.level, c.by, got)
		}
	}
	if NewEar(96000, Playback).Frame != 8192 || NewEar(88200, Playback).Frame != 8192 || NewEar(48000, Playback).Frame != 4096 ||
		NewEar(192000, Playback).Frame != 16384 {
		t.Error("frames do not last alike at all rates")
	}
}

func BenchmarkExcitation(b *testing.B) {
	e := NewEar(44100, Playback)
	x := outside.Sine(44100, 2, 100, 0.5, 1, 0)
	power, out := make([]float64, e.Frame/2+1), make([]float64, len(e.Hz))
	for b.Loop() {
		e.Power(power, x, 1000)
		e.Excite(out, power, 0, len(out))
	}
}
