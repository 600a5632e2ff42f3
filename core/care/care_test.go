package care

import (
	"math"
	"testing"
)

// Against Table 1-1 of NIOSH 98-126 (values from memory): hours, minutes and seconds by level.
func TestHours(t *testing.T) {
	for _, c := range []struct{ dba, hours, minutes, seconds, off float64 }{
		{80, 25, 24, 0, 30}, {83, 12, 42, 0, 30}, {85, 8, 0, 0, 1}, {88, 4, 0, 0, 1}, {91, 2, 0, 0, 1}, {94, 1, 0, 0, 1}, {97, 0, 30, 0, 1}, {100, 0, 15, 0,
			1}, {103, 0, 7, 30, 1}, {109, 0, 1, 53, 1}, {115, 0, 0, 28, 1},
	} {
		want := c.hours*3600 + c.minutes*60 + c.seconds
		if got := 3600 * Hours(c.dba); math.Abs(got-want) > c.off {
			t.Errorf("%g dBA: %.0f s, the table has %.0f", c.dba, got, want)
		}
	}
	if d := Dose(2, 91) + Dose(4, 85); math.Abs(d-1.5) > 1e-12 {
		t.Errorf("two hours at 91 dBA and four at 85 are %g of a day, not 1.5", d)
	}
}
