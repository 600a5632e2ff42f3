package facts

import (
	"math"
	"testing"

	"mellowthump/core/session"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

// Of drums in one file the kick's hits are the low ones, whatever else is struck; without a kick there are none. One kit has a snare
// that is as low as its kick, and one a drum of 118 Hz for a kick.
func TestLowHits(t *testing.T) {
	outside.Slow(t)
	t.Parallel()
	all, found, more := 0, 0, 0
	for i, kit := range sampled.Kits {
		for _, v := range [][3]int{{36, 38, 42}, {36, 40, 0}, {35, 0, 42}, {35, 38, 44}, {0, 38, 42}} {
			a := analysed(t, drumsTogether(t, kit, i, v[0], v[1], v[2]))
			way := i
			var kicks []float64
			for n := range 96 {
				at := 0.1 + 0.125*float64(n)
				if n%8 == 0 || n%16 == 10 || n%16 == 3*way%16 {
					kicks = append(kicks, at)
				}
			}
			near := func(h float64, of []float64) bool {
				for _, k := range of {
					if h > k-0.02 && h < k+0.04 {
						return true
					}
				}
				return false
			}
			k, o := 0, 0
			for _, h := range a.Portrait.LowHits {
				if near(h, kicks) {
					k++
				} else {
					o++
				}
			}
			if v[0] == 0 {
				kicks = nil
			}
			if all, found, more = all+len(kicks), found+k, more+o; k != len(kicks) || o > 0 {
				t.Logf("kit %d %v: %d kicks: found %d, else %d", kit, v, len(kicks), k, o)
			}
		}
	}
	t.Logf("of %d kicks %d found, %d else", all, found, more)
	if found < all*92/100 || more > all/20 {
		t.Errorf("of %d kicks %d found, %d else", all, found, more)
	}
}

// What goes on low, on one pitch, is a bass: a steady sine, one that is low-passed, a long string.
func TestDronesAreBasses(t *testing.T) {
	for _, hz := range []float64{36, 43.65, 55, 98} {
		b := synthetic(7, func(t float64) float64 { return 0.22 * math.Sin(2*math.Pi*hz*t) * (1 + 0.1*math.Sin(2*math.Pi*5*t)) })
		if g := analysed(t, b).Guess("Sub"); g.Role != session.Bass || g.Doubt != "" || g.Confidence < Sure {
			t.Errorf("a sine of %g Hz named Sub: %+v", hz, g)
		}
		if g := analysed(t, b).Guess("audio 3"); g.Role != session.Bass {
			t.Errorf("a sine of %g Hz: %+v", hz, g)
		}
	}
}
