package room

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/move"
	"mellowthump/internal/sampled"
)

// Of recorded snares, toms and hand drums none rings by itself; a tone put in that outlasts them by a second is found at its place, and
// its bell takes most of it away.
func TestStruckRings(t *testing.T) {
	for _, kit := range []int{0, 16, 24, 25, 40, 48} {
		for _, key := range []int{38, 40, 45, 48, 60, 63} {
			var notes []sampled.Note
			for at := 0.1; at < 4; at += 0.5 {
				notes = append(notes, sampled.Note{At: at, End: at + 0.3, Key: key, Velocity: 100, Channel: sampled.Drums})
			}
			x := sampled.Play(t, map[int]int{sampled.Drums: kit}, notes, 4.5)
			look := func() []Ringing {
				f, err := spectra(t.Context(), x, 0)
				if err != nil {
					t.Fatal(err)
				}
				return struckRings(f, rate)
			}
			if g := look(); len(g) > 0 {
				t.Errorf("kit %d key %d rings by itself: %+v", kit, key, g)
			}
			peak := 0.0
			for _, v := range x.Ch[0] {
				peak = math.Max(peak, math.Abs(float64(v)))
			}
			for _, n := range notes {
				for i := range rate / 2 {
					ts, at := float64(i)/rate, int(n.At*rate)+i
					for _, ch := range x.Ch {
						ch[at] += float32(0.45 * peak * math.Sin(2*math.Pi*620*ts) * math.Pow(10, -3*ts/1.4))
					}
				}
			}
			g := look()
			if len(g) != 1 || math.Abs(g[0].Hz-620) > 6 {
				t.Errorf("kit %d key %d with a ring at 620 Hz: %+v", kit, key, g)
				continue
			}
			p, err := g[0].Bell.Processor(move.Place{Rate: rate})
			if err != nil {
				t.Fatal(err)
			}
			p.Process(x, audio.Buffer{})
			if left := look(); len(left) > 0 && left[0].Over > g[0].Over/3 {
				t.Errorf("kit %d key %d behind its bell: %+v", kit, key, left[0])
			}
		}
	}
}
