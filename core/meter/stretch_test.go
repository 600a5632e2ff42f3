package meter

import (
	"context"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/internal/outside"
)

// The loudest stretch is found, a stretch is what it says, and one that is none is all of it.
func TestStretch(t *testing.T) {
	const rate = 44100
	x := outside.Sine(rate, 2, 500, 0.05, 30, 0)
	for i := 12 * rate; i < 17*rate; i++ {
		x.Ch[0][i] *= 8
	}
	from, to, err := Loudest(context.Background(), audio.Memory{Buffer: x}, 5)
	if err != nil || from != 12 || to != 17 {
		t.Errorf("%g to %g, %v", from, to, err)
	}
	if from, to, err = Loudest(context.Background(), audio.Memory{Buffer: x}, 60); err != nil || from != 0 || to != 30 {
		t.Errorf("%g to %g, %v", from, to, err)
	}
	s := audio.Stretch(audio.Memory{Buffer: x}, 12, 17)
	y := audio.New(rate, 2, 4)
	if err := s.ReadAt(y, 3); err != nil || s.Format().Frames != 5*rate || y.Ch[0][1] != x.Ch[0][12*rate+4] {
		t.Errorf("%+v %v", s.Format(), err)
	}
	for _, at := range [][2]float64{{0, 0}, {5, 5}, {40, 50}, {9, 2}} {
		if f := audio.Stretch(audio.Memory{Buffer: x}, at[0], at[1]).Format().Frames; f != 30*rate {
			t.Errorf("%v: %d frames", at, f)
		}
	}
}
