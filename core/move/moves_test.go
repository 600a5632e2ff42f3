package move

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

const testRate = 44100

// through takes a sound through a move in blocks and gives back what comes out, its latency
// taken off.
func through(t *testing.T, p Params, place Place, x []float32, block int) []float32 {
	t.Helper()
	proc, err := p.Processor(place)
	if err != nil {
		t.Fatal(err)
	}
	late := proc.Latency()
	in := append(append([]float32(nil), x...), make([]float32, late)...)
	for at := 0; at < len(in); at += block {
		proc.Process(audio.Buffer{Rate: testRate, Ch: [][]float32{in[at:min(at+block, len(in))]}}, audio.Buffer{})
	}
	return in[late:]
}

func tone(hz, seconds float64) []float32 {
	x := make([]float32, int(seconds*testRate))
	for i := range x {
		x[i] = float32(0.5 * math.Sin(2*math.Pi*hz*float64(i)/testRate))
	}
	return x
}

func off(a, b []float32, from, to int) float64 {
	worst := 0.0
	for i := from; i < to; i++ {
		worst = max(worst, math.Abs(float64(a[i]-b[i])))
	}
	return worst
}

// Every move gives the same in blocks of any size, never a number that is none, and a move that
// does nothing is a null.
func TestMovesInBlocks(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	x := tone(60, 1)
	for i := range x {
		x[i] += float32(0.1 * r.NormFloat64())
	}
	hits := []int{1000, 12000, 30000}
	moves := map[string]Params{
		"polarity": &Polarity{}, "nudge": &Nudge{MS: 3.217}, "nudge back": &Nudge{MS: -7.77}, "nudge by whole frames": &Nudge{MS: 10},
		"filter": &Filter{Shape: dsp.Highpass, Hz: 40, Slope: 24}, "bell": &Filter{Shape: dsp.Bell, Hz: 60, Q: 1.4, DB: -5},
		"fade": &Fade{Trigger: "k", From: 50, To: 120}, "tune a kick": &Tune{Cents: 300, Trigger: "k"}, "tune a kick down": &Tune{Cents: -500, Trigger: "k"},
		"tune a line": &Tune{Cents: -17, Notes: []NoteTune{{At: 0.1}, {At: 0.5, Cents: 60}}}, "tune": &Tune{Cents: 40},
	}
	for name, p := range moves {
		place := Place{Rate: testRate, BPM: 120, Hits: hits}
		whole := through(t, p, place, x, len(x)*2)
		for _, block := range []int{64, 4096, 10007} {
			if d := off(whole, through(t, p, place, x, block), 0, len(x)); d > 1e-6 {
				t.Errorf("%s: blocks of %d differ by %g", name, block, d)
			}
		}
		for i, v := range whole {
			if v-v != 0 {
				t.Fatalf("%s: frame %d is no number", name, i)
			}
		}
	}
	for name, p := range map[string]Params{"nudge": &Nudge{}, "tune": &Tune{}, "bell": &Filter{Shape: dsp.Bell, Hz: 100, Q: 1}, "kick": &Tune{Trigger: "k"}} {
		y := through(t, p, Place{Rate: testRate, Hits: []int{0}}, x, 4096)
		if d := off(x, y, 0, len(x)-200); d > 1e-6 {
			t.Errorf("%s of nothing changes the sound by %g", name, d)
		}
	}
}

// A nudge of a tone is the tone at another time, to fractions of a sample (closed form).
func TestNudge(t *testing.T) {
	x := tone(1000, 0.5)
	for _, ms := range []float64{0.0113, 1, 2.5, -2.5, -0.3, 11.9999} {
		y := through(t, &Nudge{MS: ms}, Place{Rate: testRate}, x, 512)
		for i := 3000; i < len(y)-3000; i++ {
			want := 0.5 * math.Sin(2*math.Pi*1000*(float64(i)/testRate-ms/1000))
			if math.Abs(float64(y[i])-want) > 2e-4 {
				t.Fatalf("%g ms: %g at frame %d, want %g", ms, y[i], i, want)
			}
		}
	}
}

// A tuned tone has the frequency that the cents say, and the length it had; struck sounds are
// read from their hits, and are silent between their end and the next.
func TestTune(t *testing.T) {
	crossings := func(x []float32) float64 { // Hz, from the first to the last rising zero
		first, last, n := -1.0, 0.0, 0
		for i := 1; i < len(x); i++ {
			if x[i-1] < 0 && x[i] >= 0 {
				at := float64(i) - float64(x[i])/float64(x[i]-x[i-1])
				if first < 0 {
					first = at
				} else {
					n++
				}
				last = at
			}
		}
		return float64(n) / (last - first) * testRate
	}
	for _, cents := range []float64{-17, 17, 50, -100, 300} {
		for _, hz := range []float64{43.65, 55, 98} {
			x := tone(hz, 4)
			y := through(t, &Tune{Cents: cents, Notes: []NoteTune{{At: 0}}}, Place{Rate: testRate}, x, 4096)
			got := crossings(y[2000 : len(y)-8000])
			if d := 1200*math.Log2(got/hz) - cents; math.Abs(d) > 2 {
				t.Errorf("%g Hz by %g cents comes to %.3f Hz, %.2f cents off", hz, cents, got, d)
			}
			peak, low := 0.0, 1.0 // a step in the wrong place would cancel
			for at := 4000; at+2000 < len(y)-8000; at += 1000 {
				top := 0.0
				for _, v := range y[at : at+2000] {
					top = max(top, math.Abs(float64(v)))
				}
				peak, low = max(peak, top), min(low, top)
			}
			if low < 0.45 || peak > 0.55 {
				t.Errorf("%g Hz by %g cents swings between %.2f and %.2f", hz, cents, low, peak)
			}
		}
	}
	// a hit of a decaying tone, read faster: the same function of a faster time
	const h, cents = 5000, 400.0
	x := make([]float32, testRate)
	struck := func(s float64) float64 { return 0.5 * math.Sin(2*math.Pi*60*s) * math.Exp(-s/0.05) }
	for i := h; i < len(x); i++ {
		x[i] = float32(struck(float64(i-h) / testRate))
	}
	y := through(t, &Tune{Cents: cents, Trigger: "k"}, Place{Rate: testRate, Hits: []int{h, 30000}}, x, 999)
	for i := h + 40; i < 20000; i++ {
		want := struck(float64(i-h) / testRate * math.Pow(2, cents/1200))
		if math.Abs(float64(y[i])-want) > 2e-3 {
			t.Fatalf("frame %d after the hit: %g, want %g", i-h, y[i], want)
		}
	}
}

// The cookbook's filters against its formulae in scipy's hands, and Butterworth cascades against
// scipy.signal.butter: within 0.01 dB.
func TestFilterAgainstSciPy(t *testing.T) {
	hz := []float64{20, 35, 60, 90, 150, 400, 1000, 4000, 12000}
	for _, f := range []*Filter{
		{Shape: dsp.Highpass, Hz: 37, Slope: 12}, {Shape: dsp.Highpass, Hz: 30, Slope: 48}, {Shape: dsp.Lowpass, Hz: 120, Slope: 24},
		{Shape: dsp.Bell, Hz: 52, Q: 1.2, DB: -5.5}, {Shape: dsp.LowShelf, Hz: 100, Q: 0.7, DB: 4}, {Shape: dsp.HighShelf, Hz: 3000, Q: 0.9, DB: -7},
	} {
		var want []float64
		outside.Python(t, `
import json, sys
import numpy as np
from scipy import signal
d = json.load(sys.stdin)
fs, f0, q, g, w = d["fs"], d["Hz"], d["Q"] or 1, d["DB"], np.array(d["at"])
if d["Shape"] in ("highpass", "lowpass"):
    sos = signal.butter(d["Slope"] // 6, f0, d["Shape"], fs=fs, output="sos")
    _, h = signal.sosfreqz(sos, w, fs=fs)
else:  # audio EQ cookbook, written down anew
    A = 10 ** (g / 40); w0 = 2 * np.pi * f0 / fs; c = np.cos(w0); al = np.sin(w0) / (2 * q); r = 2 * np.sqrt(A) * al
    if d["Shape"] == "bell":
        b, a = [1 + al * A, -2 * c, 1 - al * A], [1 + al / A, -2 * c, 1 - al / A]
    elif d["Shape"] == "lowshelf":
        b = [A * ((A + 1) - (A - 1) * c + r), 2 * A * ((A - 1) - (A + 1) * c), A * ((A + 1) - (A - 1) * c - r)]
        a = [(A + 1) + (A - 1) * c + r, -2 * ((A - 1) + (A + 1) * c), (A + 1) + (A - 1) * c - r]
    else:
        b = [A * ((A + 1) + (A - 1) * c + r), -2 * A * ((A - 1) + (A + 1) * c), A * ((A + 1) + (A - 1) * c - r)]
        a = [(A + 1) - (A - 1) * c + r, 2 * ((A - 1) - (A + 1) * c), (A + 1) - (A - 1) * c - r]
    _, h = signal.freqz(b, a, w, fs=fs)
print(json.dumps(list(20 * np.log10(np.abs(h)))))
`, map[string]any{"Shape": f.Shape, "Hz": f.Hz, "Q": f.Q, "DB": f.DB, "Slope": f.Slope, "fs": testRate, "at": hz}, &want)
		s, err := f.Sections(testRate)
		if err != nil {
			t.Fatal(err)
		}
		for i, at := range hz {
			h := dsp.Response(s, at, testRate)
			if got := 10 * math.Log10(real(h)*real(h)+imag(h)*imag(h)); math.Abs(got-want[i]) > 0.01 && want[i] > -120 {
				t.Errorf("%s at %g Hz: %.3f dB at %g Hz, scipy %.3f", f.Shape, f.Hz, got, at, want[i])
			}
		}
	}
}

// The two halves of a Linkwitz-Riley crossover are -6.02 dB at the corner and sum flat.
func TestLinkwitzRiley(t *testing.T) {
	low, high, err := dsp.LinkwitzRiley(120, testRate)
	if err != nil {
		t.Fatal(err)
	}
	db := func(h complex128) float64 { return 10 * math.Log10(real(h)*real(h)+imag(h)*imag(h)) }
	if got := db(dsp.Response(low, 120, testRate)); math.Abs(got+6.0206) > 0.01 {
		t.Errorf("%.3f dB at the corner", got)
	}
	for hz := 10.0; hz < 20000; hz *= 1.1 {
		if got := db(dsp.Response(low, hz, testRate) + dsp.Response(high, hz, testRate)); math.Abs(got) > 0.01 {
			t.Errorf("the sum is %.4f dB at %g Hz", got, hz)
		}
	}
}

// A fade is 1, then half a cosine, then silence, from each hit anew (closed form).
func TestFade(t *testing.T) {
	ones := make([]float32, testRate)
	for i := range ones {
		ones[i] = 1
	}
	f := &Fade{Trigger: "k", From: 40, To: 140}
	y := through(t, f, Place{Rate: testRate, Hits: []int{4410, 22050}}, ones, 777)
	for ms, want := range map[float64]float64{-50: 1, 10: 1, 39: 1, 90: 0.5, 139.99: 0, 200: 0, 399.99: 1, 410: 1, 490: 0.5} {
		if got := float64(y[4410+int(ms*44.1)]); math.Abs(got-want) > 0.03 { // the millisecond before a hit comes in
			t.Errorf("%g ms after the first hit: %g, want %g", ms, got, want)
		}
	}
}

// Values out of their range are refused in words.
func TestRefusedMoves(t *testing.T) {
	for _, p := range []Params{
		&Nudge{MS: 200}, &Nudge{MS: math.NaN()}, &Tune{Cents: 2000}, &Tune{Notes: []NoteTune{{At: 1}, {At: 1}}}, &Tune{Cents: math.Inf(1)},
		&Filter{Shape: "notch", Hz: 50}, &Filter{Shape: dsp.Highpass, Hz: 5, Slope: 12}, &Filter{Shape: dsp.Highpass, Hz: 50, Slope: 18},
		&Filter{Shape: dsp.Bell, Hz: 50, Q: 0}, &Filter{Shape: dsp.Bell, Hz: 50, Q: 1, DB: 40}, &Fade{From: 50, To: 50}, &Fade{From: -1, To: 50},
	} {
		if err := Validate(p); err == nil {
			t.Errorf("%+v is taken", p)
		}
		if _, err := p.Processor(Place{Rate: testRate}); err == nil {
			t.Errorf("%+v is carried out", p)
		}
	}
}

// A combined sample split into head and tail, neither of them changed, is the sample: the two null against
// it under -90 dB (far under, with complementary gains).
func TestPartsAreTheWhole(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	x := make([]float32, testRate)
	for i := range x {
		x[i] = float32(0.3 * r.NormFloat64())
	}
	place := Place{Rate: testRate, Hits: []int{3000, 15000, 30000}}
	head := through(t, &Part{Keep: Head, Trigger: "k", At: 90, Fade: 20}, place, x, 1000)
	tail := through(t, &Part{Keep: Tail, Trigger: "k", At: 90, Fade: 20}, place, x, 333)
	worst := 0.0
	for i, v := range x {
		worst = max(worst, math.Abs(float64(head[i]+tail[i]-v)))
	}
	if db := 20 * math.Log10(worst+1e-12); db > -90 {
		t.Errorf("head and tail miss the whole by %.1f dB", db)
	}
	at := func(ms float64) int { return 3000 + int(ms*testRate/1000) }
	if head[at(60)] != x[at(60)] || tail[at(60)] != 0 || head[at(150)] != 0 || tail[at(150)] != x[at(150)] {
		t.Error("the parts do not lie where they should")
	}
	for _, bad := range []*Part{{Keep: "middle", At: 90, Fade: 20}, {Keep: Head, At: 5, Fade: 20}, {Keep: Head, At: 90, Fade: 0}, {Keep: Tail, At: 1e6,
		Fade: 20}} {
		if Validate(bad) == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}
