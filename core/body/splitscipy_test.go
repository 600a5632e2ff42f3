package body

import (
	"context"
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

// plainMedian takes a mixture apart with nothing but two median filters of scipy (Fitzgerald 2010, 4096 frames, 17 by 17, masks of power 2)
// and says how much of the truth is in its parts, dB.
const plainMedian = `
import json, sys
import numpy as np
from scipy.io import wavfile
from scipy.ndimage import median_filter
from scipy.signal import stft, istft
q = json.load(sys.stdin)
d, b = (wavfile.read(q[k])[1].astype(float) for k in ("struck", "sustained"))
x = d + b
X = stft(x, 44100, "hann", 4096, 3072)[2]
A = abs(X)
H, P = median_filter(A, (1, 17)), median_filter(A, (17, 1))
m = P ** 2 / (P ** 2 + H ** 2 + 1e-20)
back = lambda Y: istft(Y, 44100, "hann", 4096, 3072)[1][:len(x)]
sdr = lambda s, e: 10 * np.log10((s ** 2).sum() / ((s - e) ** 2).sum())
print(json.dumps([sdr(d, back(X * m)), sdr(b, back(X * (1 - m)))]))
`

// On recorded drums over recorded basses and chords, and on a synthetic mixture, each part holds at least as much of the truth as
// plain median filtering gives it; hits and notes stay where they are.
func TestSplitAgainstPlainMedian(t *testing.T) {
	outside.Slow(t)
	type mixture struct {
		name              string
		struck, sustained audio.Buffer
	}
	a, b := noisy(44100, 8, 1)
	all := []mixture{{"synthetic", a, b}}
	for k, program := range []int{33, 38, 32} {
		var drums, held []sampled.Note
		for at := 0.0; at < 7.5; at += 0.75 {
			drums = append(
				drums,
				sampled.Note{At: at, End: at + 0.2, Key: 36, Velocity: 110, Channel: sampled.Drums},
				sampled.Note{At: at + 0.375, End: at + 0.5, Key: 42, Velocity: 80, Channel: sampled.Drums},
			)
			if int(at/0.75)%2 == 1 {
				drums = append(drums, sampled.Note{At: at, End: at + 0.2, Key: 38, Velocity: 100, Channel: sampled.Drums})
			}
		}
		for i, key := range []int{29, 31, 26, 33} {
			at := 2 * float64(i)
			held = append(
				held,
				sampled.Note{At: at, End: at + 1.1, Key: key, Velocity: 100, Channel: 0},
				sampled.Note{At: at + 1.2, End: at + 1.95, Key: key + 7, Velocity: 90, Channel: 0},
				sampled.Note{At: at, End: at + 1.9, Key: key + 31, Velocity: 60, Channel: 1},
				sampled.Note{At: at, End: at + 1.9, Key: key + 36, Velocity: 60, Channel: 1},
			)
		}
		kit := sampled.Kits[k%len(sampled.Kits)]
		x, y := sampled.Play(t, map[int]int{sampled.Drums: kit}, drums, 8), sampled.Play(t, map[int]int{0: program, 1: 4}, held, 8)
		n := min(x.Frames(), y.Frames())
		all = append(
			all,
			mixture{"recorded", audio.Buffer{Rate: x.Rate, Ch: [][]float32{x.Slice(0, n).Mono()}}, audio.Buffer{Rate: y.Rate, Ch: [][]float32{y.Slice(0, n).Mono()}}},
		)
	}
	sum := 0.0
	for _, m := range all {
		got, err := SplitWhole(context.Background(), audio.Memory{Buffer: mixed(m.struck, m.sustained)})
		if err != nil {
			t.Fatal(err)
		}
		var plain [2]float64
		outside.Python(
			t,
			plainMedian,
			map[string]string{"struck": outside.WriteWAV(t, "d.wav", m.struck, wav.Float32), "sustained": outside.WriteWAV(t, "b.wav", m.sustained, wav.Float32)},
			&plain,
		)
		s, h := sdr(m.struck, got.Struck), sdr(m.sustained, got.Sustained)
		t.Logf("%s: struck %.1f dB (plain %.1f), sustained %.1f (plain %.1f)", m.name, s, plain[0], h, plain[1])
		if s < plain[0] || h < plain[1] {
			t.Errorf("%s: struck %.2f dB, plain %.2f; sustained %.2f, plain %.2f", m.name, s, plain[0], h, plain[1])
		}
		sum += s - plain[0]
		if lag := lagOf(m.struck.Ch[0], got.Struck.Ch[0]); lag != 0 {
			t.Errorf("%s: the struck part is %d frames off", m.name, lag)
		}
	}
	if sum/float64(len(all)) < 0.5 {
		t.Errorf("on the mean only %.2f dB over plain median filtering", sum/float64(len(all)))
	}
}

// lagOf is where the cross-correlation of two sounds is highest, within 50 frames.
func lagOf(a, b []float32) int {
	best, at := math.Inf(-1), 0
	for lag := -50; lag <= 50; lag++ {
		sum := 0.0
		for i := 50; i < len(a)-50; i++ {
			sum += float64(a[i]) * float64(b[i+lag])
		}
		if sum > best {
			best, at = sum, lag
		}
	}
	return at
}
