package shell

import "testing"

// A field shows all that was typed, so that an edit of one point leaves the others alone.
func TestTypedKeepsWhatWasTyped(t *testing.T) {
	for v, want := range map[float64]string{-9.25: "-9.25", 0: "0", 209.7: "209.7", 12.345: "12.345", -6: "-6"} {
		if got := Typed(v); got != want {
			t.Errorf("%g is shown as %q, want %q", v, got, want)
		}
	}
}
