package move

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

// A bell that works only while it rings: under its threshold it nulls to -120 dBFS; a loud tone in its middle comes down
// by the static curve of Giannoulis et al. (eq. 4), at most by its range; beside the band nothing moves; in the mid alone
// the side stays.
func TestRing(t *testing.T) {
	const rate = 44100
	level := func(x []float32) float64 {
		sum := 0.0
		for _, v := range x[len(x)/2:] {
			sum += float64(v) * float64(v)
		}
		return 10 * math.Log10(2*sum/float64(len(x)-len(x)/2))
	}
	run := func(r *Ring, x audio.Buffer) audio.Buffer {
		t.Helper()
		p, err := r.Processor(Place{Rate: rate})
		if err != nil {
			t.Fatal(err)
		}
		y := audio.New(rate, len(x.Ch), x.Frames())
		for c := range y.Ch {
			copy(y.Ch[c], x.Ch[c])
		}
		p.Process(y, audio.Buffer{})
		return y
	}
	r := &Ring{Hz: 500, Q: 6, Range: 8, Threshold: -30, Ratio: 4, Attack: 1, Release: 400, Channels: "stereo"}
	soft := outside.Sine(rate, 1, 500, dsp.Gain(-40), 2, 0)
	quiet := run(r, soft)
	for i, v := range quiet.Ch[0] {
		if d := math.Abs(float64(v - soft.Ch[0][i])); d > 1e-6 {
			t.Fatalf("at rest it moves a sample by %g", d)
		}
	}
	comp := Compressor{Threshold: -30, Ratio: 4, Knee: ringKnee}
	for _, db := range []float64{-33, -30, -26, -20} {
		x := outside.Sine(rate, 1, 500, dsp.Gain(db), 2, 0)
		got, want := level(run(r, x).Ch[0])-level(x.Ch[0]), -math.Min(8, comp.Reduction(db))
		if math.Abs(got-want) > 0.25 {
			t.Errorf("a tone of %g dBFS comes down by %.2f dB, want %.2f", db, got, want)
		}
	}
	far := outside.Sine(rate, 1, 4000, 0.5, 2, 0)
	if d := level(run(r, far).Ch[0]) - level(far.Ch[0]); math.Abs(d) > 0.1 {
		t.Errorf("three octaves off it moves %.2f dB", d)
	}
	both := audio.New(rate, 2, 2*rate)
	for i := range both.Ch[0] {
		m, s := 0.3*math.Sin(2*math.Pi*500*float64(i)/rate), 0.2*math.Sin(2*math.Pi*510*float64(i)/rate)
		both.Ch[0][i], both.Ch[1][i] = float32(m+s), float32(m-s)
	}
	mid := *r
	mid.Channels = "mid"
	y := run(&mid, both)
	for i := range y.Ch[0] {
		was, is := both.Ch[0][i]-both.Ch[1][i], y.Ch[0][i]-y.Ch[1][i]
		if math.Abs(float64(was-is)) > 1e-6 {
			t.Fatalf("the side moves by %g", was-is)
		}
	}
	null := *r
	null.Range = 0
	if y := run(&null, both); farthest(y, both) > 0 {
		t.Error("a range of 0 dB is no null")
	}
}
