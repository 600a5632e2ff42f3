package meter

import (
	"math"
	"testing"
)

// Closed form: of two tones at one frequency the softer is hidden from -5.9 dB on (K < (10^0.1 - 1) B), whole or not at all; of tones an
// octave and a half apart nothing is; silence hides nothing, and what is under the threshold is not there. A sound that is read in pieces
// has the same excitation.
func TestHidden(t *testing.T) {
	const rate = 48000
	ear := NewEar(rate, Playback)
	tone := func(hz, db float64) Held {
		out := make(Held, 2*rate)
		for i := range out {
			out[i] = float32(math.Pow(10, db/20) * math.Sin(2*math.Pi*hz*float64(i)/rate))
		}
		return out
	}
	hits, windows := []int{rate / 2, rate}, []int{rate / 10, rate / 5}
	at := func(s Sound) [][][]float32 {
		x, err := ear.AtHits(s, hits, windows)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	for _, c := range []struct {
		what   string
		by     Held
		lo, hi float64
	}{
		{"5.5 dB over it", tone(60, -14.5), 0, 0}, {"6.4 dB over it", tone(60, -13.6), 100, 100}, {"far off, as loud", tone(170, -20), 0, 3},
		{"silence", make(Held, 2*rate), 0, 0},
	} {
		for h, got := range ear.Hidden(at(tone(60, -20)), at(c.by)) {
			if float64(got) < c.lo-0.01 || float64(got) > c.hi+0.01 {
				t.Errorf("%s: at hit %d %.2f %% is hidden", c.what, h, float64(got))
			}
		}
	}
	if got := ear.Hidden(at(tone(60, -90)), at(tone(60, -20))); got[0].Valid() {
		t.Errorf("of what nobody hears %.1f %% is hidden", float64(got[0]))
	}
	x := tone(60, -20)
	if n := len(at(x)[0]); n != 2 || len(at(x)[1]) != 5 {
		t.Errorf("frames of a hit: %d and %d", n, len(at(x)[1]))
	}
	whole, pieces := at(x), at(pieced{x})
	for h := range whole {
		for f := range whole[h] {
			for n, v := range whole[h][f] {
				if v != pieces[h][f][n] {
					t.Fatalf("hit %d, frame %d, channel %d: %g in pieces, %g whole", h, f, n, pieces[h][f][n], v)
				}
			}
		}
	}
}

// pieced gives a sound 1,000 frames at a time.
type pieced struct{ Held }

func (p pieced) Read(f func([]float32) error) error {
	for at := 0; at < len(p.Held); at += 1000 {
		if err := f(p.Held[at:min(len(p.Held), at+1000)]); err != nil {
			return err
		}
	}
	return nil
}
