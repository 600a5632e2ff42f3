package meter

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/internal/outside"
)

type madeNote struct{ start, end, hz, from float64 }

// playLine synthesises a bass line with given harmonics, drive and decay.
func playLine(notes []madeNote, harmonics []float64, drive, decay, seconds float64) []float32 {
	x := make([]float32, int(seconds*testRate))
	for _, n := range notes {
		phase := 0.0
		for i := int(n.start * testRate); i < int(n.end*testRate) && i < len(x); i++ {
			t := float64(i)/testRate - n.start
			hz := n.hz
			if n.from > 0 {
				hz *= math.Pow(n.from/n.hz, math.Exp(-t/0.03))
			}
			phase += 2 * math.Pi * hz / testRate
			v := 0.0
			for k, a := range harmonics {
				v += a * math.Sin(float64(k+1)*phase)
			}
			edge := math.Min(1, math.Min(t/0.003, (n.end-n.start-t)/0.01))
			x[i] += float32(0.5 * math.Tanh(drive*v) * math.Exp(-t/decay) * edge)
		}
	}
	return x
}

// The truth is what the line was made of. 500 lines of varied harmonics, drive and decay:
// octave errors under 1 % of the notes, steady notes of 300 ms within 5 cents, glides found.
func TestBassLine(t *testing.T) {
	outside.Slow(t)
	t.Parallel()
	r := rand.New(rand.NewPCG(3, 4))
	notes, octave, off, missed, glides, glidesFound := 0, 0, 0, 0, 0, 0
	for range 500 {
		harmonics := []float64{1}
		for len(harmonics) < 1+r.IntN(6) {
			harmonics = append(harmonics, r.Float64()*1.2/float64(len(harmonics)))
		}
		if r.IntN(5) == 0 && len(harmonics) > 2 {
			harmonics[0], harmonics[2] = 0.3, 1 // the third harmonic strongest
		}
		var made []madeNote
		at := 0.05
		for range 4 {
			n := madeNote{start: at, end: at + 0.3 + 0.3*r.Float64(), hz: NoteHz(24+r.IntN(20)) * math.Pow(2, (r.Float64()-0.5)*80/1200)}
			if k := len(made); k > 0 && r.IntN(4) == 0 && math.Abs(12*math.Log2(made[k-1].hz/n.hz)) > 1.5 {
				n.from = made[k-1].hz
			}
			made = append(made, n)
			at = n.end + 0.02
		}
		low, fs := Low(playLine(made, harmonics, 0.5+2*r.Float64(), 0.3+2*r.Float64(), at+0.1), testRate)
		got := BassLine(low, fs)
		for _, m := range made {
			notes++
			var hit *BassNote
			for i := range got {
				if g := &got[i]; math.Min(g.End, m.end)-math.Max(g.Start, m.start) > 0.5*(m.end-m.start) {
					hit = g
				}
			}
			if hit == nil {
				missed++
				continue
			}
			cents := math.Abs(1200 * math.Log2(hit.Hz/m.hz))
			if cents > 600 {
				octave++
			} else if cents > 5 {
				off++
			}
			if m.from > 0 {
				glides++
				if want := 1200 * math.Log2(m.hz/m.from); hit.Glide*want > 0 {
					glidesFound++
				}
			}
		}
	}
	t.Logf("%d notes: %d octave errors, %d more than 5 cents off, %d missed; %d of %d glides", notes, octave, off, missed, glidesFound, glides)
	if float64(octave) > 0.01*float64(notes) || float64(off) > 0.02*float64(notes) || float64(missed) > 0.02*float64(notes) ||
		float64(glidesFound) < 0.9*float64(glides) {
		t.Errorf("too many")
	}
	if BassLine(make([]float32, 4000), 4000) != nil {
		t.Error("silence has notes")
	}
}

// IEC 61260-1, table 1: class 1 limits on relative attenuation of third-octave filters, at
// normalised frequencies (G = 10^(3/10)); from memory of the standard's table: -0.4 to +0.4
// dB at mid-band, at most +5.3 dB at the band edges, at least 17.5 dB at 1.29437,
// 42 dB at 1.88173, 61 dB at 3.05365.
func TestBandFilterClass1(t *testing.T) {
	for _, band := range []int{0, 7, 17, 30} {
		fm := BandHz(band)
		att := func(ratio float64) float64 { return -10 * math.Log10(bandGain(band, fm*ratio)) }
		if a := att(1); math.Abs(a) > 0.4 {
			t.Errorf("band %g Hz: %.2f dB at mid-band", fm, a)
		}
		edge := math.Pow(10, 0.3/6)
		for _, c := range []struct{ ratio, least, most float64 }{
			{edge * 0.9999, -0.4, 5.3}, {1.29437, 17.5, math.Inf(1)}, {1.88173, 42, math.Inf(1)}, {3.05365, 61, math.Inf(1)},
		} {
			for _, x := range []float64{c.ratio, 1 / c.ratio} {
				if a := att(x); a < c.least || a > c.most {
					t.Errorf("band %.1f Hz at %.4f: %.2f dB, allowed %.1f to %.1f", fm, x, a, c.least, c.most)
				}
			}
		}
	}
	// IEC 61260-1: nominal 1 kHz is exact, 100 Hz is 10^(20/10), 25 Hz is 10^(14/10)
	for i, want := range map[int]float64{17: 1000, 7: 100, 1: math.Pow(10, 1.4)} {
		if got := BandHz(i); math.Abs(got-want) > 1e-9*want {
			t.Errorf("band %d is %.4f Hz, want %.4f", i, got, want)
		}
	}
}

// Closed form: a sine's level stands in its own band; white noise rises 1 dB a band (its
// power is even over Hz, and each band is 10^(1/10) wider than the one below).
func TestSpectrum(t *testing.T) {
	sine := outside.Sine(48000, 2, 100, 0.5, 3, 0)
	s, err := MeasureSpectrum(audio.Memory{Buffer: sine})
	if err != nil {
		t.Fatal(err)
	}
	near(t, "100 Hz band of a half-scale sine", s.Level[7], -9.03, 0.3)
	if s.Level[12] > -60 || s.TopHz > 1000 {
		t.Errorf("a sine at 100 Hz has %.1f dB at 316 Hz, and reaches %g Hz", s.Level[12], s.TopHz)
	}
	near(t, "correlation of equal channels", s.Correlation[7], 1, 1e-6)
	b := audio.New(48000, 2, 48000*20)
	r := rand.New(rand.NewPCG(7, 8))
	for i := range b.Ch[0] {
		b.Ch[0][i], b.Ch[1][i] = float32(0.2*r.NormFloat64()), float32(0.2*r.NormFloat64())
	}
	if s, err = MeasureSpectrum(audio.Memory{Buffer: b}); err != nil {
		t.Fatal(err)
	}
	for i := 8; i < 29; i++ {
		if rise := float64(s.Level[i] - s.Level[i-1]); math.Abs(rise-1) > 0.7 {
			t.Errorf("white noise rises %.2f dB from %.0f to %.0f Hz", rise, BandHz(i-1), BandHz(i))
		}
		if c := float64(s.Correlation[i]); i > 14 && math.Abs(c) > 0.1 {
			t.Errorf("independent noises correlate at %.2f at %.0f Hz", c, BandHz(i))
		}
	}
	near(t, "white noise, total", Figure(bandSum(s)), 10*math.Log10(0.04), 0.3)
}

func bandSum(s Spectrum) float64 {
	p := 0.0
	for _, l := range s.Level {
		if l.Valid() {
			p += math.Pow(10, float64(l)/10)
		}
	}
	return 10*math.Log10(p) + 10*math.Log10(24000/(22387-17.8)) // what lies outside the bands
}

func TestKickSweep(t *testing.T) {
	times := []float64{0.1, 0.6, 1.1}
	low, fs := Low(pattern(times, 1.6, kick(50, 200, 0.02, 0.15, 0.4)), testRate)
	s := KickSweep(low, fs, times, 51)
	// 250 Hz at the hit; within a semitone of 51 Hz (50 + 200 e^(-t/20ms) = 54) after 78 ms
	if s.StartHz < 150 || s.StartHz > 330 || s.TimeMS < 55 || s.TimeMS > 100 {
		t.Errorf("%+v", s)
	}
}
