// Package pcm reads uncompressed samples that stand at a known place in a file: what WAV and
// AIFF have in common once their headers are read.
package pcm

import (
	"encoding/binary"
	"fmt"
	"io"
	"math"

	"mellowthump/core/audio"
)

// Layout says how samples are stored.
type Layout struct {
	Format    audio.Format
	BigEndian bool
	Unsigned8 bool  // 8-bit samples are offset binary, as in WAV
	Start     int64 // of the samples in the file, bytes
}

// Reader reads samples at any place. It implements audio.Source.
type Reader struct {
	Layout
	r   io.ReaderAt
	raw []byte
}

// NewReader returns a reader of the samples in r.
func NewReader(r io.ReaderAt, l Layout) *Reader { return &Reader{Layout: l, r: r} }

// FrameBytes returns the size of a frame.
func (l Layout) FrameBytes() int { return l.Format.Channels * l.Format.BitDepth / 8 }

// Format describes the file.
func (p *Reader) Format() audio.Format { return p.Layout.Format }

// ReadAt fills dst with the frames from frame on; before the start and after the end is
// silence. Integer samples are scaled so that the most negative value reads as -1.
func (p *Reader) ReadAt(dst audio.Buffer, frame int64) error {
	f := p.Layout.Format
	n := dst.Frames()
	lo, hi := int64(0), int64(n)
	if frame < 0 {
		lo = min(-frame, hi)
	}
	hi = max(lo, min(hi, f.Frames-frame))
	for c := range dst.Ch {
		audio.Clear(dst.Ch[c][:lo])
		audio.Clear(dst.Ch[c][hi:])
	}
	const block = 16384
	size := p.FrameBytes()
	for at := lo; at < hi; at += block {
		m := int(min(block, hi-at))
		if need := m * size; cap(p.raw) < need {
			p.raw = make([]byte, need)
		}
		raw := p.raw[:m*size]
		if got, err := p.r.ReadAt(raw, p.Start+(frame+at)*int64(size)); got < len(raw) {
			return fmt.Errorf("reading samples: %w", err)
		}
		for c := range dst.Ch {
			p.decode(dst.Ch[c][at:at+int64(m)], raw[c*f.BitDepth/8:], size)
		}
	}
	return nil
}

func (p *Reader) decode(out []float32, raw []byte, step int) {
	var order binary.ByteOrder = binary.LittleEndian
	if p.BigEndian {
		order = binary.BigEndian
	}
	switch f := p.Layout.Format; {
	case f.Encoding == audio.Float && f.BitDepth == 32:
		for i := range out {
			out[i] = math.Float32frombits(order.Uint32(raw[i*step:]))
		}
	case f.Encoding == audio.Float:
		for i := range out {
			out[i] = float32(math.Float64frombits(order.Uint64(raw[i*step:])))
		}
	case f.BitDepth == 8:
		for i := range out {
			v := int(int8(raw[i*step]))
			if p.Unsigned8 {
				v = int(raw[i*step]) - 128
			}
			out[i] = float32(v) / (1 << 7)
		}
	case f.BitDepth == 16:
		for i := range out {
			out[i] = float32(int16(order.Uint16(raw[i*step:]))) / (1 << 15)
		}
	case f.BitDepth == 24 && p.BigEndian:
		for i := range out {
			b := raw[i*step : i*step+3]
			out[i] = float32(int32(uint32(b[2])<<8|uint32(b[1])<<16|uint32(b[0])<<24)>>8) / (1 << 23)
		}
	case f.BitDepth == 24:
		i := 0
		for ; i < len(out) && len(raw) >= max(4, step); i++ { // four bytes at once, where there are four
			out[i] = float32(int32(binary.LittleEndian.Uint32(raw)<<8)>>8) / (1 << 23)
			raw = raw[step:]
		}
		if i < len(out) {
			out[i] = float32(int32(uint32(raw[0])<<8|uint32(raw[1])<<16|uint32(raw[2])<<24)>>8) / (1 << 23)
		}
	default:
		for i := range out {
			out[i] = float32(float64(int32(order.Uint32(raw[i*step:]))) / (1 << 31))
		}
	}
}

// Fits sets the number of frames from the bytes that the header promises and the bytes that
// the file holds after Start, and checks the format against the limits. What is promised and
// not there is an error that says how much.
func (l *Layout) Fits(promised, held int64) error {
	size := int64(l.FrameBytes())
	l.Format.Frames = promised / size
	if err := l.Format.Check(); err != nil {
		return err
	}
	if promised > held {
		return fmt.Errorf("it is cut short: the header promises %.2f s, the file holds %.2f s",
			l.Format.Duration(), float64(max(0, held/size))/float64(l.Format.Rate))
	}
	return nil
}
