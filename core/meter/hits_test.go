package meter

import (
	"errors"
	"math"
	"testing"

	"mellowthump/core/audio"
)

const hitRate = 44100

// tone adds a sine from one time to another.
func tone(x []float32, hz, amplitude, from, to, phase float64) {
	for i := int(from * hitRate); i < int(to*hitRate) && i < len(x); i++ {
		x[i] += float32(amplitude * math.Sin(2*math.Pi*hz*float64(i)/hitRate+phase))
	}
}

func seconds(s float64) []float32 { return make([]float32, int(s*hitRate)) }

func meterFor(t *testing.T, kick []float32, homeHz float64, hits ...float64) *HitMeter {
	t.Helper()
	var frames []int
	for _, h := range hits {
		frames = append(frames, int(h*hitRate))
	}
	m, err := NewHitMeter(kick, hitRate, frames, homeHz, Range{From: 0, To: len(kick)})
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// Closed form: two steady tones at the same frequency in the home band have their level
// difference as clearance. The hits stand where both have long settled; their windows hold
// no whole number of cycles, which leaves some hundredths of a dB.
func TestClearanceIsTheLevelDifference(t *testing.T) {
	for _, diff := range []float64{-12, -3, 0, 6, 20} {
		kick, bass := seconds(4), seconds(4)
		tone(kick, 52, 0.5, 0, 4, 0)
		tone(bass, 52, 0.5*math.Pow(10, -diff/20), 0, 4, 1)
		f := meterFor(t, kick, 52, 1, 2, 3).Measure(bass)
		near(t, "clearance", f.ClearanceMedian, diff, 0.04)
		near(t, "worst tenth", f.ClearanceP10, diff, 0.04)
	}
	// outside the octave the filter takes it: the clearance grows
	kick, bass := seconds(4), seconds(4)
	tone(kick, 52, 0.5, 0, 4, 0)
	tone(bass, 208, 0.5, 0, 4, 0)
	if f := meterFor(t, kick, 52, 1, 2).Measure(bass); f.ClearanceMedian < 20 {
		t.Errorf("a bass two octaves up leaves %.1f dB", f.ClearanceMedian)
	}
}

// Closed form: equal tones in phase add to +3.01 dB over the sum of their energies, in
// quadrature to 0, opposite to nothing; their peaks to +6.02, +3.01 and nothing.
func TestPhaseSumAndPeakCost(t *testing.T) {
	for _, c := range []struct{ phase, sum, cost float64 }{
		{0, 3.0103, 6.0206}, {math.Pi / 2, 0, 3.0103}, {2 * math.Pi / 3, -3.0103, 0},
	} {
		kick, bass := seconds(4), seconds(4)
		tone(kick, 60, 0.4, 0, 4, 0)
		tone(bass, 60, 0.4, 0, 4, c.phase)
		f := meterFor(t, kick, 60, 1, 2, 3).Measure(bass)
		near(t, "phase sum", f.PhaseSumMedian, c.sum, 0.02)
		near(t, "peak cost", f.PeakCostMedian, c.cost, 0.02)
	}
	kick, bass := seconds(3), seconds(3)
	tone(kick, 60, 0.4, 0, 3, 0)
	tone(bass, 60, 0.4, 0, 3, math.Pi)
	if f := meterFor(t, kick, 60, 1, 2).Measure(bass); f.PhaseSumMedian > -50 {
		t.Errorf("opposite tones sum to %.1f dB", f.PhaseSumMedian)
	}
}

// Overlap: a bass at half the kick's amplitude covers a quarter of its energy; one over it
// covers all of it.
func TestOverlap(t *testing.T) {
	kick, bass := seconds(4), seconds(4)
	tone(kick, 60, 0.4, 0, 4, 0)
	tone(bass, 60, 0.2, 0, 4, 0)
	near(t, "overlap", meterFor(t, kick, 60, 1, 2).Measure(bass).OverlapMedian, 25, 0.1)
	tone(bass, 60, 0.4, 0, 4, 0)
	near(t, "overlap under a louder bass", meterFor(t, kick, 60, 1, 2).Measure(bass).OverlapMedian, 100, 0.1)
}

// Handover: the kick decays by e^(-t/tau) under a steady bass; their smoothed squares meet
// at tau ln(A/B), a little later for the filter's delay and the smoothing.
func TestHandover(t *testing.T) {
	kick, bass := seconds(4), seconds(4)
	for _, h := range []float64{1, 2} {
		from := int(h * hitRate)
		for i := from; i < from+hitRate; i++ {
			s := float64(i-from) / hitRate
			kick[i] += float32(0.8 * math.Exp(-s/0.1) * math.Sin(2*math.Pi*60*s))
		}
	}
	tone(bass, 60, 0.2, 0, 4, 0.5)
	f := meterFor(t, kick, 60, 1, 2).Measure(bass)
	want := 100 * math.Log(4) // ms
	if h := float64(f.HandoverMedian); h < want-5 || h > want+25 {
		t.Errorf("handover at %.1f ms, want %.1f and the filter's delay", h, want)
	}
	near(t, "a kick that never leads", meterFor(t, kick, 60, 1).Measure(loud(bass, 20)).HandoverMedian, 0, 0)
	if h := meterFor(t, kick, 60, 1).Measure(seconds(4)).HandoverMedian; h.Valid() {
		t.Errorf("a silent bass takes over at %.1f ms", h)
	}
}

func loud(x []float32, gain float32) []float32 {
	y := make([]float32, len(x))
	for i, v := range x {
		y[i] = v * gain
	}
	return y
}

// The window ends where the smoothed home band has fallen to 1 % of its peak, between 40 and
// 200 ms and never past the next hit.
func TestWindow(t *testing.T) {
	for _, c := range []struct{ decay, gap, least, most float64 }{
		{0.005, 1, 40, 80}, {0.04, 1, 90, 130}, {0.5, 1, 200, 200}, {0.5, 0.06, 60, 60}, {0.5, 0.03, 30, 30},
	} {
		kick := seconds(3)
		for _, h := range []float64{1, 1 + c.gap} {
			from := int(h * hitRate)
			for i := from; i < len(kick); i++ {
				s := float64(i-from) / hitRate
				kick[i] += float32(0.5 * math.Exp(-s/c.decay) * math.Sin(2*math.Pi*60*s))
			}
		}
		w := meterFor(t, kick, 60, 1, 1+c.gap).Measure(seconds(3)).Hits[0].Window
		if w < c.least-0.1 || w > c.most+0.1 {
			t.Errorf("decay %g, gap %g: window of %.1f ms, want %g to %g", c.decay, c.gap, w, c.least, c.most)
		}
	}
}

// Figures do not depend on the level of both, nor on when the song begins, nor on whether a
// mono bass stands in two channels.
func TestProperties(t *testing.T) {
	kick, bass := seconds(4), seconds(4)
	tone(kick, 55, 0.5, 1, 1.3, 0)
	tone(kick, 55, 0.5, 2, 2.3, 0)
	tone(bass, 46, 0.3, 0, 4, 0)
	a := meterFor(t, kick, 55, 1, 2).Measure(bass)
	b := meterFor(t, loud(kick, 0.25), 55, 1, 2).Measure(loud(bass, 0.25))
	near(t, "clearance a quarter as loud", b.ClearanceMedian, float64(a.ClearanceMedian), 1e-4)
	near(t, "overlap a quarter as loud", b.OverlapMedian, float64(a.OverlapMedian), 1e-4)
	shifted := append(make([]float32, 1000), kick...)
	later, err := NewHitMeter(shifted, hitRate, []int{hitRate + 1000, 2*hitRate + 1000}, 55, Range{From: 0, To: len(shifted)})
	if err != nil {
		t.Fatal(err)
	}
	c := later.Measure(append(make([]float32, 1000), bass...))
	near(t, "clearance 1000 frames later", c.ClearanceMedian, float64(a.ClearanceMedian), 0.05)
	stereo := audio.Buffer{Rate: hitRate, Ch: [][]float32{bass, bass}}
	d := meterFor(t, kick, 55, 1, 2).Measure(stereo.Mono())
	near(t, "clearance of the mono sum of two equal channels", d.ClearanceMedian, float64(a.ClearanceMedian), 1e-4)
	short := meterFor(t, kick, 55, 1, 2).Measure(bass[:3*hitRate/2])
	near(t, "clearance where the bass has ended", short.Hits[1].Clearance, 60, 0)
}

// A hit after the range ends the last hit's gap but is not judged itself.
func TestRange(t *testing.T) {
	kick := seconds(4)
	tone(kick, 55, 0.5, 1, 1.2, 0)
	m, err := NewHitMeter(kick, hitRate, []int{hitRate / 2, hitRate, 2 * hitRate, 5 * hitRate / 2}, 55, Range{From: 3 * hitRate / 4, To: 3 * hitRate / 2})
	if err != nil {
		t.Fatal(err)
	}
	if len(m.Hits) != 1 || m.Gaps[0] != hitRate || m.Open {
		t.Errorf("hits %v, gaps %v, open %t", m.Hits, m.Gaps, m.Open)
	}
	if _, err := NewHitMeter(kick, hitRate, nil, 55, Range{From: 0, To: len(kick)}); !errors.Is(err, ErrNoHits) {
		t.Errorf("no hits: %v", err)
	}
}

func BenchmarkMeasureHits(b *testing.B) {
	kick, bass := seconds(13.5), seconds(13.5)
	var hits []int
	for h := 0.1; h < 13; h += 0.48 {
		tone(kick, 55, 0.5, h, h+0.2, 0)
		hits = append(hits, int(h*hitRate))
	}
	tone(bass, 44, 0.3, 0, 13.5, 0)
	m, err := NewHitMeter(kick, hitRate, hits, 55, Range{From: 0, To: len(kick)})
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		m.Measure(bass)
	}
}
