package mix

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/dsp"
)

// What is gone is what is gone in magnitude: of noise behind a high-pass of 24 dB per octave each tone's share is 1 less the filter's own response,
// though its phase turns by far more; a sound that is only delayed by its phase, or louder, loses nothing; the same sound twice nothing at all.
func TestGoneIsMagnitude(t *testing.T) {
	const rate = 48000
	r := rand.New(rand.NewPCG(3, 4))
	p := make([]float32, 6*rate)
	for i := range p {
		p[i] = float32(0.1 * r.NormFloat64())
	}
	high, err := dsp.ButterworthHighpass(4, 200, rate)
	if err != nil {
		t.Fatal(err)
	}
	q, to := make([]float32, len(p)), make([]float32, len(p))
	dsp.NewFilter(high).Process(q, p)
	gone(to, p, q)
	level := func(x []float32, hz float64) float64 { // in a third of an octave
		band, err := dsp.Bandpass(hz/math.Pow(2, 1.0/6), hz*math.Pow(2, 1.0/6), rate)
		if err != nil {
			t.Fatal(err)
		}
		y := make([]float32, len(x))
		dsp.NewFilter(band).Process(y, x)
		e := 0.0
		for _, v := range y[rate : 5*rate] {
			e += float64(v) * float64(v)
		}
		return 10 * math.Log10(e)
	}
	for _, hz := range []float64{63, 100, 160, 200, 250, 315} {
		h := 0.0
		for k := range 41 { // over the band, by power
			f := hz * math.Pow(2, float64(k-20)/120)
			x := 1 - math.Abs(magnitude(high, f, rate))
			h += x * x / 41
		}
		if got, want := level(to, hz)-level(p, hz), 10*math.Log10(h); want > -18 && math.Abs(got-want) > 1 || want <= -18 && got > -18 {
			t.Errorf("at %g Hz %.1f dB are gone, of what the filter takes %.1f", hz, got, want)
		}
	}
	if got := level(to, 1000) - level(p, 1000); got > -40 {
		t.Errorf("at 1 kHz, where the filter turns phase alone, %.1f dB are gone", got)
	}
	loud := make([]float32, len(p))
	for i, v := range p {
		loud[i] = 2 * v
	}
	for what, q := range map[string][]float32{"itself": p, "itself, louder": loud} {
		gone(to, p, q)
		for i, v := range to {
			if math.Abs(float64(v)) > 1e-6 {
				t.Fatalf("of %s %g is gone at %d", what, v, i)
			}
		}
	}
	gone(to, p, make([]float32, len(p)))
	for i := range p[takenFrame : len(p)-takenFrame] {
		if d := to[i+takenFrame] - p[i+takenFrame]; math.Abs(float64(d)) > 1e-5 {
			t.Fatalf("of all that is gone %g is missing", d)
		}
	}
}

func magnitude(f []dsp.Biquad, hz, rate float64) float64 {
	v := dsp.Response(f, hz, rate)
	return math.Hypot(real(v), imag(v))
}
