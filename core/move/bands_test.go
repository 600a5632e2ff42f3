package move

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

// behind is a sound behind a move, on time.
func behind(t *testing.T, p Params, x audio.Buffer, hits ...int) audio.Buffer {
	t.Helper()
	if err := Validate(p); err != nil {
		t.Fatal(err)
	}
	return carry(t, p, Place{Rate: x.Rate, BPM: 120, Hits: hits}, x, 0, x.Frames(), 4096)
}

// goertzel is the amplitude of a sine of a frequency in a stretch.
func goertzel(x []float32, hz, rate float64) float64 {
	re, im := 0.0, 0.0
	for i, v := range x {
		w := 2 * math.Pi * hz * float64(i) / rate
		re, im = re+float64(v)*math.Cos(w), im+float64(v)*math.Sin(w)
	}
	return 2 * math.Hypot(re, im) / float64(len(x))
}

// At a depth of 0 the three bands sum flat to 0.01 dB, at any frequency and rate.
func TestBandsSumFlat(t *testing.T) {
	for _, rate := range []int{44100, 96000} {
		for _, hz := range []float64{30, 60, 100, 120, 150, 400, 1000, 2000, 2500, 3000, 6000, 12000} {
			x := outside.Sine(rate, 1, hz, 0.5, 1, 0)
			y := behind(t, &Bands{LowHz: 120, HighHz: 2500, Depth: 0, Low: -20, Mid: -20, High: -20, Attack: 10, Release: 100}, x)
			n := int(math.Round(0.5 * float64(rate)))
			if db := dsp.DB(goertzel(y.Ch[0][n:], hz, float64(rate)) / 0.5); math.Abs(db) > 0.01 {
				t.Errorf("%g Hz at %d: %.4f dB", hz, rate, db)
			}
		}
	}
}

// The static curve, upward and downward, is the formula's: of sines in the middle of a band, at every depth.
func TestBandsStaticCurve(t *testing.T) {
	for _, depth := range []float64{25, 50, 100} {
		for _, level := range []float64{-66, -50, -40, -33, -27, -24, -18, -10, -3} {
			for _, c := range []struct{ hz, high, middle float64 }{{700, 12000, -27}, {9000, 500, -36}} { // far from the corners
				b := &Bands{LowHz: 40, HighHz: c.high, Depth: depth, Low: -24, Mid: -27, High: -36, Attack: 5, Release: 60}
				x := outside.Sine(48000, 2, c.hz, dsp.Gain(level), 1.5, 0)
				y := behind(t, b, x)
				got := dsp.DB(goertzel(y.Ch[1][48000:], c.hz, 48000)) - level
				want := 0.0
				d := depth / 100
				switch { // written out again from the formula of the docstring
				case level > c.middle+6:
					want = -d * (level - c.middle - 6) * 0.75
				case level < c.middle-6:
					want = math.Min(d*(c.middle-6-level)*0.75, 12*d)
				}
				if math.Abs(got-want) > 0.1 {
					t.Errorf("depth %g, %g dBFS at %g Hz: %.2f dB, the formula says %.2f", depth, level, c.hz, got, want)
				}
			}
		}
	}
}

// Attack by bands lifts the attack of a burst in its band by what is asked, and leaves one in another band alone; at 0 dB it
// is a null to the bit.
func TestAttackBands(t *testing.T) {
	burst := func(hz float64) audio.Buffer {
		x := audio.New(48000, 1, 2*48000)
		for _, at := range []int{4800, 52800} {
			for i := range 24000 {
				s := float64(i) / 48000
				x.Ch[0][at+i] += float32(0.4 * math.Sin(2*math.Pi*hz*s) * math.Exp(-s/0.12) * math.Min(1, s/0.001))
			}
		}
		return x
	}
	peak := func(x audio.Buffer) float64 {
		top := 0.0
		for _, v := range x.Ch[0][52800:53760] {
			top = math.Max(top, math.Abs(float64(v)))
		}
		return dsp.DB(top)
	}
	for _, c := range []struct{ hz, want float64 }{{6000, 6}, {600, 0}} {
		x := burst(c.hz)
		plain := behind(t, &AttackBands{LowHz: 120, HighHz: 2500, LowAttack: 0.0001}, x) // the crossover alone
		y := behind(t, &AttackBands{LowHz: 120, HighHz: 2500, HighAttack: 6}, x)
		if got := peak(y) - peak(plain); math.Abs(got-c.want) > 0.5 {
			t.Errorf("%g Hz: the attack moves by %.2f dB, asked %g", c.hz, got, c.want)
		}
	}
	x := noisy(44100, 1)
	if d := farthest(behind(t, &AttackBands{LowHz: 120, HighHz: 2500}, x), x); d != 0 {
		t.Errorf("at 0 dB it is off by %g", d)
	}
}

// A parallel copy comes on top, in time with the sound: nothing of it under its corner, at -60 dB a null, without shaping or
// drive the sound behind the high-pass at its level.
func TestParallel(t *testing.T) {
	x := noisy(44100, 1)
	if d := farthest(behind(t, &Parallel{Over: 340, Attack: 6, Sustain: -12, Drive: 12, Level: -60}, x), x); d > 0 {
		t.Errorf("silent, it is off by %g", d)
	}
	if d := farthest(behind(t, &Parallel{Over: 340, Level: -60}, x), x); d > 0 {
		t.Errorf("silent without drive, it is off by %g", d)
	}
	high := behind(t, &Filter{Shape: dsp.Highpass, Hz: 340, Slope: 24}, x)
	y := behind(t, &Parallel{Over: 340, Level: -6}, x)
	for c := range y.Ch {
		for i, v := range y.Ch[c] {
			if d := float64(v - x.Ch[c][i] - float32(dsp.Gain(-6))*high.Ch[c][i]); math.Abs(d) > 1e-5 {
				t.Fatalf("frame %d is off by %g", i, d)
			}
		}
	}
	low := outside.Sine(44100, 1, 45, 0.5, 1, 0)
	y = behind(t, &Parallel{Over: 340, Attack: 6, Sustain: 12, Level: 0}, low)
	if db := dsp.DB(goertzel(y.Ch[0][22050:], 45, 44100) / 0.5); math.Abs(db) > 0.1 {
		t.Errorf("the low end moves by %.2f dB", db)
	}
	click := audio.New(44100, 1, 8000)
	click.Ch[0][4000] = 0.5
	y = behind(t, &Parallel{Over: 20, Drive: 6, Level: 0}, click)
	top := 0
	for i, v := range y.Ch[0] {
		if math.Abs(float64(v)) > math.Abs(float64(y.Ch[0][top])) {
			top = i
		}
	}
	if top != 4000 {
		t.Errorf("the click is at %d", top)
	}
}

// A compressor whose detector is high-passed hears no low end: a loud 50 Hz moves it by under 0.2 dB, a loud 1 kHz as much as without.
func TestCompressKey(t *testing.T) {
	for _, c := range []struct {
		hz, key, least, most float64
	}{{50, 0, 7, 12}, {50, 150, -0.01, 0.2}, {1000, 0, 7, 12}, {1000, 150, 7, 12}} {
		x := outside.Sine(44100, 1, c.hz, 0.5, 1, 0)
		y := behind(t, &Compress{Threshold: -20, Ratio: 4, KeyHz: c.key, Attack: 10, Release: 100, BackHz: 50}, x)
		if by := -dsp.DB(goertzel(y.Ch[0][22050:], c.hz, 44100) / 0.5); by < c.least || by > c.most {
			t.Errorf("%g Hz with a key over %g Hz: lowered by %.2f dB", c.hz, c.key, by)
		}
	}
}
