package move

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

// A keyed bell: while its trigger is silent it nulls to the bit; under a steady trigger the middle of its band comes down by
// the static curve of Giannoulis et al. (eq. 4), at most by its range, and elsewhere the sound moves as the bell of the Audio
// EQ Cookbook (RBJ) at that gain would move it; two of them work beside each other, each at its own trigger.
func TestKeyedBell(t *testing.T) {
	const rate = 44100
	level := func(x []float32) float64 {
		sum := 0.0
		for _, v := range x[len(x)/2:] {
			sum += float64(v) * float64(v)
		}
		return 10 * math.Log10(2*sum/float64(len(x)-len(x)/2))
	}
	run := func(k *KeyedBell, x audio.Buffer, key []float32) audio.Buffer {
		t.Helper()
		l, err := k.Listen(Place{Rate: rate})
		if err != nil {
			t.Fatal(err)
		}
		p, err := k.Carrier().Processor(Place{Rate: rate})
		if err != nil {
			t.Fatal(err)
		}
		y := audio.New(rate, len(x.Ch), x.Frames())
		for c := range y.Ch {
			copy(y.Ch[c], x.Ch[c])
		}
		p.Process(y, audio.Buffer{Rate: rate, Ch: [][]float32{l.Gains(key)}})
		return y
	}
	k := &KeyedBell{Trigger: "k", Hz: 190, Q: 2, Range: 6, Channels: "stereo", Threshold: -30, Ratio: 20, Attack: 1, Release: 400}
	x := outside.Sine(rate, 1, 190, 0.5, 2, 0)
	if y := run(k, x, make([]float32, x.Frames())); farthest(x, y) != 0 {
		t.Errorf("at rest it moves a sample by %g", farthest(x, y))
	}
	comp := Compressor{Threshold: -30, Ratio: 20, Knee: keyedBellKnee}
	for _, db := range []float64{-36, -31, -28, -20, 0} {
		key := outside.Sine(rate, 1, 3000, dsp.Gain(db), 2, 0).Ch[0]
		down := math.Min(6, comp.Reduction(db))
		if got := level(run(k, x, key).Ch[0]) - level(x.Ch[0]); math.Abs(got+down) > 0.2 {
			t.Errorf("a key of %g dBFS brings it down by %.2f dB, want %.2f", db, -got, down)
		}
		if db != 0 {
			continue
		}
		// 1 + (g - 1) of the cookbook's band-pass is its bell with A^2 = g at Q / A
		bell, err := dsp.RBJ(dsp.Bell, 190, 2*math.Pow(10, down/40), -down, rate)
		if err != nil {
			t.Fatal(err)
		}
		for _, hz := range []float64{60, 120, 150, 250, 400, 1000} {
			s := outside.Sine(rate, 1, hz, 0.5, 2, 0)
			h := dsp.Response([]dsp.Biquad{bell}, hz, rate)
			want := 20 * math.Log10(math.Hypot(real(h), imag(h)))
			if got := level(run(k, s, key).Ch[0]) - level(s.Ch[0]); math.Abs(got-want) > 0.25 {
				t.Errorf("at %g Hz it moves %.2f dB, the bell %.2f", hz, got, want)
			}
		}
	}
	high := *k
	high.Low = 100 // the key's 3 kHz are not heard
	if y := run(&high, x, outside.Sine(rate, 1, 3000, 0.5, 2, 0).Ch[0]); farthest(x, y) > 1e-6 {
		t.Errorf("behind its key filter it still moves a sample by %g", farthest(x, y))
	}
	for say, bad := range map[string]KeyedBell{
		"lets nothing through": {Trigger: "k", Hz: 190, Q: 2, Channels: "mid", High: 200, Low: 100, Ratio: 2, Attack: 1, Release: 9},
		"ratio":                {Trigger: "k", Hz: 190, Q: 2, Channels: "mid", Ratio: 0, Attack: 1, Release: 9},
	} {
		if err := Validate(&bad); err == nil {
			t.Errorf("%s: taken", say)
		}
	}
}

// Boosts, cuts and ranges over 6 dB are warned of, those up to it are not, and corners have none.
func TestWarning(t *testing.T) {
	for _, c := range []struct {
		p    Params
		warn bool
	}{
		{&Filter{Shape: dsp.Bell, DB: 6}, false}, {&Filter{Shape: dsp.Bell, DB: 6.1}, true}, {&Filter{Shape: dsp.LowShelf, DB: -7}, true},
		{&Filter{Shape: dsp.Highpass, DB: 9}, false}, {&MidSide{DB: -8}, true}, {&MidSide{DB: -5}, false}, {&Ring{Range: 7}, true}, {&Ring{Range: 6}, false},
		{&KeyedBell{Range: 12}, true}, {&Compress{Back: 8}, true}, {&Compress{Back: 2}, false}, {&Polarity{}, false},
	} {
		if got := Warning(c.p) != ""; got != c.warn {
			t.Errorf("%+v: warned %v, want %v", c.p, got, c.warn)
		}
	}
}
