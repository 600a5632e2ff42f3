package move

import (
	"math"
	"testing"

	"mellowthump/core/audio"
)

// The attack of bursts that die away, its peak in 20 ms over the RMS of 20 to 120 ms, moves by what is asked within 0.5 dB, at any
// level and for noise as for tones; a steady tone stays; at 0 dB nothing moves; less sustain takes the tail.
func TestAttack(t *testing.T) {
	const rate = 44100
	bursts := func(hz, tau, level float64) audio.Buffer {
		x := audio.New(rate, 1, 3*rate)
		for i := range x.Ch[0] {
			s := math.Mod(float64(i)/rate, 0.5) - 0.1
			if s >= 0 {
				x.Ch[0][i] = float32(level * math.Cos(2*math.Pi*hz*s) * math.Exp(-s/tau))
			}
		}
		return x
	}
	run := func(a Attack, x audio.Buffer) audio.Buffer {
		t.Helper()
		p, err := a.Processor(Place{Rate: rate})
		if err != nil {
			t.Fatal(err)
		}
		y := audio.New(rate, 1, x.Frames())
		copy(y.Ch[0], x.Ch[0])
		p.Process(y, audio.Buffer{})
		return y
	}
	attack := func(x audio.Buffer) float64 {
		sum := 0.0
		for k := 1; k < 5; k++ {
			at := int((0.5*float64(k) + 0.1) * rate)
			peak, e := 0.0, 0.0
			for i := range int(0.02 * rate) {
				peak = math.Max(peak, math.Abs(float64(x.Ch[0][at+i])))
			}
			for i := int(0.02 * rate); i < int(0.12*rate); i++ {
				e += float64(x.Ch[0][at+i]) * float64(x.Ch[0][at+i])
			}
			sum += 20*math.Log10(peak) - 10*math.Log10(e/(0.1*rate))
		}
		return sum / 4
	}
	tail := func(x audio.Buffer) float64 {
		e := 0.0
		for i := int((0.6 + 0.2) * rate); i < int((0.6+0.35)*rate); i++ {
			e += float64(x.Ch[0][i]) * float64(x.Ch[0][i])
		}
		return 10 * math.Log10(e)
	}
	for _, c := range []struct{ hz, tau, level float64 }{{60, 0.15, 0.8}, {60, 0.15, 0.05}, {200, 0.1, 0.5}, {1000, 0.2, 0.3}} {
		x := bursts(c.hz, c.tau, c.level)
		for _, db := range []float64{-6, -3, 3, 6} {
			if got := attack(run(Attack{Attack: db}, x)) - attack(x); math.Abs(got-db) > 0.5 {
				t.Errorf("%+v: asked %g dB, the attack moves by %.2f", c, db, got)
			}
		}
		if got := tail(run(Attack{Sustain: -6}, x)) - tail(x); got > -4.5 || got < -6.2 {
			t.Errorf("%+v: the tail falls by %.2f dB", c, -got)
		}
		if y := run(Attack{}, x); farthest(x, y) != 0 {
			t.Error("at 0 dB it is no null")
		}
	}
	steady := audio.New(rate, 1, rate)
	for i := range steady.Ch[0] {
		steady.Ch[0][i] = float32(0.5 * math.Sin(2*math.Pi*60*float64(i)/rate))
	}
	y := run(Attack{Attack: 12, Sustain: -12}, steady)
	for i := rate / 4; i < rate; i++ {
		if d := math.Abs(float64(y.Ch[0][i] - steady.Ch[0][i])); d > 0.003 {
			t.Fatalf("a steady tone moves by %g at %d", d, i)
		}
	}
}
