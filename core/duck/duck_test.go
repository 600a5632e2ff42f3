package duck

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

const rate = 44100

// pattern makes a kick with hits at those times, and a bass of one steady note.
func pattern(hits []float64, seconds, kickHz, decay, bassHz, bassLevel float64) (kick, bass audio.Buffer) {
	kick = audio.New(rate, 1, int(seconds*rate))
	for _, h := range hits {
		from := int(h * rate)
		for i := range int(0.6 * rate) {
			if from+i >= kick.Frames() {
				break
			}
			t := float64(i) / rate
			kick.Ch[0][from+i] += float32(0.8 * math.Sin(2*math.Pi*(kickHz*t+1.2*(1-math.Exp(-t/0.008)))) * math.Exp(-t/decay))
		}
	}
	return kick, outside.Sine(rate, 1, bassHz, bassLevel, seconds, 0)
}

func even(from, gap float64, n int) []float64 {
	h := make([]float64, n)
	for i := range h {
		h[i] = from + gap*float64(i)
	}
	return h
}

func clearOf(t *testing.T, kick, bass audio.Buffer, targets session.Targets) *Cleared {
	t.Helper()
	c, err := Clear(context.Background(), audio.Memory{Buffer: kick}, audio.Memory{Buffer: bass}, Options{Targets: targets})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// The fit reaches its target in 9 of 10 hits, is back in time, does not click, and says how.
func TestFitReaches(t *testing.T) {
	kick, bass := pattern(even(0.3, 0.45, 16), 8, 52, 0.08, 46, 0.3)
	c := clearOf(t, kick, bass, session.DefaultTargets())
	if !c.Duck.Needed || !c.Duck.Reached {
		t.Fatalf("%+v", c.Duck)
	}
	if c.Before.ClearanceP10 >= 8 || c.After.ClearanceP10 < 8 || c.After.Under(8) > 1 {
		t.Errorf("before %.2f, after %.2f, %d under", c.Before.ClearanceP10, c.After.ClearanceP10, c.After.Under(8))
	}
	if !c.Duck.BackBefore || c.Duck.Steepest > move.ClickDB || -c.Duck.Depth > 12 {
		t.Errorf("%+v", c.Duck)
	}
	if c.After.ClearanceP10 > 8.6 {
		t.Errorf("more than asked: %.2f dB", c.After.ClearanceP10)
	}
	if len(c.Before.Hits) != 16 || len(c.After.Hits) != 16 {
		t.Errorf("%d and %d hits", len(c.Before.Hits), len(c.After.Hits))
	}
}

func TestNoDuckNeeded(t *testing.T) {
	kick, bass := pattern(even(0.3, 0.45, 16), 8, 52, 0.08, 46, 0.3*math.Pow(10, -30.0/20))
	c := clearOf(t, kick, bass, session.DefaultTargets())
	if c.Duck.Needed || c.Move != nil || !strings.Contains(c.Duck.Reason, "No duck needed") {
		t.Errorf("%+v", c.Duck)
	}
	for i, v := range c.Ducked.Ch[0] {
		if v != bass.Ch[0][i] {
			t.Fatal("the bass was changed all the same")
		}
	}
}

// Where the cap stops it, the sentence says with which it is reached, and with that one it is.
func TestCapIsNamed(t *testing.T) {
	outside.Slow(t)
	kick, bass := pattern(even(0.3, 0.45, 16), 8, 52, 0.08, 46, 0.3)
	c := clearOf(t, kick, bass, session.Targets{Clearance: 8, MaxDepth: 1})
	if c.Duck.Reached || c.Duck.Depth < -1.01 || c.Duck.Depth > -0.95 || !strings.Contains(c.Duck.Reason, "The cap of 1.0 dB stops it") {
		t.Fatalf("%+v", c.Duck)
	}
	need := 0.0
	if _, err := fmt.Sscanf(c.Duck.Reason[strings.Index(c.Duck.Reason, "with one of"):], "with one of %f dB", &need); err != nil {
		t.Fatal(err)
	}
	if again := clearOf(t, kick, bass, session.Targets{Clearance: 8, MaxDepth: need}); !again.Duck.Reached {
		t.Errorf("with the cap of %g dB that is advised: %+v", need, again.Duck)
	}
	if c.After.ClearanceP10 <= c.Before.ClearanceP10 {
		t.Error("the best reachable is no better than nothing")
	}
}

func TestGapIsNamed(t *testing.T) {
	kick, bass := pattern(even(0.3, 0.055, 40), 4, 52, 0.3, 52, 0.8)
	c := clearOf(t, kick, bass, session.Targets{Clearance: 16, MaxDepth: 48})
	if c.Duck.Reached || !strings.Contains(c.Duck.Reason, "closest hits") {
		t.Errorf("%s", c.Duck.Reason)
	}
	if !c.Duck.BackBefore {
		t.Error("the best reachable is not back in time")
	}
}

// One wrong hit, a little after a true one, stops a curve that has to be back in between: it is named, and without it
// the goal is reached.
func TestWrongHitIsNamed(t *testing.T) {
	at := even(0.3, 0.5, 8)
	kick, bass := pattern(at, 4.5, 52, 0.12, 49, 0.4)
	build := func(hits []float64) *meter.HitMeter {
		var frames []int
		for _, h := range hits {
			frames = append(frames, int(h*rate))
		}
		m, err := meter.NewHitMeter(kick.Ch[0], rate, frames, 52, meter.Range{To: kick.Frames()})
		if err != nil {
			t.Fatal(err)
		}
		return m
	}
	goal := Goal{Clearance: 8, MaxDepth: 14}
	wrong := append(append(append([]float64{}, at[:4]...), at[3]+0.06), at[4:]...)
	f, err := Fit(build(wrong), meter.Held(bass.Ch[0]), goal)
	if err != nil || f.Reached || !strings.Contains(f.Reason, "Without the hit at 1.86 s it is reached") {
		t.Fatalf("%+v, %v", f, err)
	}
	if f, err := Fit(build(at), meter.Held(bass.Ch[0]), goal); err != nil || !f.Reached {
		t.Errorf("without it: %+v, %v", f, err)
	}
}

// Where some hits are close, a way back that follows the gaps reaches what one for all does not, or loses less bass; it
// keeps every rule, and without close hits it is the same curve.
func TestFitFollowsTheGap(t *testing.T) {
	at := []float64{0.3, 0.8, 1.3, 1.41, 1.8, 2.3, 2.8, 2.9, 3.3, 3.8, 4.3, 4.8, 4.92, 5.3}
	kick, bass := pattern(at, 6, 52, 0.11, 49, 0.35)
	ask := session.Targets{Clearance: 7, MaxDepth: 14}
	one := clearOf(t, kick, bass, ask)
	ask.Follow = true
	each := clearOf(t, kick, bass, ask)
	holds(t, 0, move.CurveSchool, each, ask)
	if !each.Duck.Reached {
		t.Fatalf("%s", each.Duck.Reason)
	}
	t.Logf("one for all: %v, %.2f dB lost; following: %.2f dB lost. %s", one.Duck.Reached, one.Duck.BassLossLow, each.Duck.BassLossLow, each.Duck.Reason)
	if one.Duck.Reached && one.Duck.BassLossLow < each.Duck.BassLossLow {
		t.Errorf("following loses %.2f dB, one for all %.2f", each.Duck.BassLossLow, one.Duck.BassLossLow)
	}
	if !strings.Contains(each.Duck.Reason, "as the gap to the next hit lets it") {
		t.Errorf("%s", each.Duck.Reason)
	}
}

// Random songs: the goal is met within every bound, or the reason says what stands in the way.
func TestFitProperties(t *testing.T) {
	outside.Slow(t)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range 12 {
		var hits []float64
		for at := 0.2; at < 5; at += 0.15 + 0.5*r.Float64() {
			hits = append(hits, at)
		}
		goal := session.Targets{Clearance: 4 + 8*r.Float64(), MaxDepth: 4 + 14*r.Float64()}
		kick, bass := pattern(hits, 5.5, 45+20*r.Float64(), 0.04+0.08*r.Float64(), 33+30*r.Float64(), 0.05+0.3*r.Float64())
		for _, k := range move.Schools {
			c, err := Clear(context.Background(), audio.Memory{Buffer: kick}, audio.Memory{Buffer: bass}, Options{BPM: 120, School: k.School, Targets: goal})
			if err != nil {
				t.Fatalf("%d, %s: %v", i, k.School, err)
			}
			holds(t, i, k.School, c, goal)
		}
	}
}

// holds checks what any fit promises.
func holds(t *testing.T, i int, school string, c *Cleared, goal session.Targets) {
	t.Helper()
	p10 := float64(c.After.ClearanceP10)
	switch {
	case !c.Duck.Needed && p10 < goal.Clearance:
		t.Errorf("%d, %s: not needed at %.2f of %.2f dB", i, school, p10, goal.Clearance)
	case c.Duck.Needed && c.Duck.Reached && p10 < goal.Clearance:
		t.Errorf("%d, %s: reached at %.2f of %.2f dB", i, school, p10, goal.Clearance)
	case !c.Duck.Reached && c.Duck.Reason == "":
		t.Errorf("%d, %s: not reached, and no reason", i, school)
	}
	rounding := meter.Figure(1e-9)
	if school != move.CurveSchool { // the trial at the low rate reads a key's peaks a little differently
		rounding = 0.15
	}
	if -c.Duck.Depth > meter.Figure(goal.MaxDepth)+rounding || !c.Duck.BackBefore || c.Duck.Steepest > move.ClickDB {
		t.Errorf("%d, %s: out of bounds: %+v", i, school, c.Duck)
	}
	if c.Duck.Needed && c.Duck.BassLossLow < 0 {
		t.Errorf("%d, %s: a duck that gives bass: %+v", i, school, c.Duck)
	}
}

// An independent script (scipy) measures the exported file by the definitions of 3-sound
// and comes to the app's clearance within 0.2 dB at every hit.
func TestClearanceByAnIndependentScript(t *testing.T) {
	kick, bass := pattern(even(0.3, 0.45, 12), 6, 52, 0.08, 46, 0.3)
	c := clearOf(t, kick, bass, session.DefaultTargets())
	var want struct{ Before, After, Curve []float64 }
	rows, err := Curve(c.Move, 120)
	if err != nil {
		t.Fatal(err)
	}
	var curve [][2]float64
	for _, r := range rows {
		curve = append(curve, [2]float64{r.MS, r.DB})
	}
	outside.Python(t, `
import json, sys
import numpy as np
from scipy import signal
from scipy.io import wavfile
req = json.load(sys.stdin)
def load(p):
    fs, x = wavfile.read(p)
    return fs, x.astype(np.float64) / (2.0**31 if x.dtype == np.int32 else 1.0)
fs, k = load(req["kick"])
f = req["home"]
sos = signal.butter(2, [f/np.sqrt(2), f*np.sqrt(2)], "bandpass", fs=fs, output="sos")
hk = signal.sosfilt(sos, k)
a = np.exp(-1/(0.005*fs))
sm = signal.lfilter([1-a], [1, -a], hk**2)
def clear(b):
    hb = signal.sosfilt(sos, b)
    out = []
    hits = [int(round(h*fs)) for h in req["hits"]]
    for i, h in enumerate(hits):
        gap = (hits[i+1] if i+1 < len(hits) else len(k)) - h
        seg = sm[h:h+min(gap, int(0.5*fs))]
        top = int(np.argmax(seg))
        under = np.nonzero(seg[top:] <= 0.01*seg[top])[0]
        L = top + int(under[0]) if len(under) else len(seg)
        L = min(max(L, int(0.04*fs)), int(0.2*fs), gap)
        out.append(float(10*np.log10(np.sum(hk[h:h+L]**2)/np.sum(hb[h:h+L]**2))))
    return out
# the exported curve (ms, dB) laid at every hit by hand; where two overlap the lower counts
bass = load(req["bass"])[1]
gain = np.zeros(len(bass))
rows = np.array(req["curve"])
for h in req["hits"]:
    n = np.arange(max(0, int((h + rows[0, 0] / 1000) * fs)), min(len(bass), int((h + rows[-1, 0] / 1000) * fs)))
    gain[n] = np.minimum(gain[n], np.interp(1000 * (n / fs - h), rows[:, 0], rows[:, 1]))
json.dump({"before": clear(bass), "after": clear(load(req["ducked"])[1]), "curve": clear(bass * 10 ** (gain / 20))}, sys.stdout)
`, map[string]any{
		"kick":   outside.WriteWAV(t, "kick.wav", kick, wav.Float32),
		"bass":   outside.WriteWAV(t, "bass.wav", bass, wav.Float32),
		"ducked": outside.WriteWAV(t, "ducked.wav", c.Ducked, wav.Int24),
		"home":   float64(c.Kick.Fundamental),
		"hits":   times(c.Before),
		"curve":  curve,
	}, &want)
	for i := range c.Before.Hits {
		for side, pair := range map[string][2]float64{
			"curve":  {float64(c.After.Hits[i].Clearance), want.Curve[i]},
			"before": {float64(c.Before.Hits[i].Clearance), want.Before[i]},
			"after":  {float64(c.After.Hits[i].Clearance), want.After[i]},
		} {
			if math.Abs(pair[0]-pair[1]) > 0.2 {
				t.Errorf("hit %d %s: %.3f dB, the script %.3f", i, side, pair[0], pair[1])
			}
		}
	}
}

// drawn is a curve through points of ms and dB.
func drawn(p ...float64) *move.Duck {
	d := &move.Duck{School: move.CurveSchool}
	for i := 0; i < len(p); i += 2 {
		d.Points = append(d.Points, move.Point{MS: p[i], DB: p[i+1]})
	}
	return d
}

func times(f meter.HitFigures) []float64 {
	var at []float64
	for _, h := range f.Hits {
		at = append(at, h.At)
	}
	return at
}

// gainOf lays a curve at the hits of m.
func gainOf(t *testing.T, d *move.Duck, m *meter.HitMeter) []float32 {
	t.Helper()
	g, err := d.Gain(move.Place{Rate: m.Rate, BPM: 120, Hits: m.Hits, Start: m.Range.From}, m.Range.To-m.Range.From)
	if err != nil {
		t.Fatal(err)
	}
	return g
}

func TestReadoutBackAndSlope(t *testing.T) {
	kick, _ := pattern(even(0.3, 0.2, 5), 2, 52, 0.05, 46, 0.3)
	var frames []int
	for _, h := range even(0.3, 0.2, 5) {
		frames = append(frames, int(h*rate))
	}
	m, err := meter.NewHitMeter(kick.Ch[0], rate, frames, 52, meter.Range{From: 0, To: kick.Frames()})
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		d     *move.Duck
		back  int
		slope float64
	}{
		{drawn(-4, 0, 0, -6, 100, -6, 160, 0), 4, 6. / 4},
		{drawn(-4, 0, 0, -6, 150, -6, 230, 0), 0, 6. / 4},
		{&move.Duck{School: "curve", Points: []move.Point{{MS: -1}, {MS: 0, DB: -8}, {MS: 100}}}, 4, 8},
		// exponential segment: its steepest end has k/(1-e^-k) times the mean slope, k = 3
		{&move.Duck{School: "curve", Points: []move.Point{{MS: -10}, {MS: 0, DB: -6}, {MS: 60, Bend: 0, DB: -6}, {MS: 100, DB: 0}}}, 4, 0.6},
		{&move.Duck{School: "curve", Points: []move.Point{{MS: -10, Bend: 0.5}, {MS: 0, DB: -6}, {MS: 100, DB: 0}}}, 4, 0.6 * 3 / (1 - math.Exp(-3))},
	} {
		r, err := pair.Read(
			c.d,
			120,
			m,
			meter.Held(gainOf(t, c.d, m)),
			pair.Sides{Loudness: -20, Low: 2, SumPeak: -3},
			pair.Sides{Loudness: -21.5, Low: 1, SumPeak: -5},
		)
		if err != nil {
			t.Fatal(err)
		}
		if r.Back != c.back || r.Of != 4 || len(r.Late) != 4-c.back {
			t.Errorf("%+v: back %d of %d, late %v", c.d.Points, r.Back, r.Of, r.Late)
		}
		if math.Abs(float64(r.Steepest)-c.slope) > 0.01*c.slope {
			t.Errorf("%+v: steepest %.3f dB/ms, want %.3f", c.d.Points, r.Steepest, c.slope)
		}
		if r.BassLoss != 1.5 || math.Abs(float64(r.BassLossLow)-3.0103) > 1e-4 || r.Freed != 2 {
			t.Errorf("losses %+v", r)
		}
	}
}

// Share under -3 dB in closed form: a curve straight in dB from 0 to -6 and back is under
// -3 for the second half of its fall, its hold, and the first half of its rise.
func TestShare(t *testing.T) {
	kick, _ := pattern([]float64{0.5}, 1, 52, 0.05, 46, 0.3)
	m, err := meter.NewHitMeter(kick.Ch[0], rate, []int{rate / 2}, 52, meter.Range{From: 0, To: kick.Frames()})
	if err != nil {
		t.Fatal(err)
	}
	d := &move.Duck{School: "curve", Points: []move.Point{{MS: -20}, {MS: 0, DB: -6}, {MS: 100, DB: -6}, {MS: 140}}}
	r, err := pair.Read(d, 120, m, meter.Held(gainOf(t, d, m)), pair.Sides{Low: 1}, pair.Sides{Low: 1})
	if want := 13.0; err != nil || math.Abs(float64(r.Share)-want) > 0.05 {
		t.Errorf("%.3f %%, want %.1f, %v", r.Share, want, err)
	}
}

func TestCurveRows(t *testing.T) {
	d := &move.Duck{School: "curve", Points: []move.Point{{MS: -2.5}, {MS: 0, DB: -6}, {MS: 3.2, DB: -6}, {MS: 10, Note: "1/64"}}}
	rows, err := Curve(d, 120) // 1/64 at 120 bpm is 31.25 ms
	if err != nil {
		t.Fatal(err)
	}
	first, last := rows[0], rows[len(rows)-1]
	if first != (CurveRow{-2.5, 0}) || last != (CurveRow{31.25, 0}) {
		t.Errorf("from %v to %v", first, last)
	}
	at, _ := d.AtTempo(120)
	for i, r := range rows {
		if math.Abs(r.DB-at.GainDB(r.MS)) > 1e-9 && r.MS != 31.25 {
			t.Errorf("row %v, the curve has %.4f", r, at.GainDB(r.MS))
		}
		if i > 0 && (r.MS <= rows[i-1].MS || r.MS-rows[i-1].MS > CurveStep+1e-9) {
			t.Errorf("from %v to %v", rows[i-1], r)
		}
	}
}

func TestClearRatesAndLengths(t *testing.T) {
	kick, bass := pattern(even(0.3, 0.45, 8), 4, 52, 0.08, 46, 0.3)
	same := clearOf(t, kick, bass, session.DefaultTargets())
	other := clearOf(t, kick, outside.Sine(48000, 2, 46, 0.3, 4, 0), session.DefaultTargets())
	if d := math.Abs(float64(same.Before.ClearanceMedian - other.Before.ClearanceMedian)); d > 0.05 || len(other.Ducked.Ch) != 2 {
		t.Errorf("a bass at 48 kHz differs by %.3f dB; %d channels", d, len(other.Ducked.Ch))
	}
	if len(other.Notes) != 1 || !strings.Contains(other.Notes[0], "resampled") {
		t.Errorf("notes %q", other.Notes)
	}
	short := bass.Slice(0, 2*rate)
	c := clearOf(t, kick, short, session.DefaultTargets())
	if len(c.Notes) != 1 || !strings.Contains(c.Notes[0], "ends 2.00 s before") || c.Ducked.Frames() != 2*rate {
		t.Errorf("notes %q, %d frames", c.Notes, c.Ducked.Frames())
	}
	if _, err := Clear(context.Background(), audio.Memory{Buffer: audio.New(rate, 1, rate)}, audio.Memory{Buffer: bass},
		Options{Targets: session.DefaultTargets()}); err == nil {
		t.Error("a silent kick was cleared")
	}
}

func BenchmarkFit(b *testing.B) {
	for _, n := range []int{16, 64} {
		b.Run(fmt.Sprintf("%d hits", n), func(b *testing.B) {
			hits := even(0.3, 0.48, n)
			kick, bass := pattern(hits, 0.3+0.48*float64(n), 52, 0.08, 46, 0.2)
			var frames []int
			for _, h := range hits {
				frames = append(frames, int(h*rate))
			}
			m, err := meter.NewHitMeter(kick.Ch[0], rate, frames, 52, meter.Range{From: 0, To: kick.Frames()})
			if err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				f, err := Fit(m, meter.Held(bass.Ch[0]), Goal{Clearance: 8, MaxDepth: 12})
				if err != nil || !f.Needed {
					b.Fatal(f, err)
				}
			}
		})
	}
}

// A fit whose asker has gone away stops soon, whichever it is, and what it came to is not kept.
func TestFitsStop(t *testing.T) {
	outside.Slow(t)
	hits := make([]float64, 120)
	for i := range hits {
		hits[i] = 0.3 + 0.2*float64(i) + 0.03*float64(i%3)
	}
	kick, bass := pattern(hits, 26, 52, 0.3, 51, 0.5)
	lib := &mix.Memory{}
	lib.Put("k", kick)
	lib.Put("b", bass)
	s := session.New("Test", 120)
	s.Rate, s.Targets.Clearance, s.Targets.MaxDepth = rate, 25, 6 // out of reach: all ways are tried
	s.Stems = []session.Stem{{ID: "k", Name: "Kick", Role: session.Kick, Audio: "k"}, {ID: "b", Name: "Bass", Role: session.Bass, Audio: "b"}}
	s.Settle()
	w := mix.Window{To: 26 * rate}
	for name, fit := range map[string]func(ctx context.Context, r *mix.Renderer) error{
		"curve": func(ctx context.Context, r *mix.Renderer) error { _, err := FitSong(ctx, r, &s, w); return err },
		"compressor": func(ctx context.Context, r *mix.Renderer) error {
			_, err := FitSchool(ctx, r, &s, w, move.CompressorSchool)
			return err
		},
		"band": func(ctx context.Context, r *mix.Renderer) error {
			_, err := FitSchool(ctx, r, &s, w, move.BandSchool)
			return err
		},
		"trade-off": func(ctx context.Context, r *mix.Renderer) error { _, err := SongTradeOff(ctx, r, &s, w); return err },
	} {
		r := mix.New(lib, 1<<28)
		plain := s.Unducked()
		if _, err := r.Pair(context.Background(), &plain, w); err != nil { // what all of them stand on
			t.Fatal(err)
		}
		ctx, stop := context.WithCancel(context.Background())
		var mu sync.Mutex
		at, last := 0.0, 0.0 // how far it was when it was stopped, and at its end
		ctx = mix.Watched(ctx, &mix.Work{Told: func(_ string, part float64) {
			mu.Lock()
			defer mu.Unlock()
			if last = part; part > 0.02 && at == 0 {
				at = part
				stop()
			}
		}})
		err := fit(ctx, r)
		stop()
		if !errors.Is(err, context.Canceled) || at == 0 || last > at+0.5 {
			t.Errorf("%s: stopped at %.2f of the way it ends at %.2f with %v", name, at, last, err)
		}
	}
}

// Fit finds the duck that reaches the goal with the least loss of bass in 20-150 Hz: the
// depth at most the cap, the gain back before the next hit, no slope that clicks, back over at
// least a period of the kick's fundamental. bass is the mono bass over the signal that m was made for.
func Fit(m *meter.HitMeter, bass meter.Sound, goal Goal) (Fitted, error) {
	before, err := m.MeasureOf(bass)
	if err != nil {
		return Fitted{}, err
	}
	t, err := lowTrial(m, bass)
	if err != nil {
		return Fitted{}, err
	}
	return t.fit(m, before, bass, goal)
}
