package room

import (
	"context"
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/internal/sampled"
)

// Plucks of many pitches with a resonance that they wake: it is found, and nothing else; without it nothing is.
func TestRinging(t *testing.T) {
	plucks := func(resonance float64) audio.Buffer {
		r := rand.New(rand.NewPCG(2, 6))
		x := audio.New(rate, 1, 12*rate)
		for at := 0.1; at < 10.5; at += 0.35 {
			hz := 220 * math.Pow(2, float64(r.IntN(24))/12)
			for i := range rate * 3 / 2 {
				ts := float64(i) / rate
				n := int(at*rate) + i
				if n >= x.Frames() {
					break
				}
				x.Ch[0][n] += float32(0.2 * math.Sin(2*math.Pi*hz*ts) * math.Exp(-ts/0.06))
				x.Ch[0][n] += float32(resonance * math.Sin(2*math.Pi*347*ts) * math.Exp(-ts/0.5))
			}
		}
		return x
	}
	found := func(x audio.Buffer) []partial {
		f, err := spectra(context.Background(), x, 0)
		if err != nil {
			t.Fatal(err)
		}
		out, _ := rings(partials(f, rate))
		return out
	}
	if got := found(plucks(0)); len(got) != 0 {
		t.Errorf("without a resonance: %+v", got)
	}
	got := found(plucks(0.08))
	if len(got) != 1 || math.Abs(got[0].hz-347) > 4 {
		t.Errorf("with one at 347 Hz: %+v", got)
	}
}

// Of recorded instruments that play a line, few notes are told to ring.
func TestRingingOnRecordedLines(t *testing.T) {
	told := 0
	for _, program := range []int{0, 4, 11, 24, 25, 46, 48, 73} {
		var n []sampled.Note
		for k, at := 0, 0.1; at < 9; k, at = k+1, at+0.4 {
			n = append(n, sampled.Note{At: at, End: at + 0.38, Key: 60 + []int{0, 3, 7, 10, 12, 8, 5, 2}[k%8], Velocity: 95})
		}
		x := sampled.Play(t, map[int]int{0: program}, n, 10)
		f, err := spectra(context.Background(), x, 0)
		if err != nil {
			t.Fatal(err)
		}
		at, over := rings(partials(f, rate))
		for i, p := range at {
			t.Logf("program %d: %.0f Hz by %.1f dB, there %.2f", program, p.hz, over[i], p.there)
		}
		told += len(at)
	}
	if told > 4 {
		t.Errorf("%d partials of 8 lines are told", told)
	}
}
