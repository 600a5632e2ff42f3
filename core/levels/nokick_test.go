package levels_test

import (
	"testing"

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
