package move

import (
	"math"
	"math/cmplx"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

// response is the complex gain of a move for a sine that stands in mid or side.
func response(t *testing.T, p Params, hz float64, side bool) complex128 {
	t.Helper()
	x := outside.Sine(48000, 2, hz, 0.25, 1, 0)
	if side {
		for i := range x.Ch[1] {
			x.Ch[1][i] = -x.Ch[1][i]
		}
	}
	y := behind(t, p, x)
	at := func(b audio.Buffer) complex128 {
		var sum complex128
		for i, v := range b.Ch[0][24000:] {
			sum += complex(float64(v), 0) * cmplx.Exp(complex(0, -2*math.Pi*hz*float64(i+24000)/48000))
		}
		return sum
	}
	return at(y) / at(x)
}

// Mono below: what is in the middle sums flat to 0.05 dB at any frequency; the side is gone two octaves under the corner (by
// 48 dB), and mid and side have one phase within 5 degrees outside an octave about it; mono passes to the bit.
func TestMonoBelow(t *testing.T) {
	for _, corner := range []float64{80, 120, 300} {
		m := &MonoBelow{Hz: corner}
		for _, times := range []float64{0.25, 0.5, 0.8, 1, 1.3, 2, 4, 16} {
			hz := math.Round(corner * times)
			mid, side := response(t, m, hz, false), response(t, m, hz, true)
			if db := dsp.DB(cmplx.Abs(mid)); math.Abs(db) > 0.05 {
				t.Errorf("corner %g: the mid moves by %.3f dB at %g Hz", corner, db, hz)
			}
			if times <= 0.25 && dsp.DB(cmplx.Abs(side)) > -47 {
				t.Errorf("corner %g: the side at %g Hz is only %.1f dB down", corner, hz, dsp.DB(cmplx.Abs(side)))
			}
			if times >= 2 {
				if deg := math.Abs(cmplx.Phase(side/mid)) * 180 / math.Pi; deg > 5 {
					t.Errorf("corner %g: at %g Hz mid and side are %.1f degrees apart", corner, hz, deg)
				}
			}
		}
	}
	x := noisy(44100, 1)
	mono := audio.Buffer{Rate: x.Rate, Ch: x.Ch[:1]}
	for _, p := range []Params{&MonoBelow{Hz: 200}, &SideCut{Hz: 200, Slope: 24}, &Align{Left: 5, Turn: TurnRight}} {
		if d := farthest(behind(t, p, mono), mono); d != 0 {
			t.Errorf("%s changes a mono sound by %g", Words(p), d)
		}
	}
}

// Width at rest is a null to the bit; without side both channels are the middle; a delay is that many frames, and turning over is exact.
func TestWidthAndAlign(t *testing.T) {
	x := noisy(44100, 1)
	if d := farthest(behind(t, &Width{}, x), x); d != 0 {
		t.Errorf("at rest it is off by %g", d)
	}
	y := behind(t, &Width{Side: -60}, x)
	for i := range y.Ch[0] {
		if y.Ch[0][i] != y.Ch[1][i] || math.Abs(float64(y.Ch[0][i]-(x.Ch[0][i]+x.Ch[1][i])/2)) > 1e-7 {
			t.Fatal("without side it is not the middle")
		}
	}
	y = behind(t, &Align{Left: 10, Turn: TurnRight}, x)
	for i := 441; i < 44100; i++ {
		if y.Ch[0][i] != x.Ch[0][i-441] || y.Ch[1][i] != -x.Ch[1][i] {
			t.Fatalf("frame %d", i)
		}
	}
}

// Where the middle has no low end, one channel's goes to both sides: that channel is what it was to the rounding, and far under the corner the
// other is the same; far over it both are what they were.
func TestSideCutLowOf(t *testing.T) {
	const rate, corner = 44100, 150.0
	tones := func(hz float64, left, right float64) audio.Buffer {
		x := audio.New(rate, 2, rate)
		for i := range rate {
			v := math.Sin(2 * math.Pi * hz * float64(i) / rate)
			x.Ch[0][i], x.Ch[1][i] = float32(left*v), float32(right*v)
		}
		return x
	}
	for _, c := range []struct {
		of          string
		hz          float64
		left, right float64 // as given, then as they come out
		toL, toR    float64
	}{
		{LowLeft, 30, 0.4, -0.4, 0.4, 0.4}, {LowRight, 30, 0.2, -0.4, -0.4, -0.4}, {LowMid, 30, 0.4, -0.4, 0, 0},
		{LowLeft, 9600, 0.4, -0.4, 0.4, -0.4}, {LowRight, 9600, 0.1, -0.4, 0.1, -0.4},
	} {
		x := tones(c.hz, c.left, c.right)
		y := behind(t, &SideCut{Hz: corner, Slope: 24, Low: c.of}, x)
		want := tones(c.hz, c.toL, c.toR)
		if d := farthest(audio.Buffer{Rate: rate, Ch: [][]float32{y.Ch[0][rate/2:], y.Ch[1][rate/2:]}},
			audio.Buffer{Rate: rate, Ch: [][]float32{want.Ch[0][rate/2:], want.Ch[1][rate/2:]}}); d > 0.04 { // the side's phase turns by 0.04 there
			t.Errorf("%q at %g Hz is off by %.4f", c.of, c.hz, d)
		}
	}
}
