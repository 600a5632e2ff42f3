package duck

import (
	"context"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// leadOf clears two stems where the bass leads.
func leadOf(t *testing.T, kick, bass audio.Buffer, targets session.Targets) *Cleared {
	t.Helper()
	c, err := Clear(context.Background(), audio.Memory{Buffer: kick}, audio.Memory{Buffer: bass}, Options{Leader: session.BassLeads, Targets: targets})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// Where the bass leads, the kick's tail makes room: as asked on 9 of 10 hits, re-measured from the sound
// that comes out; the attack and the bass are as they were.
func TestLeadFit(t *testing.T) {
	kick, bass := pattern(even(0.3, 0.45, 16), 8, 55, 0.35, 55, 0.4)
	c := leadOf(t, kick, bass, session.DefaultTargets())
	if !c.Duck.Needed || !c.Duck.Reached || c.LeadBefore.P10 >= 8 || c.LeadAfter.P10 < 8 || c.LeadAfter.P10 > 8.6 {
		t.Fatalf("%+v, %.2f to %.2f dB", c.Duck, c.LeadBefore.P10, c.LeadAfter.P10)
	}
	if !c.Duck.BackBefore || c.Duck.Steepest > move.ClickDB || -c.Duck.Depth > 12 || c.Duck.BassLoss != 0 || c.Duck.KickLossLow <= 0 {
		t.Errorf("%+v", c.Duck)
	}
	first := int(c.Move.Points[0].MS * rate / 1000)
	for _, h := range c.Hits {
		for i := h; i < h+first && i < kick.Frames(); i++ {
			if c.Ducked.Ch[0][i] != kick.Ch[0][i] {
				t.Fatalf("the attack of the hit at %d was changed after %d frames", h, i-h)
			}
		}
	}
	again := leadOf(t, c.Ducked, bass, session.DefaultTargets())
	if again.Duck.Needed || math.Abs(float64(again.LeadBefore.P10-c.LeadAfter.P10)) > 0.05 {
		t.Errorf("re-measured %.2f dB, %s", again.LeadBefore.P10, again.Duck.Reason)
	}
}

func TestLeadFitSays(t *testing.T) {
	outside.Slow(t)
	kick, bass := pattern(even(0.3, 0.45, 16), 8, 55, 0.35, 55, 0.4)
	if c := leadOf(t, kick, bass, session.Targets{Clearance: 8, MaxDepth: 1}); c.Duck.Reached || c.Duck.Depth != -1 ||
		!strings.Contains(c.Duck.Reason, "cap of 1.0 dB") {
		t.Errorf("%+v", c.Duck)
	}
	short, _ := pattern(even(0.3, 0.45, 16), 8, 55, 0.02, 55, 0.25)
	if c := leadOf(t, short, bass, session.DefaultTargets()); c.Duck.Needed || c.Move != nil || !strings.Contains(c.Duck.Reason, "No duck needed") {
		t.Errorf("%+v", c.Duck)
	}
	noise := audio.New(rate, 1, 8*rate) // no note to lead by
	if c := leadOf(t, kick, noise, session.DefaultTargets()); c.Move != nil || !strings.Contains(c.Duck.Reason, "No note") {
		t.Errorf("%+v", c.Duck)
	}
}

// No neighbour of the fit on a coarse grid reaches the goal with less loss of kick.
func TestLeadFitIsTheLeast(t *testing.T) {
	outside.Slow(t)
	kick, bass := pattern(even(0.3, 0.45, 16), 8, 55, 0.35, 55, 0.4)
	c := leadOf(t, kick, bass, session.DefaultTargets())
	loss := float64(c.Duck.KickLossLow)
	m, err := meter.NewHitMeter(kick.Ch[0], rate, c.Hits, 55, meter.Range{To: kick.Frames()})
	if err != nil {
		t.Fatal(err)
	}
	line := []meter.BassNote{{Start: 0, End: 8, Hz: 55}}
	low := func(x []float32) float64 {
		band, err := dsp.Bandpass(20, 150, rate)
		if err != nil {
			t.Fatal(err)
		}
		y := make([]float32, len(x))
		dsp.NewFilter(band).Process(y, x)
		return meter.Energy(y)
	}
	tried, reached := 0, 0
	at := c.Move.Points
	for _, start := range []float64{-4, 0, 8} {
		for _, end := range []float64{-60, -30, 0} {
			for _, deeper := range []float64{-2, -1, 0, 1, 2} {
				d := *c.Move
				d.Points = append([]move.Point(nil), at...)
				d.Points[0].MS, d.Points[1].MS = at[0].MS+start, at[1].MS+start
				d.Points[2].MS, d.Points[3].MS = at[2].MS+end, at[3].MS+end
				d.Points[1].DB, d.Points[2].DB = at[1].DB-deeper, at[2].DB-deeper
				if d.Validate() != nil {
					continue
				}
				tried++
				ducked := append([]float32(nil), kick.Ch[0]...)
				for _, h := range c.Hits { // by hand: the app's own gain is not used
					for i := h; i < h+int(0.45*rate) && i < len(ducked); i++ {
						ducked[i] *= float32(math.Pow(10, d.GainDB(1000*float64(i-h)/rate)/20))
					}
				}
				lead, err := m.WithKick(meter.Held(ducked)).MeasureLead(meter.Held(bass.Ch[0]), line, meter.HitFigures{})
				if err != nil {
					t.Fatal(err)
				}
				p10 := worst(lead.Clearance)
				if p10 < 8+margin {
					continue
				}
				reached++
				if cost := 10 * math.Log10(low(kick.Ch[0])/low(ducked)); cost < loss-0.1 {
					t.Errorf("start %+.0f, end %+.0f, %+.1f dB deeper: %.2f dB lost reaches %.2f dB; the fit loses %.2f", start, end, deeper, cost, p10, loss)
				}
			}
		}
	}
	if tried < 30 || reached < 5 {
		t.Errorf("%d tried, %d reached: nothing was compared", tried, reached)
	}
}
