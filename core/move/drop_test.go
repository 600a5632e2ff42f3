package move

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

// pluck is a line of notes with harmonics, dying away.
func pluck(rate int, seconds float64, notes []DropNote) audio.Buffer {
	x := audio.New(rate, 1, int(seconds*float64(rate)))
	for _, n := range notes {
		from, to := int(math.Round(n.At*float64(rate))), int(math.Round(n.End*float64(rate)))
		for i := from; i < to && i < len(x.Ch[0]); i++ {
			s := float64(i-from) / float64(rate)
			edge := math.Min(1, math.Min(s/0.005, float64(to-i)/float64(rate)/0.01))
			w := 2 * math.Pi * n.Hz * s
			x.Ch[0][i] += float32(0.4 * edge * math.Exp(-s/1.5) * (math.Sin(w) + 0.3*math.Sin(2*w) + 0.1*math.Sin(3*w)))
		}
	}
	return x
}

// The pitch at every time is that of the law within 3 cents, read by scipy (the phase of the analytic signal of the band about
// the fundamental); the length stays, no step stands out over the notes' own, what no note falls in is a null, and it is as
// loud.
func TestDropFollowsItsLaw(t *testing.T) {
	outside.Slow(t)
	notes := []DropNote{{0.2, 1.2, 55}, {1.2, 2.2, 41.2}, {2.5, 3.5, 98}}
	const rate = 44100
	x := pluck(rate, 4, notes)
	for _, d := range []*Drop{
		{From: DropStart, Semitones: 12, MS: 400, Curve: "straight", Notes: notes}, {From: DropStart, Semitones: 7, MS: 600, Curve: "early", Notes: notes},
		{From: DropRelease, Semitones: 12, MS: 500, Curve: "late", Notes: notes}, {From: DropRelease, Semitones: 5, MS: 800, Curve: "straight", Notes: notes},
	} {
		y := behind(t, d, x)
		if y.Frames() != x.Frames() {
			t.Fatalf("%d frames of %d", y.Frames(), x.Frames())
		}
		ideal, at, about := make([]float32, y.Frames()), []float64{}, []float64{} // the fundamental by the law, written out
		for _, n := range notes {
			phase := 0.0
			for i := int(n.At * float64(rate)); i < int(n.End*float64(rate)); i++ {
				s := float64(i)/float64(rate) - n.At
				ideal[i] = float32(math.Exp(-s/1.5) * math.Sin(phase))
				phase += 2 * math.Pi * n.Hz / float64(rate) * math.Exp2(d.Offset(n, float64(i)/float64(rate))/12)
			}
			for s := n.At + 0.1; s < n.End-0.16; s += 0.03 {
				at, about = append(at, s), append(about, n.Hz*math.Exp2(d.Offset(n, s)/12))
			}
		}
		var got [2][]float64
		outside.Python(t, `
import json, sys
import numpy as np
from scipy.signal import hilbert
q = json.load(sys.stdin)
fs = q["rate"]
def hz(x, a, w): # the slope of the phase of the analytic signal about the fundamental, over two periods
    m, c = int(0.16 * fs), int(round(a * fs))
    s = x[max(0, c - m):c + m]
    f = np.fft.rfftfreq(len(s), 1 / fs)
    S = np.fft.rfft(s * np.hanning(len(s)))
    S[(f < 0.55 * w) | (f > 1.6 * w)] = 0
    p = np.unwrap(np.angle(hilbert(np.fft.irfft(S, len(s)))))
    k, j = int(fs / w), c - max(0, c - m)
    return float(np.polyfit(np.arange(-k, k + 1) / fs, p[j - k:j + k + 1], 1)[0] / (2 * np.pi))
print(json.dumps([[hz(np.array(x), a, w) for a, w in zip(q["at"], q["about"])] for x in (q["x"], q["ideal"])]))
`, map[string]any{"x": y.Ch[0], "ideal": ideal, "rate": rate, "at": at, "about": about}, &got)
		worst, where := 0.0, 0.0
		for i := range at {
			if c := math.Abs(1200 * math.Log2(got[0][i]/got[1][i])); c > worst {
				worst, where = c, at[i]
			}
		}
		t.Logf("%s: within %.2f cents of the law", Words(d), worst)
		if worst > 3 {
			t.Errorf("%s at %d Hz: %.2f cents off the law at %.2f s", Words(d), rate, worst, where)
		}
		step := func(b audio.Buffer) float64 { // the largest jump of the second difference
			top := 0.0
			for i := 2; i < b.Frames(); i++ {
				top = math.Max(top, math.Abs(float64(b.Ch[0][i]-2*b.Ch[0][i-1]+b.Ch[0][i-2])))
			}
			return top
		}
		faster := 1.0
		if d.From == DropStart {
			faster = math.Exp2(d.Semitones / 6) // what is read so much faster bends so much more
		}
		if a, b := step(x), step(y); b > 1.5*faster*a {
			t.Errorf("%s: a step of %g, the notes' own are %g", Words(d), b, a)
		}
		if db := dsp.DB(goertzelRMS(y) / goertzelRMS(x)); math.Abs(db) > 0.6 {
			t.Errorf("%s: %.2f dB louder", Words(d), db)
		}
		for i := rate * 23 / 10; i < rate*245/100; i++ {
			if y.Ch[0][i] != x.Ch[0][i] {
				t.Fatalf("%s: between two notes it is no null", Words(d))
			}
		}
	}
	none := &Drop{From: DropStart, Semitones: 0, MS: 100, Curve: "straight", Notes: notes}
	if d := farthest(behind(t, none, x), x); d != 0 {
		t.Errorf("of no semitones it is off by %g", d)
	}
}

func goertzelRMS(b audio.Buffer) float64 {
	sum := 0.0
	for _, v := range b.Ch[0] {
		sum += float64(v) * float64(v)
	}
	return math.Sqrt(sum / float64(b.Frames()))
}

// What comes out is the closed form: a sine whose phase is the integral of the law.
func TestDropIsTheClosedForm(t *testing.T) {
	const rate, hz = 48000, 50.0
	d := &Drop{From: DropRelease, Semitones: 12, MS: 300, Curve: "straight", Notes: []DropNote{{0, 1, hz}}}
	x := outside.Sine(rate, 1, hz, 0.5, 1.2, 0)
	y := behind(t, d, x)
	phase, worst := 0.0, 0.0
	for i := range rate - rate/50 {
		if i > rate/20 {
			worst = math.Max(worst, math.Abs(float64(y.Ch[0][i])-0.5*math.Sin(phase)))
		}
		phase += 2 * math.Pi * hz / rate * math.Exp2(d.Offset(d.Notes[0], (float64(i)+0.5)/rate)/12)
	}
	if worst > 0.01 {
		t.Errorf("it is off the closed form by %.4f of 0.5", worst)
	}
}

// A tone under every hit: its pitch and level are what is asked, its fall is 60 dB in its length, each hit's own; silent it is a null.
func TestSub(t *testing.T) {
	x := audio.New(44100, 2, 2*44100)
	y := behind(t, &Sub{Trigger: "k", Hz: 40, Level: -12, Attack: 1, Length: 900}, x, 4410, 48510)
	for c := range y.Ch {
		for k, at := range []int{4410, 48510} {
			for i, v := range y.Ch[c][at : at+22050] {
				s := float64(i) / 44100
				want := dsp.Gain(-12) * math.Sin(2*math.Pi*40*s) * (1 - math.Exp(-s/0.001)) * math.Pow(10, -3*s/0.9)
				if math.Abs(float64(v)-want) > 1e-5 {
					t.Fatalf("hit %d, %.3f s after it: %g, want %g", k, s, v, want)
				}
			}
		}
		for _, v := range y.Ch[c][:4410] {
			if v != 0 {
				t.Fatal("it sounds before the first hit")
			}
		}
	}
	z := noisy(44100, 1)
	if d := farthest(behind(t, &Sub{Trigger: "k", Hz: 40, Level: -60, Attack: 1, Length: 900}, z, 4410), z); d != 0 {
		t.Errorf("silent, it is off by %g", d)
	}
}
