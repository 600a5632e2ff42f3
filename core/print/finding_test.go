package print

import (
	"strings"
	"testing"

	"mellowthump/core/meter"
)

// What is told has its number, and nothing is told of a print that is within its bounds or of none.
func TestFindings(t *testing.T) {
	fine := Figures{TruePeak: -1, Most: 3, Attack: 8}
	for _, c := range []struct {
		now  Figures
		want string
	}{
		{fine, ""}, {Figures{TruePeak: meter.None, Most: meter.None, Attack: meter.None}, ""}, {Figures{TruePeak: -0.5, Most: 3, Attack: 8}, "print-over"},
		{Figures{TruePeak: -1, Most: 6.5, Attack: 8}, "print-turned"}, {Figures{TruePeak: -1, Most: 6, Attack: 4.9}, "print-attack"},
	} {
		var ids []string
		for _, f := range Findings(Figures{Attack: 8}, c.now, -1) {
			ids = append(ids, f.ID)
			if f.What == "" || !strings.HasSuffix(f.Why, ".") {
				t.Errorf("%+v", f)
			}
		}
		if got := strings.Join(ids, " "); got != c.want {
			t.Errorf("%+v: %q, not %q", c.now, got, c.want)
		}
	}
}
