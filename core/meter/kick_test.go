package meter

import (
	"fmt"
	"math"
	"math/cmplx"
	"math/rand/v2"
	"testing"

	"gonum.org/v1/gonum/dsp/fourier"
	"gonum.org/v1/gonum/dsp/window"

	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

// off is the distance of two frequencies in cents.
func off(a, b float64) float64 { return 1200 * math.Log2(a/b) }

// A kick settles on what it ends on, however far and long it falls, as long as most of a tenth of it is left by then; with a click
// of noise and repitched too. What is still falling when it dies away has no settled pitch.
func TestKickPitchSettles(t *testing.T) {
	times := []float64{0.1, 0.6, 1.1, 1.6}
	n, right := 0, 0
	for _, f0 := range []float64{38, 45, 52, 60, 75} {
		for _, s := range []struct{ sweep, tau, decay float64 }{
			{150, 0.012, 0.15}, {155, 0.02, 0.12}, {155, 0.02, 0.25}, {80, 0.03, 0.25}, {155, 0.04, 0.25}, {350, 0.015, 0.12}, {0, 0.01, 0.06}, {40, 0.02, 0.08},
		} {
			for k, speed := range []float64{0.8, 1, 1.25} {
				one := kick(f0*speed, s.sweep*speed, s.tau/speed, s.decay/speed, 0.45)
				r := rand.New(rand.NewPCG(uint64(k), 4))
				for i := range one[:testRate/100] { // its click
					one[i] += float32(0.4 * r.NormFloat64() * math.Exp(-float64(i)/testRate/0.002))
				}
				low, fs := Low(pattern(times, 2.2, one), testRate)
				p := KickPitch(low, fs, times)
				if p == nil {
					t.Fatal("no pitch")
				}
				n++
				if d := math.Abs(off(p.Hz, f0*speed)); d <= 50 && p.Settled {
					right++
				} else {
					t.Logf("%.1f Hz after %+v at %g: %.2f Hz, settled: %t", f0*speed, s, speed, p.Hz, p.Settled)
				}
			}
		}
	}
	if t.Logf("%d of %d within 50 cents", right, n); right < n*95/100 {
		t.Errorf("%d of %d within 50 cents", right, n)
	}
	for _, f0 := range []float64{38, 45, 60} { // it falls for longer than it is heard
		low, fs := Low(pattern(times, 2.2, kick(f0, 160, 0.15, 0.1, 0.45)), testRate)
		if p := KickPitch(low, fs, times); p == nil || p.Settled || p.Hz < 1.2*f0 {
			t.Errorf("a fall to %g Hz that is never over: %+v", f0, p)
		}
	}
}

// Recorded kicks whose spectra are tallest within 35 cents of one place in three stretches after the hit settle there, at all
// speeds; every settled pitch is within 50 cents of the tallest place of the spectrum that is shown. Three stretches of 80 ms or
// more are looked at by a transform of their own.
func TestRecordedKicksSettle(t *testing.T) {
	outside.Slow(t)
	t.Parallel()
	agreed, near := 0, 0
	for _, kit := range sampled.Kits {
		for _, key := range []int{35, 36} {
			var notes []sampled.Note
			for b := range 10 {
				at := 0.1 + 0.5*float64(b)
				notes = append(notes, sampled.Note{At: at, End: at + 0.4, Key: key, Velocity: 80 + 7*(b%5), Channel: sampled.Drums})
			}
			x := sampled.Play(t, map[int]int{sampled.Drums: kit}, notes, 5.3).Mono()
			for _, speed := range []float64{0.7, 0.8, 0.9, 1, 1.1, 1.25} {
				var y []float32
				for u := 0.0; int(u)+1 < len(x); u += speed {
					y = append(y, x[int(u)]+float32(u-math.Floor(u))*(x[int(u)+1]-x[int(u)]))
				}
				hits := Onsets(y, sampled.Rate)
				low, fs := Low(y, sampled.Rate)
				p := KickPitch(low, fs, hits)
				if p == nil {
					t.Fatalf("kit %d key %d: no pitch", kit, key)
				}
				name := fmt.Sprintf("kit %d key %d at %g: %.1f Hz, settled: %t", kit, key, speed, p.Hz, p.Settled)
				var at []int
				for _, h := range hits {
					at = append(at, int(h*sampled.Rate))
				}
				m, err := NewHitMeterOf(Held(y), sampled.Rate, at, p.Hz, Range{To: len(y)})
				if err != nil {
					t.Fatal(err)
				}
				bars, err := m.FineSpectrum(Held(y))
				if err != nil {
					t.Fatal(err)
				}
				top := 0
				for i, v := range bars {
					if v > bars[top] {
						top = i
					}
				}
				if p.Settled && math.Abs(off(p.Hz, FineHz(top))) > 100 { // half a bar more: a bar is a semitone wide
					t.Errorf("%s, and its tallest bar is at %.1f", name, FineHz(top))
				}
				var places []Figure
				for _, s := range [][2]float64{{0.03, 0.11}, {0.06, 0.16}, {0.1, 0.25}} {
					var each []Figure
					for _, h := range hits[:len(hits)-1] {
						each = append(each, Figure(tallestBy(low[int((h+s[0])*fs):int((h+s[1])*fs)], fs)))
					}
					places = append(places, Median(each))
				}
				if off(float64(Percentile(places, 1)), float64(Percentile(places, 0))) > 35 {
					continue
				}
				agreed++
				if math.Abs(off(p.Hz, float64(Median(places)))) <= 35 && p.Settled {
					near++
				} else {
					t.Logf("%s, the stretches: %v", name, places)
				}
			}
		}
	}
	if t.Logf("of %d kicks on whose pitch three stretches agree %d are within 35 cents", agreed, near); agreed < 8 || near < agreed*95/100 {
		t.Errorf("of %d kicks on whose pitch three stretches agree %d are within 35 cents", agreed, near)
	}
}

// tallestBy is where the spectrum under a Hann window is tallest from 28 to 200 Hz, by gonum's transform, an eighth of a hertz apart.
func tallestBy(x []float32, fs float64) float64 {
	f := fourier.NewFFT(1 << 14)
	y := make([]float64, f.Len())
	for i, v := range x {
		y[i] = float64(v)
	}
	window.Hann(y[:len(x)])
	best, at := 0.0, 0.0
	for k, c := range f.Coefficients(nil, y) {
		if hz := float64(k) * fs / float64(f.Len()); hz > 28 && hz < 200 && cmplx.Abs(c) > best {
			best, at = cmplx.Abs(c), hz
		}
	}
	return at
}
