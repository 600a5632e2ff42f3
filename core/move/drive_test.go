package move

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

// The harmonics of a sine stand where the closed form of the curve has them, to 0.1 dB: odd 2 p^n / (n atan g), p = (sqrt(1 +
// g^2) - 1) / g; the even ones are those of its square, summed from the same series. At -60 dB it is a null but for its delay.
// Aliases of 5 kHz driven by 12 dB stay 80 dB under it; a silent input stays silent.
func TestDrive(t *testing.T) {
	const rate, hz, n = 44100, 441.0, 44100
	run := func(d Drive, x audio.Buffer) []float32 {
		t.Helper()
		p, err := d.Processor(Place{Rate: rate})
		if err != nil {
			t.Fatal(err)
		}
		y := audio.New(rate, 1, x.Frames())
		copy(y.Ch[0], x.Ch[0])
		p.Process(y, audio.Buffer{})
		return y.Ch[0][y.Frames()-n:]
	}
	at := func(y []float32, f float64) float64 { // amplitude at a frequency, a whole number of periods long
		var re, im float64
		for i, v := range y {
			re += float64(v) * math.Cos(2*math.Pi*f*float64(i)/rate)
			im += float64(v) * math.Sin(2*math.Pi*f*float64(i)/rate)
		}
		return 2 * math.Hypot(re, im) / float64(len(y))
	}
	sine := func(f, a float64) audio.Buffer { return outside.Sine(rate, 1, f, a, 2, 0) }
	for _, drive := range []float64{3, 12, 20} {
		g := dsp.Gain(drive)
		p := (math.Sqrt(1+g*g) - 1) / g
		odd := func(k int) float64 { return 2 * math.Pow(p, float64(k)) / (float64(k) * math.Atan(g)) } // of sin(k x)
		y := run(Drive{Adds: DriveOdd, Drive: drive, Over: 20, Level: 0}, sine(hz, 1))
		for _, k := range []int{3, 5, 7, 9} {
			if got, want := 20*math.Log10(at(y, hz*float64(k))), 20*math.Log10(odd(k)); math.Abs(got-want) > 0.1 {
				t.Errorf("drive %g: odd harmonic %d is %.2f dB, want %.2f", drive, k, got, want)
			}
		}
		even := func(k int) float64 { // of the square: sin(a x) sin(b x) = (cos((a-b) x) - cos((a+b) x)) / 2
			sum := 0.0
			for a := 1; a < 400; a += 2 {
				for b := 1; b < 400; b += 2 {
					if a-b == k || b-a == k {
						sum += odd(a) * odd(b) / 2
					}
					if a+b == k {
						sum -= odd(a) * odd(b) / 2
					}
				}
			}
			return math.Abs(sum)
		}
		y = run(Drive{Adds: DriveEven, Drive: drive, Over: 20, Level: 0}, sine(hz, 1))
		for _, k := range []int{2, 4, 6} {
			if got, want := 20*math.Log10(at(y, hz*float64(k))), 20*math.Log10(even(k)); math.Abs(got-want) > 0.1 {
				t.Errorf("drive %g: even harmonic %d is %.2f dB, want %.2f", drive, k, got, want)
			}
		}
		if got := 20 * math.Log10(at(y, 3*hz)); got > -70 {
			t.Errorf("drive %g: even harmonics alone hold a third at %.1f dB", drive, got)
		}
	}
	x := sine(hz, 0.5)
	y := run(Drive{Adds: DriveOdd, Drive: 20, Over: 120, Level: driveSilent}, x)
	for i, v := range y {
		if want := x.Ch[0][x.Frames()-n+i-(clipTaps-1)]; v != want {
			t.Fatalf("at -60 dB it is no null: sample %d", i)
		}
	}
	y = run(Drive{Adds: DriveOdd, Drive: 12, Over: 20, Level: 0}, sine(5000, 1))
	worst := 0.0
	for f := 100.0; f < 20000; f += 100 {
		if math.Mod(f, 5000) != 0 {
			worst = math.Max(worst, at(y, f))
		}
	}
	if db := 20 * math.Log10(worst/at(y, 5000)); db > -80 {
		t.Errorf("aliases stand at %.1f dB", db)
	}
	for _, v := range run(Drive{Adds: DriveBoth, Drive: 24, Over: 20, Level: 12}, audio.New(rate, 1, 2*rate)) {
		if v != 0 {
			t.Fatal("silence sounds")
		}
	}
}

// Harmonics on a loop of 8 bars, one channel.
func BenchmarkDrive(b *testing.B) {
	const rate = 44100
	x := outside.Sine(rate, 1, 50, 0.5, 13.5, 0)
	d := Drive{Adds: DriveBoth, Drive: 9, Over: 120, Level: -12}
	for b.Loop() {
		p, err := d.Processor(Place{Rate: rate})
		if err != nil {
			b.Fatal(err)
		}
		p.Process(x, audio.Buffer{})
	}
}

// A drive of what is under a corner adds harmonics of that alone: those of a tone over it are gone by as much as the filter
// takes, cubed for the third.
func TestDriveOfABand(t *testing.T) {
	const rate = 44100
	for _, c := range []struct {
		hz    float64
		heard bool
	}{{50, true}, {1000, false}} {
		x := outside.Sine(rate, 1, c.hz, 0.5, 1, 0)
		y := behind(t, &Drive{Adds: DriveOdd, Drive: 12, Over: 20, Under: 150, Level: 0}, x)
		third := dsp.DB(goertzel(y.Ch[0][rate/2:], 3*c.hz, rate))
		if c.heard != (third > -30) || !c.heard && third > -100 {
			t.Errorf("%g Hz: its third harmonic is at %.1f dBFS", c.hz, third)
		}
	}
}
