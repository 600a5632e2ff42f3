package compare

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/internal/outside"
)

const rate = 44100

// coloured is noise with a tilt and a hum, like a mix.
func coloured(seed uint64) audio.Buffer {
	r := rand.New(rand.NewPCG(seed, 4))
	x := audio.New(rate, 2, 20*rate)
	for c := range x.Ch {
		lp := 0.0
		for i := range x.Ch[c] {
			lp += 0.08 * (r.NormFloat64() - lp)
			x.Ch[c][i] = float32(0.2*lp + 0.01*r.NormFloat64() + 0.05*math.Sin(2*math.Pi*55*float64(i)/rate))
		}
	}
	return x
}

func filtered(t *testing.T, x audio.Buffer, gain float32, filters ...*move.Filter) audio.Buffer {
	t.Helper()
	y := audio.New(x.Rate, len(x.Ch), x.Frames())
	for c := range y.Ch {
		copy(y.Ch[c], x.Ch[c])
		for _, f := range filters {
			s, err := dsp.RBJ(f.Shape, f.Hz, f.Q, f.DB, rate)
			if err != nil {
				t.Fatal(err)
			}
			dsp.NewFilter([]dsp.Biquad{s}).Process(y.Ch[c], y.Ch[c])
		}
		for i := range y.Ch[c] {
			y.Ch[c][i] *= gain
		}
	}
	return y
}

func of(t *testing.T, x audio.Buffer) Sound {
	t.Helper()
	s, err := OfSource(context.Background(), audio.Memory{Buffer: x})
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// A reference made from the song by known filters and another level is read back: every third-octave within 1 dB of their
// response, however loud it is.
func TestKnownFiltersAreReadBack(t *testing.T) {
	x := coloured(4)
	filters := []*move.Filter{{Shape: dsp.Bell, Hz: 250, Q: 1, DB: -5}, {Shape: dsp.HighShelf, Hz: 6000, Q: 0.7, DB: 4}}
	song := of(t, x)
	for _, gain := range []float32{1, 0.2} {
		ref := of(t, filtered(t, x, gain, filters...))
		c := Against(song, ref)
		offset := float64(song.Loudness - ref.Loudness) // of the loudness, which the bands are matched by
		if math.Abs(float64(c.Loudness)-offset) > 1e-9 {
			t.Errorf("%v", c.Loudness)
		}
		level := offset + 20*math.Log10(float64(gain)) // by which the filters alone change the loudness
		known := 0
		for _, b := range c.Bands {
			if !b.Off.Valid() {
				continue
			}
			known++
			want := -level
			for _, f := range filters {
				want -= responseDB(f, b.Hz)
			}
			if math.Abs(float64(b.Off)-want) > 1 {
				t.Errorf("gain %g, %.0f Hz: off by %.2f dB, the filters say %.2f", gain, b.Hz, float64(b.Off), want)
			}
		}
		if known < 25 {
			t.Errorf("only %d bands are known", known)
		}
	}
}

// The whole match undoes at least six tenths of the mean deviation, rendered; half an amount is half of it; no filter goes
// over the limit, and there are five at most.
func TestMatch(t *testing.T) {
	x := coloured(4)
	ref := of(
		t,
		filtered(
			t,
			x,
			0.6,
			&move.Filter{Shape: dsp.LowShelf, Hz: 90, Q: 0.7, DB: 4},
			&move.Filter{Shape: dsp.Bell, Hz: 400, Q: 0.8, DB: -4},
			&move.Filter{Shape: dsp.HighShelf, Hz: 5000, Q: 0.7, DB: 5},
		),
	)
	before := Against(of(t, x), ref)
	filters, residual := before.Match(1, Limit)
	if len(filters) == 0 || len(filters) > Filters || residual > 1 {
		t.Fatalf("%d filters, %.2f dB are left", len(filters), residual)
	}
	for _, f := range filters {
		if math.Abs(f.DB) > Limit {
			t.Errorf("%+v", f)
		}
	}
	after := Against(of(t, filtered(t, x, 1, filters...)), ref)
	t.Logf("mean deviation %.2f dB before, %.2f after %d filters", float64(before.Deviation()), float64(after.Deviation()), len(filters))
	if float64(after.Deviation()) > 0.4*float64(before.Deviation()) {
		t.Errorf("of %.2f dB %.2f are left", float64(before.Deviation()), float64(after.Deviation()))
	}
	half, _ := before.Match(0.5, Limit)
	some := Against(of(t, filtered(t, x, 1, half...)), ref)
	if d := float64(some.Deviation()) / float64(before.Deviation()); d < 0.35 || d > 0.7 {
		t.Errorf("half the amount leaves %.2f of it", d)
	}
	if same, left := Against(of(t, x), of(t, x)).Match(1, Limit); len(same) != 0 || left != 0 {
		t.Errorf("against itself: %v, %g", same, left)
	}
}

// Smoothing and limit, of any difference: what is smoothed is never further off than what it is made of, and no more than the
// limit is asked.
func TestSmoothingAndLimit(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for range 50 {
		c := Comparison{}
		most := 0.0
		for i := range meter.Bands {
			off := meter.Figure(12 * r.NormFloat64())
			if r.IntN(8) == 0 {
				off = meter.None
			} else {
				most = math.Max(most, math.Abs(float64(off)))
			}
			c.Bands = append(c.Bands, Band{meter.BandHz(i), off})
		}
		for i, b := range c.Smoothed() {
			if b.Off.Valid() != c.Bands[i].Off.Valid() || b.Off.Valid() && math.Abs(float64(b.Off)) > most+1e-9 {
				t.Fatalf("band %d: %v of %v", i, b.Off, c.Bands[i].Off)
			}
		}
		limit := 1 + 5*r.Float64()
		filters, _ := c.Match(r.Float64(), limit)
		if len(filters) > Filters {
			t.Fatalf("%d filters", len(filters))
		}
		for _, f := range filters {
			if math.Abs(f.DB) > limit+0.05 {
				t.Fatalf("%g dB over a limit of %g", f.DB, limit)
			}
		}
	}
}

// Tilt is scipy's least-squares slope; silence is refused.
func TestTilt(t *testing.T) {
	s := of(t, coloured(4))
	var hz, db []float64
	for i, l := range s.Bands {
		if h := meter.BandHz(i); h >= tiltLow && h <= tiltHigh {
			hz, db = append(hz, h), append(db, float64(l))
		}
	}
	var want float64
	outside.Python(t, `
import json, sys
import numpy as np
from scipy.stats import linregress
hz, db = json.load(sys.stdin)
print(json.dumps(float(linregress(np.log2(hz), db).slope)))
`, []any{hz, db}, &want)
	if math.Abs(float64(s.Tilt)-want) > 1e-6 {
		t.Errorf("%.4f dB per octave, scipy %.4f", float64(s.Tilt), want)
	}
	if _, err := OfSource(context.Background(), audio.Memory{Buffer: audio.New(rate, 1, rate)}); !errors.Is(err, ErrSilent) {
		t.Errorf("%v", err)
	}
}
