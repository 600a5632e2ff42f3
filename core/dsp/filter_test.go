package dsp

import (
	"fmt"
	"math"
	"math/cmplx"
	"testing"

	"mellowthump/internal/outside"
)

// Response and output of every design against scipy.signal, the reference implementation
// that 3-sound asks for: within 0.01 dB, outputs within float32 rounding.
func TestFiltersAgainstSciPy(t *testing.T) {
	outside.Slow(t)
	type design struct {
		Order int       `json:"order"`
		Edges []float64 `json:"edges"`
		Kind  string    `json:"kind"`
		FS    float64   `json:"fs"`
	}
	var designs []design
	for _, fs := range []float64{8000, 44100, 48000, 96000, 192000} {
		designs = append(designs,
			design{Order: 2, Edges: []float64{20, 150}, Kind: "bandpass", FS: fs},
			design{Order: 2, Edges: []float64{52 / math.Sqrt2, 52 * math.Sqrt2}, Kind: "bandpass", FS: fs},
			design{Order: 2, Edges: []float64{150}, Kind: "lowpass", FS: fs},
			design{Order: 8, Edges: []float64{900}, Kind: "lowpass", FS: fs},
			design{Order: 2, Edges: []float64{300}, Kind: "highpass", FS: fs},
			design{Order: 4, Edges: []float64{37}, Kind: "highpass", FS: fs},
		)
	}
	probes := []float64{10, 25, 36, 52, 73.5, 100, 150, 300, 900, 2000, 3500}
	impulse := make([]float64, 400)
	impulse[0] = 1
	for i := range impulse {
		impulse[i] += 0.2 * math.Sin(float64(i)*0.07)
	}
	var want []struct {
		DB  []float64 `json:"db"`
		Out []float64 `json:"out"`
	}
	outside.Python(t, `
import json, sys
import numpy as np
from scipy import signal
req = json.load(sys.stdin)
out = []
for d in req["designs"]:
    e = d["edges"][0] if len(d["edges"]) == 1 else d["edges"]
    sos = signal.butter(d["order"], e, d["kind"], fs=d["fs"], output="sos")
    _, h = signal.sosfreqz(sos, worN=np.array(req["probes"]), fs=d["fs"])
    y = signal.sosfilt(sos, np.array(req["impulse"]))
    out.append({"db": list(20*np.log10(np.abs(h))), "out": list(y)})
json.dump(out, sys.stdout)
`, map[string]any{"designs": designs, "probes": probes, "impulse": impulse}, &want)
	for i, d := range designs {
		t.Run(fmt.Sprintf("%s %d %v at %g", d.Kind, d.Order, d.Edges, d.FS), func(t *testing.T) {
			var s []Biquad
			var err error
			switch d.Kind {
			case "bandpass":
				s, err = Bandpass(d.Edges[0], d.Edges[1], d.FS)
			case "lowpass":
				s, err = ButterworthLowpass(d.Order, d.Edges[0], d.FS)
			default:
				s, err = ButterworthHighpass(d.Order, d.Edges[0], d.FS)
			}
			if err != nil {
				t.Fatal(err)
			}
			for k, hz := range probes {
				got := DB(cmplx.Abs(Response(s, hz, d.FS)))
				if math.Abs(got-want[i].DB[k]) > 0.01 {
					t.Errorf("%g Hz: %.4f dB, scipy %.4f", hz, got, want[i].DB[k])
				}
			}
			in := make([]float32, len(impulse))
			for k, v := range impulse {
				in[k] = float32(v)
			}
			NewFilter(s).Process(in, in)
			for k := range in {
				if math.Abs(float64(in[k])-want[i].Out[k]) > 2e-6 {
					t.Fatalf("sample %d: %g, scipy %g", k, in[k], want[i].Out[k])
				}
			}
		})
	}
}

// A Butterworth corner lies at -3.01 dB: 10 log10(1/2).
func TestCorners(t *testing.T) {
	lp, _ := ButterworthLowpass(4, 100, 48000)
	hp, _ := ButterworthHighpass(4, 100, 48000)
	bp, _ := Bandpass(20, 150, 48000)
	for _, c := range []struct {
		s  []Biquad
		hz float64
	}{{lp, 100}, {hp, 100}, {bp, 20}, {bp, 150}} {
		if db := DB(cmplx.Abs(Response(c.s, c.hz, 48000))); math.Abs(db-10*math.Log10(0.5)) > 1e-6 {
			t.Errorf("%.6f dB at the corner %g Hz", db, c.hz)
		}
	}
}

func TestImpossibleFilters(t *testing.T) {
	for _, f := range []func() ([]Biquad, error){
		func() ([]Biquad, error) { return ButterworthLowpass(3, 100, 48000) },
		func() ([]Biquad, error) { return ButterworthLowpass(2, 24000, 48000) },
		func() ([]Biquad, error) { return ButterworthHighpass(2, 0, 48000) },
		func() ([]Biquad, error) { return Bandpass(100, 50, 48000) },
		func() ([]Biquad, error) { return Bandpass(100, 30000, 48000) },
	} {
		if s, err := f(); err == nil {
			t.Errorf("no error, sections %v", s)
		}
	}
}

// What a filter gives must not depend on how its input is cut into blocks.
func TestBlocksDoNotMatter(t *testing.T) {
	bp, _ := Bandpass(20, 150, 44100)
	lp, _ := ButterworthLowpass(8, 900, 44100)
	for _, s := range [][]Biquad{bp, lp, lp[:1]} {
		x := make([]float32, 5000)
		for i := range x {
			x[i] = float32(math.Sin(float64(i) * float64(i) * 1e-5))
		}
		whole := make([]float32, len(x))
		NewFilter(s).Process(whole, x)
		f := NewFilter(s)
		parts := make([]float32, len(x))
		for at, n := 0, 1; at < len(x); at, n = at+n, n*3%701+1 {
			end := min(at+n, len(x))
			f.Process(parts[at:end], x[at:end])
		}
		for _, beside := range [][]Biquad{bp, lp} {
			other, both := make([]float32, len(x)), make([]float32, len(x))
			Process2(NewFilter(s), both, x, NewFilter(beside), other, x) // two at once are each as alone
			alone := make([]float32, len(x))
			NewFilter(beside).Process(alone, x)
			for i := range x {
				if both[i] != whole[i] || other[i] != alone[i] {
					t.Fatalf("sample %d: %g and %g at once, %g and %g alone", i, both[i], other[i], whole[i], alone[i])
				}
			}
		}
		for i := range x {
			if whole[i] != parts[i] {
				t.Fatalf("sample %d: %g whole, %g in parts", i, whole[i], parts[i])
			}
		}
	}
}

// A step of the squared signal reaches 1 - 1/e after tau, in closed form.
func TestSmooth(t *testing.T) {
	const fs, tau = 48000, 0.005
	x := make([]float32, fs/10)
	for i := range x {
		x[i] = 1
	}
	s := Smooth(x, tau, fs)
	if got, want := float64(s[tau*fs-1]), 1-1/math.E; math.Abs(got-want) > 1e-7 { // float32
		t.Errorf("%.9f after tau, want %.9f", got, want)
	}
}

// scipy.signal.windows.kaiser, live.
func TestKaiser(t *testing.T) {
	outside.Slow(t)
	var want []float64
	outside.Python(t, `
import json, sys
from scipy.signal.windows import kaiser
json.dump(list(kaiser(65, json.load(sys.stdin))), sys.stdout)
`, 9.5, &want)
	for i := 1; i < 64; i++ { // the ends are outside the open interval
		if got := Kaiser(float64(i-32)/32, 9.5); math.Abs(got-want[i]) > 1e-9 {
			t.Errorf("at %d: %.12f, scipy %.12f", i, got, want[i])
		}
	}
	if Kaiser(1, 9.5) != 0 || Kaiser(-2, 9.5) != 0 {
		t.Error("the window reaches past its ends")
	}
}

func TestDecibels(t *testing.T) {
	if v := Gain(-6.0205999); math.Abs(v-0.5) > 1e-8 {
		t.Errorf("Gain(-6.02) = %g", v)
	}
	if v := DB(0.5); math.Abs(v+6.0205999) > 1e-7 {
		t.Errorf("DB(0.5) = %g", v)
	}
	if v := PowerDB(2); math.Abs(v-3.0103) > 1e-5 {
		t.Errorf("PowerDB(2) = %g", v)
	}
}

func BenchmarkBandpass(b *testing.B) {
	s, _ := Bandpass(20, 150, 44100)
	x := make([]float32, 44100)
	f := NewFilter(s)
	b.SetBytes(int64(4 * len(x)))
	for b.Loop() {
		f.Process(x, x)
	}
}

// A band-pass is filtered with three multiplications a section: to the same bits as by the whole formula.
func TestBandsToTheBit(t *testing.T) {
	bp, err := Bandpass(36, 73, 44100)
	if err != nil {
		t.Fatal(err)
	}
	x := make([]float32, 20000)
	for i := range x {
		x[i] = float32(math.Sin(float64(i)*float64(i)*1e-6)) * float32(i%7) / 7
	}
	got := make([]float32, len(x))
	NewFilter(bp).Process(got, x)
	var z [2][2]float64
	for i, v := range x {
		u := float64(v)
		for k, s := range bp { // transposed direct form II, term by term
			y := s.B0*u + z[k][0]
			z[k][0] = s.B1*u + z[k][1] - s.A1*y
			z[k][1] = s.B2*u - s.A2*y
			u = y
		}
		if got[i] != float32(u) {
			t.Fatalf("sample %d: %g, by the formula %g", i, got[i], u)
		}
	}
}

// Smooth is one-pole smoothing of the squared signal: s[n] = a s[n-1] + (1-a) x[n]^2 with
// a = exp(-1/(tau fs)), tau in seconds. It returns a new slice; its state is in float64.
func Smooth(x []float32, tau, fs float64) []float32 {
	out := make([]float32, len(x))
	NewSmoother(tau, fs).Process(out, x)
	return out
}
