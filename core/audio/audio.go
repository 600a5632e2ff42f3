// Package audio holds sampled sound in memory and describes the files it comes from.
//
// Samples are float32, planar, full scale 1.0. Positions and lengths are in frames
// (one sample of every channel) at the buffer's own rate.
package audio

import (
	"errors"
	"fmt"
)

// Buffer is a stretch of sound: one slice of samples a channel, all of one length.
type Buffer struct {
	Rate int         // frames per second, Hz
	Ch   [][]float32 // [channel][frame]
}

// New returns a silent buffer.
func New(rate, channels, frames int) Buffer {
	flat := make([]float32, channels*frames)
	b := Buffer{Rate: rate, Ch: make([][]float32, channels)}
	for c := range b.Ch {
		b.Ch[c] = flat[c*frames : (c+1)*frames : (c+1)*frames]
	}
	return b
}

// Frames returns the length in frames.
func (b Buffer) Frames() int {
	if len(b.Ch) == 0 {
		return 0
	}
	return len(b.Ch[0])
}

// Slice returns the frames from..to; it shares memory with b.
func (b Buffer) Slice(from, to int) Buffer {
	s := Buffer{Rate: b.Rate, Ch: make([][]float32, len(b.Ch))}
	for c := range b.Ch {
		s.Ch[c] = b.Ch[c][from:to]
	}
	return s
}

// Mono returns the mean of the channels: a mono signal standing in both channels
// keeps its level. A buffer of one channel returns that channel itself, not a copy.
func (b Buffer) Mono() []float32 {
	switch len(b.Ch) {
	case 0:
		return nil
	case 1:
		return b.Ch[0]
	}
	m := make([]float32, b.Frames())
	b.MonoTo(m)
	return m
}

// MonoTo writes the mean of the channels to m, which has as many frames.
func (b Buffer) MonoTo(m []float32) {
	switch len(b.Ch) {
	case 1:
		copy(m, b.Ch[0])
	case 2:
		l, r := b.Ch[0], b.Ch[1][:len(m)]
		for i, v := range l[:len(m)] {
			m[i] = v*0.5 + r[i]*0.5
		}
	default:
		Clear(m)
		scale := 1 / float32(len(b.Ch))
		for c := range b.Ch {
			for i, v := range b.Ch[c] {
				m[i] += v * scale
			}
		}
	}
}

// Bytes returns the memory the samples take.
func (b Buffer) Bytes() int { return 4 * len(b.Ch) * b.Frames() }

// Encoding is the way samples are stored in a file.
type Encoding string

// The encodings that the codecs read.
const (
	PCM   Encoding = "pcm"
	Float Encoding = "float"
)

// Format describes a sound file.
type Format struct {
	Container string   // "wav"
	Encoding  Encoding // integer or floating point
	BitDepth  int      // bits a sample
	Rate      int      // Hz
	Channels  int
	Frames    int64
}

// Duration returns the length in seconds.
func (f Format) Duration() float64 {
	if f.Rate == 0 {
		return 0
	}
	return float64(f.Frames) / float64(f.Rate)
}

// String says the format in words, "24-bit WAV, 44.1 kHz, stereo".
func (f Format) String() string {
	kind := ""
	if f.Encoding == Float {
		kind = " float"
	}
	ch := "mono"
	if f.Channels == 2 {
		ch = "stereo"
	}
	return fmt.Sprintf("%d-bit%s, %g kHz, %s", f.BitDepth, kind, float64(f.Rate)/1000, ch)
}

// Source is sound that can be read at any place, such as an open file.
type Source interface {
	Format() Format
	// ReadAt fills all of dst with the frames from frame on. Places before the start
	// and after the end read as silence. dst has the source's number of channels.
	ReadAt(dst Buffer, frame int64) error
}

// Memory is a Source over a buffer.
type Memory struct{ Buffer }

// Format describes the buffer as 32-bit float.
func (m Memory) Format() Format {
	return Format{Container: "memory", Encoding: Float, BitDepth: 32, Rate: m.Rate, Channels: len(m.Ch), Frames: int64(m.Frames())}
}

// ReadAt copies from the buffer.
func (m Memory) ReadAt(dst Buffer, frame int64) error {
	for c := range dst.Ch {
		Clear(dst.Ch[c])
		from, at := frame, 0
		if from < 0 {
			at, from = int(min(-from, int64(dst.Frames()))), 0
		}
		if from < int64(m.Frames()) {
			copy(dst.Ch[c][at:], m.Ch[c][from:])
		}
	}
	return nil
}

// Silence is a Source of a format in which nothing is heard.
type Silence struct{ Is Format }

// Format is that of the sound which it stands for.
func (s Silence) Format() Format { return s.Is }

// ReadAt clears dst.
func (s Silence) ReadAt(dst Buffer, _ int64) error {
	for _, x := range dst.Ch {
		Clear(x)
	}
	return nil
}

// Clear sets all samples to zero.
func Clear(x []float32) {
	for i := range x {
		x[i] = 0
	}
}

// ReadAll reads a source from its start to its end.
func ReadAll(s Source) (Buffer, error) {
	f := s.Format()
	b := New(f.Rate, f.Channels, int(f.Frames))
	if err := s.ReadAt(b, 0); err != nil {
		return b, err
	}
	return b, b.Fit(0)
}

// MaxSample bounds the samples of a sound: 80 dB over full scale, beyond any float bounce.
const MaxSample = 1e4

// Errors of sound that is none.
var (
	ErrNotFinite = errors.New("samples that are not numbers")
	ErrTooLarge  = errors.New("samples of more than 80 dB over full scale")
)

// Fit returns an error (ErrNotFinite, ErrTooLarge) in plain words where a sample of a block, which begins at that frame
// of its sound, is NaN, infinite or beyond MaxSample; it names the place of the first.
func (b Buffer) Fit(at int) error {
	for i := range b.Frames() {
		for _, x := range b.Ch {
			if v := x[i]; !(v >= -MaxSample && v <= MaxSample) {
				what := ErrTooLarge
				if v-v != 0 {
					what = ErrNotFinite
				}
				return fmt.Errorf("it holds %w, the first at %.3f s; bounce it again", what, float64(at+i)/float64(b.Rate))
			}
		}
	}
	return nil
}

// Limits on what is taken in; they are shown beside the drop area.
const (
	MinRate     = 8000
	MaxRate     = 192000
	MaxChannels = 2
	MaxSeconds  = 30 * 60
)

// Check returns an error in plain words where a format is outside the limits.
func (f Format) Check() error {
	switch {
	case f.Channels < 1:
		return fmt.Errorf("it has no channels")
	case f.Channels > MaxChannels:
		return fmt.Errorf("it has %d channels; bounce it as mono or stereo", f.Channels)
	case f.Rate < MinRate || f.Rate > MaxRate:
		return fmt.Errorf("its sample rate is %d Hz; rates from 8 to 192 kHz are read", f.Rate)
	case f.Frames < 0:
		return fmt.Errorf("the length that it gives is under 0")
	case f.Frames == 0:
		return fmt.Errorf("it holds no audio (0 samples)")
	case f.Duration() > MaxSeconds:
		return fmt.Errorf("it is %.0f minutes long; the limit is %d", f.Duration()/60, MaxSeconds/60)
	}
	return nil
}
