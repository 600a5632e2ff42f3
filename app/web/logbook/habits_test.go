package logbook

import (
	"testing"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// What is usual is the median of the others, and a song departs where it lies outside of their tenth and ninetieth percentile.
// The percentiles are numpy's (numpy.percentile, linear).
func TestHabits(t *testing.T) {
	others := []meter.Figure{8.4, 7.9, 8.0, 6.2, 9.1, 8.2, 7.0}
	for _, c := range []struct {
		here    float64
		departs string
	}{{8.1, ""}, {5.0, "3.0 less than usual"}, {12, "4.0 more than usual"}} {
		h := habitOf(figure.Of("p10"), others, meter.Figure(c.here))
		// numpy.percentile([8.4, 7.9, 8.0, 6.2, 9.1, 8.2, 7.0], [10, 50, 90]) is 6.68, 8.0, 8.68
		if h.Lo != "6.7" || h.Usual != "8.0" || h.Hi != "8.7" || h.Departs != c.departs {
			t.Errorf("%g: %+v", c.here, h)
		}
	}
	if h := habitOf(figure.Of("p10"), others[:2], 3); h.Usual != "–" || h.Departs != "" {
		t.Errorf("two songs make a habit: %+v", h)
	}
	if h := habitOf(figure.Of("p10"), others, meter.None); h.Here != "–" || h.Departs != "" {
		t.Errorf("what is not there departs: %+v", h)
	}
}
