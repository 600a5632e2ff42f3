package meter

import (
	"encoding/json"
	"fmt"
	"math"
	"strconv"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
)

func near(t *testing.T, what string, got Figure, want, tolerance float64) {
	t.Helper()
	if !got.Valid() || math.Abs(float64(got)-want) > tolerance {
		t.Errorf("%s = %.4f, want %.4f within %g", what, float64(got), want, tolerance)
	}
}

// ITU-R BS.1770-5, Annex 1, tables 1 and 2: the coefficients as printed for 48 kHz.
func TestKWeightingCoefficients(t *testing.T) {
	k := KWeighting(48000)
	for _, c := range []struct {
		name      string
		got, want float64
	}{
		{"shelf b0", k[0].B0, 1.53512485958697}, {"shelf b1", k[0].B1, -2.69169618940638}, {"shelf b2", k[0].B2, 1.19839281085285},
		{"shelf a1", k[0].A1, -1.69065929318241}, {"shelf a2", k[0].A2, 0.73248077421585},
		{"pass b0", k[1].B0, 1}, {"pass b1", k[1].B1, -2}, {"pass b2", k[1].B2, 1},
		{"pass a1", k[1].A1, -1.99004745483398}, {"pass a2", k[1].A2, 0.99007225036621},
	} {
		if math.Abs(c.got-c.want) > 1e-8 {
			t.Errorf("%s = %.14f, printed %.14f", c.name, c.got, c.want)
		}
	}
}

// ITU-R BS.1770-5, Annex 1: a 997 Hz sine of 0 dBFS in one channel reads -3.01 LKFS; the
// same in both adds 3.01. At rates other than 48 kHz the bilinear transform bends the shelf a
// little: 0.03 dB at 997 Hz.
func TestLoudnessOf997Hz(t *testing.T) {
	for _, rate := range []int{22050, 32000, 44100, 48000, 96000, 192000} {
		mono := outside.Sine(rate, 1, 997, 1, 5, 0)
		near(t, fmt.Sprintf("mono at %d", rate), IntegratedLoudness(mono), -3.01, 0.04)
		stereo := outside.Sine(rate, 2, 997, 1, 5, 0)
		near(t, fmt.Sprintf("stereo at %d", rate), IntegratedLoudness(stereo), 0, 0.04)
	}
}

// tones joins stretches of a 1 kHz stereo sine, each of a level (dBFS peak) and a length, as
// EBU Tech 3341 and 3342 describe their test signals.
func tones(parts ...[2]float64) audio.Buffer {
	frames := func(p [2]float64) int { return int(math.Round(p[1] * 48000)) }
	total := 0
	for _, p := range parts {
		total += frames(p)
	}
	b := audio.New(48000, 2, total)
	at := 0
	for _, p := range parts {
		n := frames(p)
		for i := range n {
			v := float32(math.Pow(10, p[0]/20) * math.Sin(2*math.Pi*1000*float64(at+i)/48000))
			b.Ch[0][at+i], b.Ch[1][at+i] = v, v
		}
		at += n
	}
	return b
}

// EBU Tech 3341, table 1, cases 1 to 5 (integrated, 0.1 LU) with their stated levels.
func TestTech3341(t *testing.T) {
	outside.Slow(t)
	for _, c := range []struct {
		name string
		sig  audio.Buffer
		want float64
	}{
		{"1", tones([2]float64{-23, 20}), -23},
		{"2", tones([2]float64{-33, 20}), -33},
		{"3", tones([2]float64{-36, 10}, [2]float64{-23, 60}, [2]float64{-36, 10}), -23},
		{"4", tones([2]float64{-72, 10}, [2]float64{-36, 10}, [2]float64{-23, 60}, [2]float64{-36, 10}, [2]float64{-72, 10}), -23},
		{"5", tones([2]float64{-26, 20}, [2]float64{-20, 20.1}, [2]float64{-26, 20}), -23},
	} {
		near(t, "case "+c.name, IntegratedLoudness(c.sig), c.want, 0.1)
	}
}

// EBU Tech 3341, table 1, case 9: 1.34 s at -20 and 1.66 s at -30 dBFS, five times: the
// short-term loudness is -23.0 all along; case 12: 0.18 s at -20 and 0.22 s at -30, 25 times:
// so is the momentary. Both within 0.1 LU.
func TestTech3341Windows(t *testing.T) {
	for name, c := range map[string]struct {
		high, low float64
		times     int
		windows   func(l *Loudness) []float64
	}{
		"9":  {1.34, 1.66, 5, func(l *Loudness) []float64 { return l.blocks(hopsShort) }},
		"12": {0.18, 0.22, 25, func(l *Loudness) []float64 { return l.blocks(hopsMomentary) }},
	} {
		var parts [][2]float64
		for range c.times {
			parts = append(parts, [2]float64{-20, c.high}, [2]float64{-30, c.low})
		}
		l := NewLoudness(48000, 2)
		l.Add(tones(parts...))
		w := c.windows(l)
		if len(w) == 0 {
			t.Fatal("no windows")
		}
		for i, v := range w {
			near(t, fmt.Sprintf("case %s, window %d", name, i), Figure(toLUFS(v)), -23, 0.1)
		}
	}
}

// EBU Tech 3342, table 1, cases 1 to 4: 10, 5, 20 and 15 LU, within 1 LU.
func TestTech3342(t *testing.T) {
	outside.Slow(t)
	four := tones([2]float64{-50, 20}, [2]float64{-35, 20}, [2]float64{-20, 20}, [2]float64{-35, 20}, [2]float64{-50, 20})
	l4 := NewLoudness(four.Rate, 2)
	l4.Add(four)
	near(t, "range of case 4", l4.Range(), 15, 1)
	for _, c := range []struct {
		a, b, want float64
	}{{-20, -30, 10}, {-20, -15, 5}, {-40, -20, 20}} {
		b := tones([2]float64{c.a, 20}, [2]float64{c.b, 20})
		l := NewLoudness(b.Rate, 2)
		l.Add(b)
		near(t, fmt.Sprintf("range of %g and %g", c.a, c.b), l.Range(), c.want, 1)
	}
}

// EBU Tech 3341, cases 15 to 19: sines at a quarter, sixth and eighth of the rate whose
// samples miss their tops; +0.2/-0.4 dB. Case 15 and 16 peak at -6 dBTP. The ends are faded:
// a tone that starts at full level overshoots by itself.
func TestTruePeak(t *testing.T) {
	for _, c := range []struct {
		part, phase, amplitude float64
	}{{0.25, 0, 0.5}, {0.25, 0.125, 0.5}, {1. / 6, 1. / 6, 0.5}, {0.125, 0.0625, 0.5}, {0.25, 0.125, math.Pow(10, 3.0/20)}} {
		for _, rate := range []int{44100, 48000, 96000} {
			b := outside.Sine(rate, 1, c.part*float64(rate), c.amplitude, 0.5, c.phase)
			fadeEnds(b)
			tp := NewTruePeak(1)
			tp.Add(b)
			got, want := float64(tp.Peak()), 20*math.Log10(c.amplitude)
			if got > want+0.2 || got < want-0.4 {
				t.Errorf("%g fs, phase %g, %d Hz: %.3f dBTP, want %.3f", c.part, c.phase, rate, got, want)
			}
		}
	}
}

// fadeEnds ramps both ends over 20 ms.
func fadeEnds(b audio.Buffer) {
	n := b.Rate / 50
	for c := range b.Ch {
		x := b.Ch[c]
		for i := range n {
			g := float32(0.5 - 0.5*math.Cos(math.Pi*float64(i)/float64(n)))
			x[i] *= g
			x[len(x)-1-i] *= g
		}
	}
}

// Blocks must not matter, and skipping must not either: the peak hides at a seam.
func TestTruePeakBlocks(t *testing.T) {
	b := audio.New(48000, 1, 9000)
	for i := range b.Ch[0] {
		b.Ch[0][i] = float32(0.2 * math.Sin(float64(i)*0.3))
	}
	b.Ch[0][4095], b.Ch[0][4096] = 0.9, 0.9 // their top lies between them
	whole := NewTruePeak(1)
	whole.Add(b)
	for _, n := range []int{1, 7, 64, 4096} {
		parts := NewTruePeak(1)
		for at := 0; at < b.Frames(); at += n {
			parts.Add(b.Slice(at, min(at+n, b.Frames())))
		}
		if whole.Peak() != parts.Peak() {
			t.Errorf("blocks of %d: %.4f, whole %.4f", n, parts.Peak(), whole.Peak())
		}
	}
	if whole.Peak() < PeakDB(b.Ch[0])+0.5 {
		t.Errorf("true peak %.2f does not pass the sample peak %.2f", whole.Peak(), PeakDB(b.Ch[0]))
	}
}

// Live against ffmpeg's ebur128 on signals of many kinds: 0.1 LU, 0.2 dB. The noise falls
// towards half the rate, where interpolators end at different places.
func TestLevelsAgainstFFmpeg(t *testing.T) {
	outside.Slow(t)
	seed := uint32(7)
	var z1, z2 float64
	noise := func() float64 {
		seed = seed*1664525 + 1013904223
		v := float64(int32(seed)) / (1 << 31)
		y := v/4 + z1/2 + z2/4
		z1, z2 = v, z1
		return y
	}
	signals := map[string]func(t float64) float64{
		"noise":         func(float64) float64 { return 0.3 * noise() },
		"low tone":      func(t float64) float64 { return 0.7 * math.Sin(2*math.Pi*44*t) },
		"sweep":         func(t float64) float64 { return 0.6 * math.Sin(2*math.Pi*(30*t+900*t*t)) },
		"bursts":        func(t float64) float64 { return 0.8 * noise() * math.Exp(-20*math.Mod(t, 0.5)) },
		"near clipping": func(t float64) float64 { return 0.99 * math.Sin(2*math.Pi*11025.7*t+0.7) },
		"quiet":         func(t float64) float64 { return 0.002 * noise() },
	}
	signals["pulses"] = func(t float64) float64 { return 0.9 * math.Exp(-60*math.Mod(t, 0.35)) * math.Sin(2*math.Pi*90*t) }
	signals["chord"] = func(t float64) float64 {
		return 0.25 * (math.Sin(2*math.Pi*87.3*t) + math.Sin(2*math.Pi*1046.5*t) + math.Sin(2*math.Pi*6000*t))
	}
	for name, f := range signals {
		for _, rate := range []int{44100, 48000, 96000} {
			t.Run(fmt.Sprintf("%s at %d", name, rate), func(t *testing.T) {
				b := audio.New(rate, 2, rate*6)
				for i := range b.Ch[0] {
					v := f(float64(i) / float64(rate))
					b.Ch[0][i], b.Ch[1][i] = float32(v), float32(v*0.6)
				}
				fadeEnds(b)
				want := outside.EBUR128(t, outside.WriteWAV(t, "x.wav", b, wav.Float32))
				m := NewLevelMeter(rate, 2)
				m.Add(b)
				got := m.Levels()
				near(t, "integrated", got.Integrated, want.Integrated, 0.1)
				near(t, "range", got.Range, want.Range, 0.15)
				near(t, "true peak", got.TruePeak, want.TruePeak, 0.2)
			})
		}
	}
}

func TestLevels(t *testing.T) {
	sine := outside.Sine(48000, 2, 1000, 1, 1, 0)
	m := NewLevelMeter(48000, 2)
	m.Add(sine)
	l := m.Levels()
	near(t, "peak", l.SamplePeak, 0, 0.001)
	near(t, "RMS of a full-scale sine", l.RMS, -3.0103, 0.001) // closed form, 10 log10(1/2)
	near(t, "AES17 RMS", l.AES17(), 0, 0.001)                  // AES17: a full-scale sine reads 0
	near(t, "crest", l.Crest, 3.0103, 0.001)
	near(t, "DC", l.DC, 0, 1e-6)
	near(t, "correlation", l.Correlation, 1, 1e-9)

	for i := range sine.Ch[1] {
		sine.Ch[1][i] *= -0.5
		sine.Ch[0][i] += 0.1
	}
	m = NewLevelMeter(48000, 2)
	m.Add(sine)
	l = m.Levels()
	near(t, "DC", l.DC, 0.1, 1e-6)
	if l.Correlation > -0.98 {
		t.Errorf("correlation of opposite channels is %g", l.Correlation)
	}

	m = NewLevelMeter(48000, 1)
	m.Add(audio.New(48000, 1, 48000))
	l = m.Levels()
	for _, f := range []Figure{l.SamplePeak, l.TruePeak, l.RMS, l.Crest, l.Integrated, l.DC, l.Correlation} {
		if f.Valid() {
			t.Errorf("silence has a figure: %+v", l)
			break
		}
	}
	body, err := json.Marshal(l)
	if err != nil || string(body[:40]) == "" {
		t.Errorf("silence to JSON: %s, %v", body, err)
	}
	var back Levels
	if err := json.Unmarshal(body, &back); err != nil || back.RMS.Valid() {
		t.Errorf("silence from JSON: %+v, %v", back, err)
	}
}

func TestClippedRuns(t *testing.T) {
	b := audio.New(48000, 1, 1000)
	x := b.Ch[0]
	copy(x[100:], []float32{0.99, 0.99, 0.99})             // a run
	copy(x[200:], []float32{-0.99, -0.99, -0.99, -0.99})   // a run on the other side
	copy(x[300:], []float32{0.99, 0.99})                   // too short
	copy(x[400:], []float32{0.95, 0.95, 0.95, 0.95})       // too far under the peak
	copy(x[500:], []float32{0.5, 0.5, 0.5, 0.5, 0.5, 0.5}) // under -1 dBFS
	m := NewLevelMeter(48000, 1)
	for at := 0; at < 1000; at += 101 {
		m.Add(b.Slice(at, min(at+101, 1000)))
	}
	if n := m.Levels().ClippedRuns; n != 2 {
		t.Errorf("%d clipped runs, want 2", n)
	}
	if at := m.ClippedAt(); len(at) != 2 || at[0] != 100 || at[1] != 200 {
		t.Errorf("clipped at %v, want 100 and 200", at)
	}
}

// Live against sox's stats (peak, RMS, DC) and numpy's corrcoef of a sound without DC.
func TestLevelsAgainstSoxAndNumpy(t *testing.T) {
	b := audio.New(44100, 2, 44100*3)
	seed := uint32(9)
	for i := range b.Ch[0] {
		seed = seed*1664525 + 1013904223
		n := float64(int32(seed)) / (1 << 31)
		s := math.Sin(2 * math.Pi * 61 * float64(i) / 44100)
		b.Ch[0][i], b.Ch[1][i] = float32(0.4*s+0.1*n), float32(0.3*s-0.15*n)
	}
	m := NewLevelMeter(44100, 2)
	m.Add(b)
	l := m.Levels()
	path := outside.WriteWAV(t, "x.wav", b, wav.Int24)
	stats := outside.Run(t, "sox", path, "-n", "stats")
	read := func(name string) float64 {
		for _, line := range strings.Split(stats, "\n") {
			if rest, ok := strings.CutPrefix(line, name); ok {
				v, err := strconv.ParseFloat(strings.Fields(rest)[0], 64) // the overall column
				if err != nil {
					t.Fatal(err)
				}
				return v
			}
		}
		t.Fatalf("sox says nothing of %s:\n%s", name, stats)
		return 0
	}
	near(t, "peak", l.SamplePeak, read("Pk lev dB"), 0.006)
	near(t, "RMS", l.RMS, read("RMS lev dB"), 0.006)
	if math.Abs(math.Abs(float64(l.DC))-math.Abs(read("DC offset"))) > 2e-6 {
		t.Errorf("DC %g, sox %g", l.DC, read("DC offset"))
	}
	var corr float64
	outside.Python(t, `
import json, sys
import numpy as np
from scipy.io import wavfile
_, x = wavfile.read(json.load(sys.stdin))
json.dump(float(np.corrcoef(x[:,0].astype(float), x[:,1].astype(float))[0,1]), sys.stdout)
`, path, &corr)
	near(t, "correlation", l.Correlation, corr, 1e-4)
	track := m.CorrelationOverTime()
	if len(track) != 7 {
		t.Fatalf("%d steps of 400 ms in 3 s", len(track))
	}
	for i, c := range track {
		near(t, fmt.Sprintf("correlation of step %d", i), c, corr, 0.02)
	}
}

// A one-shot shorter than one 400 ms block still has a loudness.
func TestShortSound(t *testing.T) {
	l := IntegratedLoudness(outside.Sine(48000, 1, 997, 1, 0.2, 0))
	near(t, "0.2 s of full-scale sine in one 0.4 s block", l, -3.01-3.01, 0.1)
}

func TestPercentile(t *testing.T) {
	x := []Figure{5, 1, None, 3, 2, 4}
	near(t, "median", Median(x), 3, 0)
	near(t, "p10 by linear interpolation", Percentile(x, 0.1), 1.4, 1e-12) // numpy.percentile([1..5], 10)
	near(t, "p100", Percentile(x, 1), 5, 0)
	if Median(nil).Valid() || Median([]Figure{None}).Valid() {
		t.Error("nothing has a median")
	}
}

func BenchmarkLevels(b *testing.B) {
	x := outside.Sine(44100, 2, 100, 0.5, 10, 0)
	b.SetBytes(int64(x.Bytes()))
	for b.Loop() {
		m := NewLevelMeter(44100, 2)
		m.Add(x)
		m.Levels()
	}
}

// A sine near half the rate, where four times the rate fall short: its peak is its amplitude, by the sampling theorem. Within
// 0.25 dB; four times alone would read up to 0.6 dB too little.
func TestTruePeakNearHalfTheRate(t *testing.T) {
	for _, part := range []float64{0.40, 0.43, 0.45} {
		for phase := 0.0; phase < 1; phase += 0.13 {
			b := outside.Sine(48000, 1, part*48000, 0.5, 0.05, 2*math.Pi*phase)
			n := b.Frames()
			for i := range n { // in and out softly: a cut has a peak of its own
				b.Ch[0][i] *= float32(math.Sin(math.Pi*float64(i)/float64(n)) * math.Sin(math.Pi*float64(i)/float64(n)))
			}
			tp := NewTruePeak(1)
			tp.Add(b)
			if got, want := float64(tp.Peak()), -6.02; math.Abs(got-want) > 0.25 {
				t.Errorf("%.2f of the rate, phase %.2f: %.3f dBTP, want %.2f", part, phase, got, want)
			}
		}
	}
}
