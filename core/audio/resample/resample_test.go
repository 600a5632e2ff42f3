package resample

import (
	"fmt"
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/internal/outside"
)

func convert(t *testing.T, in audio.Buffer, rate int) audio.Buffer {
	t.Helper()
	s, err := New(audio.Memory{Buffer: in}, rate)
	if err != nil {
		t.Fatal(err)
	}
	out, err := audio.ReadAll(s)
	if err != nil {
		t.Fatal(err)
	}
	return out
}

var ratePairs = [][2]int{{8000, 44100}, {22050, 48000}, {44100, 48000}, {48000, 44100}, {96000, 44100}, {192000, 48000}, {44100, 88200}, {47999, 44100}}

// A sine keeps its frequency, phase and level: the resampled sine is the sine sampled at the
// new rate (sampling theorem), up to 0.45 of the lower rate, within 0.1 dB.
func TestSinesStay(t *testing.T) {
	for _, p := range ratePairs {
		for _, part := range []float64{0.002, 0.1, 0.3, 0.45} {
			t.Run(fmt.Sprintf("%d to %d, %g", p[0], p[1], part), func(t *testing.T) {
				hz := part * float64(min(p[0], p[1]))
				out := convert(t, outside.Sine(p[0], 1, hz, 0.5, 0.3, 0), p[1])
				worst := 0.0
				for i := out.Frames() / 4; i < 3*out.Frames()/4; i++ {
					want := 0.5 * math.Sin(2*math.Pi*hz*float64(i)/float64(p[1]))
					worst = math.Max(worst, math.Abs(float64(out.Ch[0][i])-want))
				}
				if worst > 0.5*(math.Pow(10, 0.1/20)-1) {
					t.Errorf("off by %.2g", worst)
				}
			})
		}
	}
}

// What lies over half the lower rate must be gone: under -100 dB.
func TestAliases(t *testing.T) {
	for _, p := range [][2]int{{48000, 44100}, {96000, 44100}, {192000, 8000}} {
		for _, over := range []float64{1.001, 1.1, 1.5} {
			hz := float64(p[1]) / 2 * over
			if hz > 0.48*float64(p[0]) {
				continue
			}
			out := convert(t, outside.Sine(p[0], 1, hz, 1, 0.5, 0), p[1])
			sum, n := 0.0, 0
			for i := out.Frames() / 4; i < 3*out.Frames()/4; i++ {
				sum += float64(out.Ch[0][i]) * float64(out.Ch[0][i])
				n++
			}
			if db := 10 * math.Log10(2*sum/float64(n)+1e-30); db > -100 {
				t.Errorf("%d to %d: %g Hz comes back at %.1f dB", p[0], p[1], hz, db)
			}
		}
	}
}

// A sweep through scipy's polyphase resampler and ours: the same up to 0.4 of the lower rate,
// where both filters are flat.
func TestSweepAgainstSciPy(t *testing.T) {
	outside.Slow(t)
	for _, p := range [][2]int{{48000, 44100}, {44100, 48000}, {96000, 44100}} {
		in := audio.New(p[0], 1, p[0])
		top := 0.4 * float64(min(p[0], p[1]))
		for i := range in.Ch[0] {
			s := float64(i) / float64(p[0])
			in.Ch[0][i] = float32(0.5 * math.Sin(2*math.Pi*(20*s+top/2*s*s)) * math.Sin(math.Pi*s))
		}
		got := convert(t, in, p[1])
		var want []float64
		outside.Python(t, `
import json, sys
import numpy as np
from math import gcd
from scipy import signal
req = json.load(sys.stdin)
g = gcd(req["to"], req["from"])
up, down = req["to"]//g, req["from"]//g
n = 400*max(up, down)
h = signal.firwin(2*n+1, 0.475/0.5*min(1, up/down)/up, window=("kaiser", 12.0))
json.dump(list(signal.resample_poly(np.array(req["x"]), up, down, window=h)), sys.stdout)
`, map[string]any{"from": p[0], "to": p[1], "x": in.Ch[0]}, &want)
		worst := 0.0
		for i := 2000; i < min(got.Frames(), len(want))-2000; i++ {
			worst = math.Max(worst, math.Abs(float64(got.Ch[0][i])-want[i]))
		}
		if worst > 2e-4 {
			t.Errorf("%d to %d: differs by %.2g", p[0], p[1], worst)
		}
	}
}

// What a read gives must not depend on where it begins.
func TestWindows(t *testing.T) {
	in := outside.Sine(48000, 2, 441, 0.7, 0.5, 0.1)
	s, err := New(audio.Memory{Buffer: in}, 44100)
	if err != nil {
		t.Fatal(err)
	}
	whole, err := audio.ReadAll(s)
	if err != nil {
		t.Fatal(err)
	}
	for _, at := range []int{0, 1, 777, 12345, 20000} {
		b := audio.New(44100, 2, 1500)
		if err := s.ReadAt(b, int64(at)); err != nil {
			t.Fatal(err)
		}
		for i, v := range b.Ch[1] {
			if v != whole.Ch[1][at+i] {
				t.Fatalf("read at %d: sample %d is %g, of the whole %g", at, i, v, whole.Ch[1][at+i])
			}
		}
	}
	before := audio.New(44100, 2, 10)
	if err := s.ReadAt(before, -5000); err != nil || before.Ch[0][0] != 0 {
		t.Errorf("before the start: %v, %v", before.Ch[0], err)
	}
}

func TestLengthAndSameRate(t *testing.T) {
	in := audio.Memory{Buffer: audio.New(48000, 1, 48000)}
	s, err := New(in, 44100)
	if err != nil || s.Format().Frames != 44100 || s.Format().Rate != 44100 {
		t.Errorf("one second became %+v, %v", s.Format(), err)
	}
	if same, err := New(in, 48000); err != nil || same.Format() != in.Format() {
		t.Errorf("the same rate gave %+v, %v", same.Format(), err)
	}
	if _, err := New(in, 1); err == nil {
		t.Error("1 Hz was taken")
	}
}
