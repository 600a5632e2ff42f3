package meter

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

// sampledLine plays a line on a bass, with repeated notes, rests and, where bent, glides into notes. It returns
// the notes as they are heard: the sound font's attack is part of them.
func sampledLine(t testing.TB, program, low int, seed uint64, bent bool) (x []float32, notes []sampled.Note) {
	r := rand.New(rand.NewPCG(seed, 77))
	key := low + r.IntN(8)
	for at := 0.3; at < 14; {
		switch r.IntN(4) {
		case 0: // again
		default:
			key = low + r.IntN(14)
		}
		long := []float64{0.15, 0.25, 0.3, 0.45, 0.6, 0.9}[r.IntN(6)]
		n := sampled.Note{At: at, End: at + long - 0.01, Key: key, Velocity: 80 + r.IntN(40)}
		if bent && r.IntN(3) == 0 && long >= 0.3 {
			for k := 0; k <= 12; k++ {
				n.Bend = append(n.Bend, sampled.Bend{At: at + 0.006*float64(k), By: -2 * (1 - float64(k)/12)})
			}
		} else {
			n.Bend = []sampled.Bend{{At: at - 0.001, By: 0}}
		}
		notes = append(notes, n)
		at += long
		if r.IntN(5) == 0 {
			at += 0.2
		}
	}
	return sampled.Play(t, map[int]int{0: program}, notes, 15).Mono(), notes
}

// heardAt is how long after its note each key of a bass passes a tenth of its peak, s.
func heardAt(t testing.TB, program int) map[int]float64 {
	var notes []sampled.Note
	for key := 28; key < 44; key++ {
		at := 0.5 + float64(key-28)
		notes = append(notes, sampled.Note{At: at, End: at + 0.5, Key: key})
	}
	x := sampled.Play(t, map[int]int{0: program}, notes, 17).Mono()
	out := map[int]float64{}
	for _, n := range notes {
		from := int((n.At - 0.05) * testRate)
		one := x[from : from+testRate/2]
		for i, v := range one {
			if p := peakOf(one) / 10; v > p || -v > p {
				out[n.Key] = float64(i)/testRate - 0.05
				break
			}
		}
	}
	return out
}

// Played basses: the note under a place 60 ms after its start, where a kick that falls together with it is judged, is
// known for over 95 % of the notes and has the right pitch; its start is within 10 ms for nine in ten. The MIDI is
// the truth, with the time that the recorded note takes to a tenth of its peak.
func TestSampledLines(t *testing.T) {
	outside.Slow(t)
	t.Parallel()
	var all, known, sound, near int
	for program := 32; program < 40; program++ {
		heard := heardAt(t, program)
		for _, bent := range []bool{false, true} {
			var n, found, right, octave, in10, extra int
			var late []Figure
			for seed := range 3 {
				x, notes := sampledLine(t, program, 28, uint64(seed), bent)
				low, fs := Low(x, testRate)
				line := BassLine(low, fs)
				extra += len(line) - len(notes)
				for _, m := range notes {
					first := heard[m.Key]
					n++
					g := NoteAt(line, m.At+first+0.06)
					if g == nil {
						continue
					}
					found++
					c := 1200 * math.Log2(g.Hz/NoteHz(m.Key))
					if math.Abs(c) < 60 {
						right++
					} else if math.Abs(math.Abs(c)-1200) < 60 {
						octave++
					}
					d := g.Start - m.At - first
					late = append(late, Figure(1000*d))
					if math.Abs(d) < 0.010 {
						in10++
					}
				}
			}
			all, known, sound, near = all+n, known+found, sound+right, near+in10
			if found < n*95/100 || right < n*85/100 {
				t.Errorf("program %d: %d of %d notes known, %d right", program, found, n, right)
			}
			t.Logf(
				"program %d bent %v: %d notes, %d known, %d right, %d octave off, %d too many, %d within 10 ms; late by %.0f, %.0f to %.0f ms",
				program,
				bent,
				n,
				found,
				right,
				octave,
				extra,
				in10,
				float64(Median(late)),
				float64(Percentile(late, 0.05)),
				float64(Percentile(late, 0.95)),
			)
		}
	}
	t.Logf("%d notes, %d known, %d right, %d within 10 ms", all, known, sound, near)
	if known < all*99/100 || sound < all*96/100 || near < all*90/100 {
		t.Errorf("of %d notes %d known, %d right, %d within 10 ms", all, known, sound, near)
	}
}
