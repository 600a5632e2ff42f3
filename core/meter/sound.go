package meter

import (
	"io"
	"iter"
	"slices"

	"mellowthump/core/dsp"
)

// Sound is a mono sound that is read from its start to its end, as often as is asked: one that is held in memory, or one
// that is made as it is read.
type Sound interface {
	// Frames is its length.
	Frames() int
	// Read gives the sound to f a stretch at a time, in order, none over a million frames. What f is given it must not keep.
	Read(f func(x []float32) error) error
}

// Held is a sound in memory.
type Held []float32

// Frames is its length.
func (h Held) Frames() int { return len(h) }

// heldStretch is how much of a sound in memory is given at a time, frames: it stays in the processor's cache.
const heldStretch = 1 << 14

// Read gives it a stretch at a time.
func (h Held) Read(f func(x []float32) error) error {
	for len(h) > 0 {
		n := min(heldStretch, len(h))
		if err := f(h[:n:n]); err != nil {
			return err
		}
		h = h[n:]
	}
	return nil
}

// Samples returns the whole of a sound, which must not be changed.
func Samples(s Sound) ([]float32, error) {
	if h, ok := s.(Held); ok {
		return h, nil
	}
	out := make([]float32, 0, s.Frames())
	err := s.Read(func(x []float32) error {
		out = append(out, x...)
		return nil
	})
	return out, err
}

// Filled is a sound of that many frames: cut short, or silence behind its end.
func Filled(s Sound, frames int) Sound {
	if s.Frames() == frames {
		return s
	}
	return filled{s, frames}
}

type filled struct {
	Sound
	frames int
}

// Frames is its length.
func (s filled) Frames() int { return s.frames }

// Read gives the sound, then silence.
func (s filled) Read(f func(x []float32) error) error {
	left := s.frames
	err := s.Sound.Read(func(x []float32) error {
		x = x[:min(len(x), left)]
		left -= len(x)
		if len(x) == 0 {
			return nil
		}
		return f(x)
	})
	for err == nil && left > 0 {
		n := min(left, heldStretch)
		err = f(make([]float32, n))
		left -= n
	}
	return err
}

// Parts gives a sound in parts that end at some frames, which ascend; the last is its end. What is given is the reader's
// own until the next part.
func Parts(s Sound, ends []int) iter.Seq2[[]float32, error] {
	return func(yield func([]float32, error) bool) {
		if h, ok := s.(Held); ok {
			at := 0
			for _, end := range ends {
				if !yield(h[at:end], nil) {
					return
				}
				at = end
			}
			return
		}
		var part []float32
		at, k := 0, 0 // frames that were given, and parts
		err := s.Read(func(x []float32) error {
			for len(x) > 0 && k < len(ends) {
				n := min(len(x), ends[k]-at-len(part))
				part, x = append(part, x[:n]...), x[n:]
				if at+len(part) < ends[k] {
					break
				}
				if !yield(part, nil) {
					return errEnough
				}
				at, part = ends[k], part[:0]
				k++
			}
			return nil
		})
		if err != nil && err != errEnough {
			yield(nil, err)
		}
	}
}

type enough struct{}

// Error is never shown.
func (enough) Error() string { return "enough was read" }

var errEnough = enough{}

// Together gives the parts of several sounds beside each other, in parts that end at some frames.
func Together(ends []int, f func(part int, x [][]float32) error, sounds ...Sound) error {
	next := make([]func() ([]float32, error, bool), len(sounds))
	for i, s := range sounds {
		n, stop := iter.Pull2(Parts(s, ends))
		defer stop()
		next[i] = n
	}
	x := make([][]float32, len(sounds))
	for k := range ends {
		for i := range next {
			part, err, ok := next[i]()
			if err != nil {
				return err
			}
			if !ok {
				return io.ErrUnexpectedEOF
			}
			x[i] = part
		}
		if err := f(k, x); err != nil {
			return err
		}
	}
	return nil
}

const (
	partFrames = 1 << 19 // of a long sound that are judged at a time, at the least
	hitMost    = 60.0    // s after a hit in which what it does is looked for, in a long sound
)

// shortSound is the most frames of a sound that is judged in one part.
var shortSound = 1 << 22

// partEnds cuts a sound into parts of which none ends within a hit's gap, unless that is longer than hitMost: then what
// comes later is a part of its own.
func partEnds(frames, rate int, hits []int) []int {
	if frames <= shortSound {
		return []int{frames}
	}
	var ends []int
	last, most := 0, int(hitMost*float64(rate))
	to := func(end int) { // in parts that are no longer than may be
		for end-last > most+partFrames {
			last += most
			ends = append(ends, last)
		}
		if end > last {
			ends = append(ends, end)
			last = end
		}
	}
	for i, h := range hits {
		if h-last >= partFrames {
			if i > 0 && h-hits[i-1] > most && hits[i-1] >= last {
				to(min(hits[i-1]+most, h))
			}
			to(h)
		}
	}
	if n := len(hits); n > 0 && frames-last > most && hits[n-1] >= last {
		to(min(hits[n-1]+most, frames))
	}
	to(frames)
	return slices.Clip(ends)
}

// scratch is room that is used again for every part of a sound.
type scratch []float32

func (s *scratch) of(n int) []float32 {
	if cap(*s) < n {
		*s = make([]float32, n)
	}
	return (*s)[:n]
}

// low takes a sound's BP(20,150), and that smoothed, part by part.
type low struct {
	filter   *dsp.Filter
	smoother *dsp.Smoother
	w, s     scratch
}

func (m *HitMeter) newLow() *low {
	return &low{filter: dsp.NewFilter(m.band), smoother: dsp.NewSmoother(smoothTau, float64(m.Rate))}
}

func (l *low) next(x []float32) (wide, smooth []float32) {
	wide, smooth = l.w.of(len(x)), l.s.of(len(x))
	l.filter.Process(wide, x)
	l.smoother.Process(smooth, wide)
	return wide, smooth
}
