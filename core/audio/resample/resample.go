// Package resample changes the sample rate of sound with a band-limiting filter.
//
// It is a polyphase windowed-sinc interpolator: Crochiere and Rabiner, "Multirate Digital
// Signal Processing" (1983), ch. 4, with the Kaiser window of Kaiser (1974) and its design
// formulas as in Oppenheim and Schafer, "Discrete-Time Signal Processing", sec. 7.6.
package resample

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
)

const (
	stopDB     = 110.0 // attenuation of aliases and images, dB
	passEdge   = 0.45  // of the lower rate: flat up to here
	stopEdge   = 0.50  // of the lower rate: stopped from here
	maxPhases  = 2048  // more phases than this are interpolated between
	outputStep = 8192  // frames made at a time
)

// Source gives another source's sound at a different rate. It implements audio.Source;
// what it returns for a frame does not depend on where a read begins.
type Source struct {
	in       audio.Source
	rate     int
	up, down int64 // output frame n stands at input position n*down/up
	half     int   // taps on each side
	phases   int64
	table    [][]float32 // [phase][tap], phases+1 rows
	buf      audio.Buffer
}

// New returns in at the given rate in Hz; in itself where the rate is already right.
func New(in audio.Source, rate int) (audio.Source, error) {
	from := in.Format().Rate
	if from == rate {
		return in, nil
	}
	if rate < audio.MinRate || rate > audio.MaxRate || from < audio.MinRate || from > audio.MaxRate {
		return nil, fmt.Errorf("resample: %d to %d Hz is outside 8 to 192 kHz", from, rate)
	}
	g := gcd(int64(rate), int64(from))
	s := &Source{in: in, rate: rate, up: int64(rate) / g, down: int64(from) / g}
	s.phases = min(s.up, maxPhases)
	s.design(from)
	return s, nil
}

// design fills the table with the low-pass that both rates need, cut off in the middle of
// the transition band of the lower one.
func (s *Source) design(from int) {
	ratio := math.Min(1, float64(s.rate)/float64(from)) // the lower rate, in input rates
	cut := (passEdge + stopEdge) / 2 * ratio
	width := 2 * math.Pi * (stopEdge - passEdge) * ratio
	taps := (stopDB - 7.95) / (2.285 * width)
	beta := 0.1102 * (stopDB - 8.7)
	s.half = int(math.Ceil(taps/2)) + 1
	s.table = make([][]float32, s.phases+1)
	for p := range s.table {
		frac := float64(p) / float64(s.phases)
		row := make([]float32, 2*s.half)
		for k := range row {
			t := float64(k-s.half+1) - frac // input frames from the output's position
			x := 2 * cut * t
			v := 2 * cut
			if x != 0 {
				v *= math.Sin(math.Pi*x) / (math.Pi * x)
			}
			row[k] = float32(v * dsp.Kaiser(t/float64(s.half), beta))
		}
		s.table[p] = row
	}
}

// Format describes the resampled sound.
func (s *Source) Format() audio.Format {
	f := s.in.Format()
	f.Frames = (f.Frames*s.up + s.down - 1) / s.down
	f.Rate = s.rate
	return f
}

// ReadAt fills dst with the resampled frames from frame on.
func (s *Source) ReadAt(dst audio.Buffer, frame int64) error {
	for at := 0; at < dst.Frames(); at += outputStep {
		n := min(outputStep, dst.Frames()-at)
		if err := s.block(dst.Slice(at, at+n), frame+int64(at)); err != nil {
			return err
		}
	}
	return nil
}

func (s *Source) block(dst audio.Buffer, frame int64) error {
	n := int64(dst.Frames())
	first := floorDiv(frame*s.down, s.up) - int64(s.half) + 1
	last := floorDiv((frame+n-1)*s.down, s.up) + int64(s.half)
	need := int(last - first + 1)
	if s.buf.Frames() < need || len(s.buf.Ch) != len(dst.Ch) {
		s.buf = audio.New(s.in.Format().Rate, len(dst.Ch), need)
	}
	in := s.buf.Slice(0, need)
	if err := s.in.ReadAt(in, first); err != nil {
		return err
	}
	for i := range int(n) {
		pos := (frame + int64(i)) * s.down
		base := floorDiv(pos, s.up)
		rem := pos - base*s.up
		off := int(base-first) - s.half + 1
		scaled := rem * s.phases
		p := scaled / s.up
		a, frac := s.table[p], float32(scaled%s.up)/float32(s.up)
		for c := range dst.Ch {
			x := in.Ch[c][off : off+2*s.half]
			v := dot(a, x)
			if frac > 0 {
				v += frac * (dot(s.table[p+1], x) - v)
			}
			dst.Ch[c][i] = v
		}
	}
	return nil
}

func dot(a, x []float32) float32 {
	x = x[:len(a)]
	var s0, s1, s2, s3 float32
	i := 0
	for ; i+4 <= len(a); i += 4 {
		s0 += a[i] * x[i]
		s1 += a[i+1] * x[i+1]
		s2 += a[i+2] * x[i+2]
		s3 += a[i+3] * x[i+3]
	}
	for ; i < len(a); i++ {
		s0 += a[i] * x[i]
	}
	return s0 + s1 + s2 + s3
}

func gcd(a, b int64) int64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}
