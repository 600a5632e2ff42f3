package move

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

// Own gains: each hit comes out at its own gain to the sample, from its start to 5 ms before the next; before the first the sound
// is left as it is.
func TestGains(t *testing.T) {
	const rate = 44100
	x := outside.Sine(rate, 2, 100, 0.5, 2, 0)
	g := &Gains{Steps: []GainStep{{At: 0.5, DB: -6}, {At: 1, DB: 3}}}
	p, err := g.Processor(Place{Rate: rate})
	if err != nil {
		t.Fatal(err)
	}
	y := audio.New(rate, 2, x.Frames())
	for c := range y.Ch {
		copy(y.Ch[c], x.Ch[c])
	}
	p.Process(y, audio.Buffer{})
	join := GainsJoin * rate / 1000
	for i, v := range y.Ch[1] {
		want, at := 1.0, float64(i)
		switch {
		case at >= rate:
			want = dsp.Gain(3)
		case at >= rate-join:
			u := (at - rate + join) / join
			want = dsp.Gain(-6)*(1-u) + dsp.Gain(3)*u
		case at >= rate/2:
			want = dsp.Gain(-6)
		case at >= rate/2-join:
			u := (at - rate/2 + join) / join
			want = 1 - u + dsp.Gain(-6)*u
		}
		if d := math.Abs(float64(v) - want*float64(x.Ch[1][i])); d > 0.01 || want == 1 && d != 0 {
			t.Fatalf("sample %d is off by %g", i, d)
		}
	}
	for _, bad := range [][]GainStep{{{At: 1}, {At: 1}}, {{At: -1}}, {{At: 0, DB: 30}}, {{At: math.NaN()}}} {
		if err := Validate(&Gains{Steps: bad}); err == nil {
			t.Errorf("%v is taken", bad)
		}
	}
}

// The compressor on a steady tone comes down by the static curve of Giannoulis et al. (eq. 4); after a step its gain has gone
// 63 % of the way after the attack; under the threshold it is a null to the bit; the bell behind it is the cookbook's.
func TestCompress(t *testing.T) {
	const rate = 44100
	run := func(c *Compress, x audio.Buffer) audio.Buffer {
		t.Helper()
		p, err := c.Processor(Place{Rate: rate})
		if err != nil {
			t.Fatal(err)
		}
		y := audio.New(rate, len(x.Ch), x.Frames())
		for k := range y.Ch {
			copy(y.Ch[k], x.Ch[k])
		}
		p.Process(y, audio.Buffer{})
		return y
	}
	level := func(x []float32) float64 {
		sum := 0.0
		for _, v := range x[len(x)/2:] {
			sum += float64(v) * float64(v)
		}
		return 10 * math.Log10(2*sum/float64(len(x)-len(x)/2))
	}
	c := &Compress{Threshold: -20, Ratio: 4, Knee: 6, Attack: 5, Release: 400, BackHz: 50}
	curve := Compressor{Threshold: -20, Ratio: 4, Knee: 6}
	for _, db := range []float64{-40, -22, -20, -17, -10, 0} {
		x := outside.Sine(rate, 1, 2000, dsp.Gain(db), 2, 0)
		y := run(c, x)
		if got, want := level(x.Ch[0])-level(y.Ch[0]), curve.Reduction(db); math.Abs(got-want) > 0.2 {
			t.Errorf("%g dBFS come down by %.2f dB, want %.2f", db, got, want)
		}
		if db == -40 && farthest(x, y) != 0 {
			t.Error("under the threshold it is no null")
		}
	}
	square := audio.New(rate, 1, rate) // its magnitude is the same in every sample
	for i := range square.Ch[0] {
		square.Ch[0][i] = 0.5
		if i%100 < 50 {
			square.Ch[0][i] = -0.5
		}
	}
	slow := &Compress{Threshold: -26.02, Ratio: 2, Attack: 30, Release: 400, BackHz: 50}
	y := run(slow, square)
	at := int(0.030 * rate)
	want := (1 - math.Exp(-1)) * (20 - 0.0) / 2
	if got := 20 * math.Log10(0.5/math.Abs(float64(y.Ch[0][at]))); math.Abs(got-want) > 0.1 {
		t.Errorf("after its attack it has come down by %.2f dB, want %.2f", got, want)
	}
	back := &Compress{Threshold: 0, Ratio: 1, Attack: 5, Release: 400, BackHz: 50, Back: 4, Makeup: -1}
	bell, err := dsp.RBJ(dsp.Bell, 50, backQ, 4, rate)
	if err != nil {
		t.Fatal(err)
	}
	for _, hz := range []float64{30, 50, 120, 1000} {
		x := outside.Sine(rate, 1, hz, 0.3, 2, 0)
		h := dsp.Response([]dsp.Biquad{bell}, hz, rate)
		want := 20*math.Log10(math.Hypot(real(h), imag(h))) - 1
		if got := level(run(back, x).Ch[0]) - level(x.Ch[0]); math.Abs(got-want) > 0.1 {
			t.Errorf("after it %g Hz move by %.2f dB, want %.2f", hz, got, want)
		}
	}
}
