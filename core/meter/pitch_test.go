package meter

import (
	"fmt"
	"math"
	"testing"
)

const testRate = 44100

// partials synthesises a steady tone of the given partial amplitudes.
func partials(hz, seconds float64, amps ...float64) []float32 {
	x := make([]float32, int(seconds*testRate))
	for i := range x {
		for k, a := range amps {
			x[i] += float32(a * math.Sin(2*math.Pi*hz*float64(k+1)*float64(i)/testRate+0.3*float64(k)))
		}
	}
	return x
}

// Equal temperament at A4 = 440 Hz, ISO 16; the frequencies are the usual printed table
// (two decimals), entered by hand.
func TestNoteNames(t *testing.T) {
	for _, c := range []struct {
		hz   float64
		name string
	}{{43.65, "F1"}, {46.25, "F#1"}, {32.70, "C1"}, {34.65, "Db1"}, {38.89, "Eb1"}, {261.63, "C4"}, {440, "A4"}, {27.50, "A0"}} {
		name, cents := Note(c.hz)
		if name != c.name || math.Abs(cents) > 0.3 {
			t.Errorf("Note(%g) = %s %+.2f cents, want %s", c.hz, name, cents, c.name)
		}
	}
	if hz := NoteHz(29); math.Abs(hz-43.6535) > 0.0001 {
		t.Errorf("F1 (MIDI 29) = %g Hz", hz)
	}
}

// The true value of a synthetic tone is the frequency it was made with.
func TestFundamental(t *testing.T) {
	shapes := map[string][]float64{
		"pure sine":                 {0.5},
		"falling harmonics":         {0.5, 0.25, 0.12, 0.06},
		"third harmonic strongest":  {0.15, 0.1, 0.5, 0.05},
		"second harmonic strongest": {0.2, 0.5, 0.1},
		"missing fundamental":       {0, 0.3, 0.3, 0.2, 0.1},
	}
	for name, amps := range shapes {
		for _, hz := range []float64{27.5, 32.7, 43.65, 44.08, 55, 61.7, 110, 196, 390} {
			t.Run(fmt.Sprintf("%s %g Hz", name, hz), func(t *testing.T) {
				low, fs := Low(partials(hz, 0.5, amps...), testRate)
				p := Fundamental(low, fs)
				if p == nil {
					t.Fatal("no pitch found")
				}
				if cents := 1200 * math.Log2(p.Hz/hz); math.Abs(cents) > 2 {
					t.Errorf("read %.3f Hz, %.2f cents off", p.Hz, cents)
				}
				if p.Confidence < 0.4 {
					t.Errorf("confidence %.2f on a steady tone", p.Confidence)
				}
			})
		}
	}
}

func TestFundamentalOfNothing(t *testing.T) {
	low, fs := Low(make([]float32, testRate), testRate)
	if p := Fundamental(low, fs); p != nil {
		t.Errorf("silence has the pitch %v", p)
	}
	noise := make([]float32, testRate)
	seed := uint32(1)
	for i := range noise {
		seed = seed*1664525 + 1013904223
		noise[i] = float32(int32(seed)) / (1 << 31)
	}
	low, fs = Low(noise, testRate)
	if p := Fundamental(low, fs); p != nil && p.Confidence > 0.4 {
		t.Errorf("noise reads %v", p)
	}
}

// kick synthesises one hit: a sine that sweeps from f0+sweep down to f0.
func kick(f0, sweep, sweepTau, decay, seconds float64) []float32 {
	x := make([]float32, int(seconds*testRate))
	phase := 0.0
	for i := range x {
		t := float64(i) / testRate
		phase += 2 * math.Pi * (f0 + sweep*math.Exp(-t/sweepTau)) / testRate
		x[i] = float32(0.8 * math.Sin(phase) * math.Exp(-t/decay) * (1 - math.Exp(-t/0.001)))
	}
	return x
}

func pattern(times []float64, seconds float64, one []float32) []float32 {
	x := make([]float32, int(seconds*testRate))
	for _, s := range times {
		at := int(math.Round(s * testRate))
		for i, v := range one {
			if at+i < len(x) {
				x[at+i] += v
			}
		}
	}
	return x
}

// 3-sound: within 2 ms on synthetic patterns down to a 60 ms gap.
func TestOnsets(t *testing.T) {
	patterns := map[string][]float64{
		"even":   {0.1, 0.6, 1.1, 1.6},
		"roll":   {0.2, 0.26, 0.32, 0.38, 0.44, 0.9, 1.4, 1.46},
		"single": {0.5},
		"start":  {0, 0.3, 0.6},
	}
	for name, times := range patterns {
		for _, decay := range []float64{0.05, 0.12} {
			t.Run(fmt.Sprintf("%s decay %g", name, decay), func(t *testing.T) {
				got := Onsets(pattern(times, 2, kick(52, 180, 0.012, decay, 0.5)), testRate)
				if len(got) != len(times) {
					t.Fatalf("found %d hits %v, want %v", len(got), got, times)
				}
				for i := range times {
					if math.Abs(got[i]-times[i]) > 0.002 {
						t.Errorf("hit %d at %.4f s, want %.4f", i, got[i], times[i])
					}
				}
			})
		}
	}
	if got := Onsets(make([]float32, testRate), testRate); len(got) != 0 {
		t.Errorf("silence has hits %v", got)
	}
	steady := partials(34, 2, 0.5, 0.1)
	if got := Onsets(steady, testRate); len(got) > 1 {
		t.Errorf("a steady 34 Hz tone has %d hits", len(got))
	}
}
