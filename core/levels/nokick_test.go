package levels_test

import (
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/levels"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
	"mellowthump/internal/songs"
)

// Without a kick there is nothing that levels are set by: what lies off its window is told, and is a matter of taste.
func TestNoKick(t *testing.T) {
	b := songs.OnBench(t, songs.Part{ID: "a", Role: session.Melodic, Sound: outside.Sine(44100, 1, 220, 0.01, 8, 0)})
	all, err := levels.Stage.Findings(t.Context(), b, b.Whole())
	if err != nil {
		t.Fatal(err)
	}
	told := 0
	for _, f := range all {
		if f.Kind() == "window" {
			if told++; f.Taste == "" {
				t.Errorf("%s is set by itself", f.What)
			}
		}
	}
	if told == 0 {
		t.Errorf("nothing is told: %+v", all)
	}
}

// What only rings on in a stretch has no distance to its window.
func TestWhatRestsIsNotFarOff(t *testing.T) {
	tone := func(amplitude float64) audio.Buffer { return outside.Sine(44100, 1, 220, amplitude, 2, 0) }
	b := songs.OnBench(t, songs.Part{ID: "a", Role: session.Melodic, Sound: tone(0.2)}, songs.Part{ID: "b", Role: session.Melodic, Sound: tone(1e-6)})
	l, err := levels.LedgerOn(t.Context(), b, b.Whole())
	if err != nil {
		t.Fatal(err)
	}
	if name, db := l.FurthestOff(); name == "b" || db > 20 {
		t.Errorf("%s is said to lie %.0f dB off", name, db)
	}
}
