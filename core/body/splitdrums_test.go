package body

import (
	"context"
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

// Drums of recorded kits in one file: the parts sum to it, most of the kick's low end is in the kick, next to nothing of the snare's and
// the hats' is, and the kick's hits are found in it.
func TestSplitDrums(t *testing.T) {
	outside.Slow(t)
	t.Parallel()
	for _, kit := range []int{0, 16, 24, 25, 40} {
		var kicks, others []sampled.Note
		var low, all []float64
		r := rand.New(rand.NewPCG(uint64(kit), 2))
		for n := range 48 {
			at := 0.1 + 0.125*float64(n)
			note := func(key int) sampled.Note {
				return sampled.Note{At: at, End: at + 0.1, Key: key, Velocity: 85 + r.IntN(35), Channel: sampled.Drums}
			}
			others = append(others, note(42))
			switch {
			case n%8 == 0 || n%16 == 10:
				kicks, low, all = append(kicks, note(36)), append(low, at), append(all, at)
			case n%8 == 4:
				others, all = append(others, note(38)), append(all, at)
			}
		}
		play := func(notes []sampled.Note) audio.Buffer {
			return sampled.Play(t, map[int]int{sampled.Drums: kit}, notes, 6.5)
		}
		k, o := play(kicks), play(others)
		sum := audio.New(k.Rate, len(k.Ch), min(k.Frames(), o.Frames()))
		for c := range sum.Ch {
			for i := range sum.Ch[c] {
				sum.Ch[c][i] = k.Ch[c][i] + o.Ch[c][i]
			}
		}
		var kick, rest audio.Buffer
		err := SplitDrums(context.Background(), audio.Memory{Buffer: sum}, low, all, nil, func(a Apart) error {
			if kick.Ch == nil {
				kick, rest = audio.New(sum.Rate, len(sum.Ch), 0), audio.New(sum.Rate, len(sum.Ch), 0)
			}
			for c := range kick.Ch {
				kick.Ch[c], rest.Ch[c] = append(kick.Ch[c], a.Struck.Ch[c]...), append(rest.Ch[c], a.Rest.Ch[c]...)
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		if kick.Frames() != sum.Frames() || rest.Frames() != sum.Frames() {
			t.Fatalf("%d and %d of %d frames", kick.Frames(), rest.Frames(), sum.Frames())
		}
		var off, lost, has float64
		for c := range sum.Ch {
			for i, v := range sum.Ch[c] {
				off = math.Max(off, math.Abs(float64(v-kick.Ch[c][i]-rest.Ch[c][i])))
			}
		}
		lowOf := func(x audio.Buffer) []float32 { y, _ := meter.Low(x.Mono(), x.Rate); return y }
		a, b := lowOf(k), lowOf(kick)
		for i := range min(len(a), len(b)) {
			lost, has = lost+float64(a[i]-b[i])*float64(a[i]-b[i]), has+float64(a[i])*float64(a[i])
		}
		found := meter.Onsets(kick.Mono(), kick.Rate)
		t.Logf("kit %d: of the kick's low end %.1f dB off, %d of %d hits", kit, 10*math.Log10(lost/has), len(found), len(low))
		if off > 1e-6 || 10*math.Log10(lost/has) > -6 || len(found) < len(low)*2/3 || len(found) > len(low) { // the 808 of one kit rings into the next hit
			t.Errorf("kit %d: the parts are %g off; of the kick's low end %.1f dB off; %d hits of %d", kit, off, 10*math.Log10(lost/has), len(found), len(low))
		}
	}
}
