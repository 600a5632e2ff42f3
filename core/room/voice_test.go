package room

import (
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
)

// Speech is as loud as it is said to be, and highest around 400 to 500 Hz, as in the table; a beat far over it covers it, one
// far under it does not; the dips are on who covers.
func TestVoice(t *testing.T) {
	e := meter.NewEar(rate, meter.Playback)
	s := speech(e, -20)
	top := 0
	for n, v := range s {
		if v > s[top] {
			top = n
		}
	}
	if e.Hz[top] < 350 || e.Hz[top] > 900 {
		t.Errorf("speech is highest at %.0f Hz", e.Hz[top])
	}
	for n, v := range speech(e, -30) {
		if d := 10 * math.Log10(s[n]/v); math.Abs(d-10) > 1e-6 {
			t.Fatalf("10 dB softer it falls by %.3f dB", d)
		}
	}
	r := rand.New(rand.NewPCG(8, 2))
	noise := func(db float64) audio.Buffer { return hiss(r, rate, 2, 100, db) }
	loud, _ := crowdOf(t, noise(-3), noise(-50))
	v := loud.WithVoice(-30).Space()
	if v.Words < 0.95 || len(v.Dips) == 0 || v.Dips[0].By != "a" || v.Dips[0].Of != Voice {
		t.Errorf("under a loud beat: %+v", v)
	}
	soft, _ := crowdOf(t, noise(-60), noise(-70))
	if v := soft.WithVoice(-20).Space(); v.Words > 0.05 || v.Body > 0.05 || len(v.Dips) != 0 {
		t.Errorf("over a soft beat: %+v", v)
	}
	if len(soft.Stems) != 2 {
		t.Error("the voice stays among the parts")
	}
}
