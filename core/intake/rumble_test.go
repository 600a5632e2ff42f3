package intake

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/facts"
	"mellowthump/core/session"
)

// What stands under a part is told with a corner that takes it away and leaves the lowest note; what a part plays itself is none of it.
func TestRumble(t *testing.T) {
	tone := func(hz, level float64) func(float64) float64 {
		return func(s float64) float64 { return level * math.Sin(2*math.Pi*hz*s) }
	}
	both := func(a, b func(float64) float64) func(float64) float64 {
		return func(s float64) float64 { return a(s) + b(s) }
	}
	r := rand.New(rand.NewPCG(3, 3))
	hiss := func(float64) float64 { return 0.05 * r.NormFloat64() }
	for name, c := range map[string]struct {
		role session.Role
		f    func(float64) float64
		told bool
		own  float64 // the lowest tone, Hz; 0: none
	}{
		"a bass over 20 Hz":    {session.Bass, both(tone(55, 0.3), tone(20, 0.15)), true, 55},
		"a clean bass":         {session.Bass, tone(55, 0.3), false, 55},
		"a bass of 32 Hz":      {session.Bass, tone(32.7, 0.3), false, 32.7},
		"noise over 33 Hz":     {session.Texture, both(hiss, tone(33, 0.05)), true, 0},
		"noise":                {session.Texture, hiss, false, 0},
		"a pad over 15 Hz":     {session.Melodic, both(tone(220, 0.2), tone(15, 0.1)), true, 0},
		"an offset and no sub": {session.Texture, func(s float64) float64 { return 0.1 + hiss(s) }, false, 0},
	} {
		b := audio.New(44100, 1, 8*44100)
		for i := range b.Ch[0] {
			b.Ch[0][i] = float32(c.f(float64(i) / 44100))
		}
		got, told := rumbleOf(c.role, analysed(t, b))
		if told != c.told {
			t.Errorf("%s: told %t, %+v", name, told, got)
			continue
		}
		if !told {
			continue
		}
		loss := func(hz float64) float64 { // of a Butterworth high-pass at the corner, dB: closed form
			return 10 * math.Log10(1+math.Pow(got.Corner/hz, 2*float64(got.Slope)/6))
		}
		if loss(got.Hz) < 10 || c.own > 0 && loss(c.own) > 0.4 {
			t.Errorf("%s: a cut at %g Hz, %d dB per octave takes %.1f dB of the rumble and %.2f of %g Hz", name, got.Corner, got.Slope, loss(got.Hz), loss(c.own), c.own)
		}
	}
	if _, told := rumbleOf(session.Bass, &facts.Analysis{}); told {
		t.Error("it is told of a file that was not described")
	}
}
