package body

import (
	"context"
	"math"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/sampled"
)

// Recorded kicks and snares of nine kits, struck at two strengths in turn (the notes are the truth): every hit is weighed, the strong
// ones weigh more than the weak ones, own gains bring them together, and what is asked of the attack comes of it.
func TestRecordedDrums(t *testing.T) {
	ctx := context.Background()
	for _, kit := range sampled.Kits {
		for _, key := range []int{36, 38} {
			var n []sampled.Note
			var truth []float64
			for k := range 10 {
				at, strength := 0.3+0.5*float64(k), 120
				if k%2 == 1 {
					strength = 70
				}
				n = append(n, sampled.Note{At: at, End: at + 0.2, Key: key, Velocity: strength, Channel: sampled.Drums})
				truth = append(truth, at)
			}
			x := sampled.Play(t, map[int]int{sampled.Drums: kit}, n, 6)
			lib := &mix.Memory{}
			song := session.New("x", 120)
			song.Rate = x.Rate
			sha := strings.Repeat("c", 64)
			lib.Put(sha, audio.Buffer{Rate: x.Rate, Ch: [][]float32{x.Mono()}})
			role := session.Kick
			if key == 38 {
				role = session.Snare
			}
			song.Stems = []session.Stem{{ID: "d", Name: "Drum", Role: role, Audio: sha}}
			song.Settle()
			p := Parts(&song)[0]
			r, w := mix.New(lib, 1<<28), mix.Window{To: x.Frames()}
			before, err := Weigh(ctx, r, &song, p, nil, w)
			if err != nil {
				t.Fatal(err)
			}
			if len(before.Items) != len(truth) {
				t.Errorf("kit %d, key %d: %d of %d hits are weighed", kit, key, len(before.Items), len(truth))
				continue
			}
			var strong, weak []float64
			for k, it := range before.Items {
				if math.Abs(it.At-truth[k]) > 0.03 {
					t.Errorf("kit %d, key %d: a hit at %.3f s, struck at %.3f", kit, key, it.At, truth[k])
				}
				if k%2 == 0 {
					strong = append(strong, float64(it.Weight))
				} else {
					weak = append(weak, float64(it.Weight))
				}
			}
			apart := slices.Min(strong) - slices.Max(weak)
			if apart < 2 {
				t.Errorf("kit %d, key %d: strong and weak hits are %.1f dB apart", kit, key, apart)
			}
			own, err := ByOwnGains(ctx, r, &song, before, nil, w, 2)
			if err != nil || !own.Reached || float64(own.After.Spread) > 2.1 {
				t.Errorf("kit %d, key %d: own gains leave %.2f dB of %.2f (%v)", kit, key, float64(own.After.Spread), float64(before.Spread), err)
			}
			for _, db := range []float64{-4, 4} {
				after, err := Weigh(ctx, r, shapedBy(&song, p, &move.Attack{Attack: db}), p, nil, w)
				if err != nil {
					t.Fatal(err)
				}
				if by := float64(after.Attack - before.Attack); math.Abs(by-db) > 1.5 {
					t.Errorf("kit %d, key %d: asked %g dB, the attack moves by %.2f", kit, key, db, by)
				}
			}
		}
	}
}
