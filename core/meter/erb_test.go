package meter

import (
	"math"
	"testing"
)

// ERB at 1 kHz is 132.6 Hz (Glasberg and Moore 1990); there are 15.6 ERBs under 1 kHz by their
// eq. 4, 21.4 log10(4.37 f/1000 + 1).
func TestERB(t *testing.T) {
	if got := ERB(1000); math.Abs(got-132.6) > 0.05 {
		t.Errorf("ERB(1 kHz) = %.2f Hz, want 132.6", got)
	}
	for _, hz := range []float64{50, 100, 1000, 4000, 15000} {
		if got, want := ERBNumber(hz), 21.4*math.Log10(4.37*hz/1000+1); math.Abs(got-want) > 0.02*want {
			t.Errorf("ERB number of %g Hz = %.2f, want %.2f", hz, got, want)
		}
		if back := ERBHz(ERBNumber(hz)); math.Abs(back-hz) > 1e-6*hz {
			t.Errorf("%g Hz comes back as %g", hz, back)
		}
	}
	bands := CriticalBands(16000)
	for i, b := range bands {
		if i > 0 && math.Abs(b.Lo-bands[i-1].Hi) > 1e-9 {
			t.Errorf("a gap under %g Hz", b.Lo)
		}
		if w := b.Hi - b.Lo; math.Abs(w-ERB(b.Middle())) > 0.01*w {
			t.Errorf("the band at %.0f Hz is %.1f Hz wide, its ERB is %.1f", b.Middle(), w, ERB(b.Middle()))
		}
	}
	if len(bands) < 35 || math.Abs(bands[0].Lo-20) > 1e-9 || bands[len(bands)-1].Hi > 16000 {
		t.Errorf("%d bands", len(bands))
	}
}
