package field

import (
	"math"
	"testing"
)

// By hand: 60000 / bpm x beats; dotted x1.5, triplet x2/3.
func TestNoteValues(t *testing.T) {
	for _, c := range []struct {
		note string
		bpm  float64
		ms   float64
	}{
		{"1/4", 120, 500}, {"1/16", 120, 125}, {"1/8.", 120, 375}, {"1/8t", 120, 500. / 3}, {"1/8T", 120, 500. / 3},
		{"1/16", 142, 105.6338}, {"1/32", 142, 52.8169}, {"1/8", 71, 422.5352}, {"-1/64", 120, -31.25},
		{"−1/64", 120, -31.25}, {"+1/2", 60, 2000}, {"3/16", 120, 375}, {" 1/16 ", 100, 150},
	} {
		ms, err := NoteMS(c.note, c.bpm)
		if err != nil || math.Abs(ms-c.ms) > 1e-4 {
			t.Errorf("%s at %g bpm = %g ms, %v; want %g", c.note, c.bpm, ms, err, c.ms)
		}
	}
	for _, bad := range []string{"", "1", "1/0", "1/", "/16", "0/4", "a/b", "1/4x", "1/999", "-", "1/16tt"} {
		if ms, err := NoteMS(bad, 120); err == nil {
			t.Errorf("%q was read as %g ms", bad, ms)
		}
	}
	if _, err := NoteMS("1/4", 0); err == nil {
		t.Error("a note value without a tempo was read")
	}
}

func TestParse(t *testing.T) {
	for in, want := range map[string]float64{"30": 30, "30 ms": 30, "-4.5": -4.5, "−4,5 ms": -4.5, "1/16": 125, " 12MS ": 12} {
		if ms, _, err := Time(in, 120); err != nil || ms != want {
			t.Errorf("%q = %g, %v; want %g", in, ms, err, want)
		}
	}
	for _, bad := range []string{"", "ms", "soon", "NaN", "inf", "1e999", "12 dB"} {
		if ms, _, err := Time(bad, 120); err == nil {
			t.Errorf("%q was read as %g", bad, ms)
		}
	}
}
