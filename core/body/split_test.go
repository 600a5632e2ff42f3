package body

import (
	"bytes"
	"context"
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
)

// noisy is a struck and sustained mixture: bursts of decaying tones and noise over held tones.
func noisy(rate int, seconds float64, channels int) (struck, sustained audio.Buffer) {
	n := int(seconds * float64(rate))
	struck, sustained = audio.New(rate, channels, n), audio.New(rate, channels, n)
	seed := uint64(5)
	rnd := func() float64 {
		seed = seed*6364136223846793005 + 1442695040888963407
		return float64(int64(seed)) / (1 << 63)
	}
	for at := 0.25; at < seconds-0.5; at += 0.5 {
		for i := range int(0.4 * float64(rate)) {
			t := float64(i) / float64(rate)
			v := 0.6*math.Sin(2*math.Pi*(52*t+1.5*(1-math.Exp(-t/0.01))))*math.Exp(-t/0.07) + 0.25*rnd()*math.Exp(-t/0.02)
			for c := range struck.Ch {
				struck.Ch[c][int(at*float64(rate))+i] += float32(v * (1 - 0.3*float64(c)))
			}
		}
	}
	for i := range n {
		t := float64(i) / float64(rate)
		hz := []float64{43.65, 58.27, 49}[int(t/1.5)%3]
		v := 0.35*math.Sin(2*math.Pi*hz*t) + 0.12*math.Sin(2*math.Pi*hz*2*t) + 0.1*math.Sin(2*math.Pi*329.6*t) + 0.08*math.Sin(2*math.Pi*523.3*t)
		for c := range sustained.Ch {
			sustained.Ch[c][i] = float32(v * (0.7 + 0.3*float64(c)))
		}
	}
	return struck, sustained
}

func mixed(a, b audio.Buffer) audio.Buffer {
	m := audio.New(a.Rate, len(a.Ch), a.Frames())
	for c := range m.Ch {
		for i := range m.Ch[c] {
			m.Ch[c][i] = a.Ch[c][i] + b.Ch[c][i]
		}
	}
	return m
}

// sdr is the energy of what is meant over that of what is amiss, dB.
func sdr(want, got audio.Buffer) float64 {
	s, e := 0.0, 0.0
	for c := range want.Ch {
		for i, v := range want.Ch[c] {
			d := float64(v - got.Ch[c][i])
			s, e = s+float64(v)*float64(v), e+d*d
		}
	}
	return 10 * math.Log10(s/e)
}

// The parts sum to the file, at any rate and of any length, mono and stereo; silence stays silence, and one part is not
// another's.
func TestSplitSums(t *testing.T) {
	for _, c := range []struct {
		rate, channels int
		seconds        float64
	}{{44100, 1, 4.03}, {48000, 2, 3.1}, {96000, 1, 2.2}, {8000, 2, 2}, {44100, 2, 0.6}} {
		a, b := noisy(c.rate, c.seconds, c.channels)
		m := mixed(a, b)
		var file bytes.Buffer // read as a file is: by one at a time
		if err := wav.Write(&file, m, wav.Float32); err != nil {
			t.Fatal(err)
		}
		src, err := wav.NewReader(bytes.NewReader(file.Bytes()), int64(file.Len()))
		if err != nil {
			t.Fatal(err)
		}
		got, err := SplitWhole(context.Background(), src)
		if err != nil {
			t.Fatal(err)
		}
		if got.Struck.Frames() != m.Frames() || got.Rest.Frames() != m.Frames() {
			t.Fatalf("%v: %d frames of %d", c, got.Struck.Frames(), m.Frames())
		}
		worst := 0.0
		for ch := range m.Ch {
			for i, v := range m.Ch[ch] {
				sum := float64(got.Struck.Ch[ch][i]) + float64(got.Sustained.Ch[ch][i]) + float64(got.Rest.Ch[ch][i])
				worst = math.Max(worst, math.Abs(float64(v)-sum))
			}
		}
		if worst > 1e-6 {
			t.Errorf("%v: the parts miss the file by %.1f dBFS", c, 20*math.Log10(worst))
		}
		if c.seconds > 2 && c.rate >= 44100 {
			if s, h := sdr(a, got.Struck), sdr(b, got.Sustained); s < 4 || h < 8 {
				t.Errorf("%v: struck %.1f dB, sustained %.1f dB over what is amiss", c, s, h)
			}
		}
	}
	got, err := SplitWhole(context.Background(), audio.Memory{Buffer: audio.New(44100, 1, 30000)})
	if err != nil {
		t.Fatal(err)
	}
	for i := range got.Struck.Frames() {
		if got.Struck.Ch[0][i] != 0 || got.Sustained.Ch[0][i] != 0 || got.Rest.Ch[0][i] != 0 {
			t.Fatal("silence is no longer silent")
		}
	}
}

// A split that is told to stop does.
func TestSplitStops(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if err := Split(ctx, audio.Memory{Buffer: audio.New(44100, 1, 90000)}, nil, func(Apart) error { return nil }); err == nil {
		t.Error("it went on")
	}
}

// BenchmarkSplit takes three minutes in stereo apart; 6 s are asked.
func BenchmarkSplit(b *testing.B) {
	x, y := noisy(44100, 180, 2)
	m := audio.Memory{Buffer: mixed(x, y)}
	for b.Loop() {
		if err := Split(context.Background(), m, nil, func(Apart) error { return nil }); err != nil {
			b.Fatal(err)
		}
	}
}

// SplitWhole takes a file apart in memory.
func SplitWhole(ctx context.Context, src audio.Source) (Apart, error) {
	f := src.Format()
	whole := func() audio.Buffer { return audio.New(f.Rate, f.Channels, int(f.Frames)) }
	out, at := Apart{Struck: whole(), Sustained: whole(), Rest: whole()}, 0
	err := Split(ctx, src, nil, func(a Apart) error {
		for c := range out.Rest.Ch {
			copy(out.Struck.Ch[c][at:], a.Struck.Ch[c])
			copy(out.Sustained.Ch[c][at:], a.Sustained.Ch[c])
			copy(out.Rest.Ch[c][at:], a.Rest.Ch[c])
		}
		at += a.Rest.Frames()
		return nil
	})
	return out, err
}
