package move

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

// The true peak by ffmpeg is at most the ceiling and 0.1 dB: noise, single samples, what is over full scale between its
// samples only, a square, sweeps, two channels that differ, at all rates.
func TestLimitTruePeak(t *testing.T) {
	outside.Slow(t)
	r := rand.New(rand.NewPCG(1, 2))
	for _, rate := range []int{22050, 44100, 48000, 96000} {
		n := rate
		make2 := func(f func(c, i int) float64) audio.Buffer { // with silence at both ends: ffmpeg's filter hears the first samples mirrored before them
			b := audio.New(rate, 2, n+rate/5)
			for c := range b.Ch {
				for i := range n {
					b.Ch[c][rate/10+i] = float32(f(c, i))
				}
			}
			return b
		}
		phase := 0.0
		for name, x := range map[string]audio.Buffer{
			"noise":    make2(func(int, int) float64 { return 0.4 * r.NormFloat64() }),
			"impulses": make2(func(c, i int) float64 { return map[bool]float64{true: 1}[i%(rate/7+c*31) == 0] }),
			"between":  make2(func(_, i int) float64 { return 0.99 * math.Sin(math.Pi/2*float64(i)+math.Pi/4) }),
			"square":   make2(func(c, i int) float64 { return 0.9 * float64(1-2*(i*(100+c)/rate%2)) }),
			"sweep": make2(func(_, i int) float64 {
				phase += 2 * math.Pi * 20 * math.Pow(450, float64(i)/float64(n)) / float64(rate)
				return 0.9 * math.Sin(phase)
			}),
			"bursts": make2(func(c, i int) float64 {
				return (0.1 + 0.9*float64(i*5/rate%2)) * math.Sin(2*math.Pi*float64(60+1300*c)*float64(i)/float64(rate))
			}),
		} {
			for _, l := range []*Limit{{Drive: 9, Ceiling: -1, Ahead: 3, Release: 120}, {Drive: 3, Ceiling: -3, Ahead: 0.5, Release: 10}, {Drive: 15, Ceiling: -1,
				Ahead: 10, Release: 600}} {
				y, _, err := l.Limited(x)
				if err != nil {
					t.Fatal(err)
				}
				if p := outside.EBUR128(t, outside.WriteWAV(t, "x.wav", y, wav.Float32)).TruePeak; p > l.Ceiling+0.1 {
					t.Errorf("%s at %d Hz, %s: %.2f dBTP", name, rate, l.Words(), p)
				}
			}
		}
	}
}

// Static: a tone that is so much over the ceiling is turned down by that; under it the sound is driven and nothing else, to
// the bit, in place. Timing: nine tenths of a reduction are given back after the release, and none of it comes before the
// look-ahead.
func TestLimitByItsFormula(t *testing.T) {
	const rate = 48000
	for _, over := range []float64{0.5, 3, 9, 14} {
		x := outside.Sine(rate, 1, 997, dsp.Gain(-10), 2, 0)
		l := &Limit{Drive: 4 + over, Ceiling: -6, Ahead: 3, Release: 100}
		_, g, err := l.Limited(x)
		if err != nil || len(g) != x.Frames() {
			t.Fatal(len(g), err)
		}
		for _, at := range []int{rate / 2, rate, 3 * rate / 2} {
			if db := dsp.DB(float64(g[at])); math.Abs(db+over) > 0.03 {
				t.Errorf("%.1f dB over: turned down by %.3f at %d", over, -db, at)
			}
		}
	}
	x := noisy(rate, 1)
	for _, ch := range x.Ch {
		for i := range ch {
			ch[i] *= 0.05
		}
	}
	y, _, err := (&Limit{Ceiling: -1, Ahead: 5, Release: 50}).Limited(x)
	if err != nil {
		t.Fatal(err)
	}
	for c := range x.Ch {
		for i := range x.Ch[c] {
			if x.Ch[c][i] != y.Ch[c][i] {
				t.Fatalf("what is under the ceiling is changed at %d", i)
			}
		}
	}
	for _, release := range []float64{30, 120, 500} {
		burst := outside.Sine(rate, 1, 1000, 0.05, 3, 0)
		for i := rate / 2; i < rate; i++ {
			burst.Ch[0][i] *= 20
		}
		l := &Limit{Ceiling: -12, Ahead: 4, Release: release}
		_, g, err := l.Limited(burst)
		if err != nil {
			t.Fatal(err)
		}
		ahead := rate * 4 / 1000
		if early := g[rate/2-2*ahead-2*limitTaps]; early != 1 {
			t.Errorf("turned down by %.2f dB before the look-ahead", -dsp.DB(float64(early)))
		}
		deep := 1 - float64(g[3*rate/4])
		from := 0
		for i := 3 * rate / 4; i < len(g); i++ {
			if from == 0 && 1-float64(g[i]) < 0.9*deep {
				from = i // a tenth is back
			}
			if 1-float64(g[i]) < 0.1*deep {
				// of an exponential, a tenth is back after ln(10/9) and nine after ln 10 of its time constant
				want := release * math.Log(9) / math.Ln10
				if ms := 1000 * float64(i-from) / rate; math.Abs(ms-want) > 0.05*want+1 {
					t.Errorf("release %g ms: from a tenth to nine tenths in %.1f ms, not %.1f", release, ms, want)
				}
				break
			}
		}
	}
	click := audio.New(rate, 1, rate)
	click.Ch[0][rate/2] = 0.2
	z, _, err := (&Limit{Drive: 6, Ceiling: -1, Ahead: 20, Release: 100}).Limited(click)
	if err != nil {
		t.Fatal(err)
	}
	best := 0
	for i, v := range z.Ch[0] {
		if v > z.Ch[0][best] {
			best = i
		}
	}
	if best != rate/2 {
		t.Errorf("the latency is off by %d frames", best-rate/2)
	}
	for _, bad := range []*Limit{{Drive: 99, Ceiling: -1, Ahead: 3, Release: 100}, {Ceiling: 25, Ahead: 3, Release: 100}, {Ceiling: -1, Ahead: 0, Release: 100},
		{Ceiling: -1, Ahead: 3, Release: math.NaN()}} {
		if _, err := bad.Processor(Place{Rate: rate}); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}

func BenchmarkLimit(b *testing.B) {
	x := noisy(44100, 10)
	l := &Limit{Drive: 9, Ceiling: -1, Ahead: 3, Release: 120}
	for b.Loop() {
		p, err := l.Processor(Place{Rate: x.Rate})
		if err != nil {
			b.Fatal(err)
		}
		p.Process(x.Slice(0, x.Frames()), audio.Buffer{})
	}
}
