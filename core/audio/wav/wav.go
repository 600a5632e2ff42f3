// Package wav reads and writes RIFF/WAVE files.
//
// The layout follows the RIFF form as described in IBM and Microsoft, "Multimedia
// Programming Interface and Data Specifications 1.0" (1991), and the EXTENSIBLE header
// of mmreg.h (wFormatTag 0xFFFE with the real tag in the first bytes of the sub-format).
package wav

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"mellowthump/core/audio"
)

const (
	tagPCM        = 1
	tagFloat      = 3
	tagExtensible = 0xFFFE
	unknownSize   = 0xFFFFFFFF // written by tools that stream and cannot go back
	maxChunks     = 1000       // a header with more than this is not a recording
)

// ErrNotWAV is returned where the bytes are not a RIFF/WAVE file at all.
var ErrNotWAV = errors.New("it is not a WAV file")

// Reader reads the samples of a WAV file at any place. It implements audio.Source.
type Reader struct {
	r      io.ReaderAt
	data   int64 // where the samples start
	frame  int   // bytes a frame
	format audio.Format
	raw    []byte
}

// NewReader reads the header. size is the file's length in bytes. The error says in
// plain words what is wrong: not a WAV, cut short, no samples, an encoding that is not read.
func NewReader(r io.ReaderAt, size int64) (*Reader, error) {
	var head [12]byte
	if _, err := r.ReadAt(head[:], 0); err != nil {
		return nil, ErrNotWAV
	}
	if string(head[:4]) != "RIFF" || string(head[8:]) != "WAVE" {
		return nil, ErrNotWAV
	}
	w := &Reader{r: r}
	have := false
	at := int64(12)
	for range maxChunks {
		var ck [8]byte
		if n, err := r.ReadAt(ck[:], at); n < len(ck) {
			if err != nil && err != io.EOF {
				return nil, fmt.Errorf("reading the header: %w", err)
			}
			if !have {
				return nil, errors.New("it is cut short: the header ends before the format is named")
			}
			return nil, errors.New("it is cut short: there are no samples after the header")
		}
		id, length := string(ck[:4]), int64(binary.LittleEndian.Uint32(ck[4:]))
		at += 8
		switch id {
		case "fmt ":
			if err := w.readFormat(at, length); err != nil {
				return nil, err
			}
			have = true
		case "data":
			if !have {
				return nil, errors.New("its header is out of order: samples come before the format")
			}
			return w, w.setData(at, length, size)
		}
		at += length + length&1
	}
	return nil, ErrNotWAV
}

func (w *Reader) readFormat(at, length int64) error {
	if length < 16 || length > 4096 {
		return fmt.Errorf("its format chunk has a wrong size (%d bytes)", length)
	}
	b := make([]byte, length)
	if _, err := w.r.ReadAt(b, at); err != nil {
		return errors.New("it is cut short inside the header")
	}
	tag := binary.LittleEndian.Uint16(b)
	channels := int(binary.LittleEndian.Uint16(b[2:]))
	rate := int64(binary.LittleEndian.Uint32(b[4:]))
	align := int(binary.LittleEndian.Uint16(b[12:]))
	bits := int(binary.LittleEndian.Uint16(b[14:]))
	if tag == tagExtensible {
		if length < 40 {
			return errors.New("its EXTENSIBLE header is too short")
		}
		tag = binary.LittleEndian.Uint16(b[24:])
	}
	f := audio.Format{Container: "wav", Encoding: audio.PCM, BitDepth: bits, Rate: int(rate), Channels: channels}
	switch {
	case tag == tagPCM && (bits == 8 || bits == 16 || bits == 24 || bits == 32):
	case tag == tagFloat && (bits == 32 || bits == 64):
		f.Encoding = audio.Float
	case tag == tagPCM || tag == tagFloat:
		return fmt.Errorf("it has %d-bit samples of a kind that is not read; use 16, 24 or 32 bits", bits)
	default:
		return fmt.Errorf("it holds compressed or unknown audio (format tag %d); bounce it as plain WAV", tag)
	}
	if channels == 0 || align != channels*bits/8 {
		return fmt.Errorf("its header contradicts itself: %d channels of %d bits do not make %d bytes a frame", channels, bits, align)
	}
	w.frame, w.format = align, f
	return nil
}

func (w *Reader) setData(at, length, size int64) error {
	w.data = at
	left := size - at
	if length == unknownSize {
		length = left
	}
	w.format.Frames = length / int64(w.frame)
	if err := w.format.Check(); err != nil {
		return err
	}
	if length > left {
		held := max(0, left/int64(w.frame))
		return fmt.Errorf("it is cut short: the header promises %.2f s, the file holds %.2f s",
			w.format.Duration(), float64(held)/float64(w.format.Rate))
	}
	return nil
}

// Format describes the file.
func (w *Reader) Format() audio.Format { return w.format }

// ReadAt fills dst with the frames from frame on; before the start and after the end is
// silence. Integer samples are scaled so that the most negative value reads as -1.
func (w *Reader) ReadAt(dst audio.Buffer, frame int64) error {
	n := dst.Frames()
	lo, hi := int64(0), int64(n)
	if frame < 0 {
		lo = min(-frame, hi)
	}
	hi = max(lo, min(hi, w.format.Frames-frame))
	for c := range dst.Ch {
		audio.Clear(dst.Ch[c][:lo])
		audio.Clear(dst.Ch[c][hi:])
	}
	const block = 16384
	for at := lo; at < hi; at += block {
		m := int(min(block, hi-at))
		if need := m * w.frame; cap(w.raw) < need {
			w.raw = make([]byte, need)
		}
		raw := w.raw[:m*w.frame]
		if got, err := w.r.ReadAt(raw, w.data+(frame+at)*int64(w.frame)); got < len(raw) {
			return fmt.Errorf("reading samples: %w", err)
		}
		for c := range dst.Ch {
			w.decode(dst.Ch[c][at:at+int64(m)], raw[c*w.format.BitDepth/8:])
		}
	}
	return nil
}

func (w *Reader) decode(out []float32, raw []byte) {
	step := w.frame
	switch {
	case w.format.Encoding == audio.Float && w.format.BitDepth == 32:
		for i := range out {
			out[i] = math.Float32frombits(binary.LittleEndian.Uint32(raw[i*step:]))
		}
	case w.format.Encoding == audio.Float:
		for i := range out {
			out[i] = float32(math.Float64frombits(binary.LittleEndian.Uint64(raw[i*step:])))
		}
	case w.format.BitDepth == 8:
		for i := range out {
			out[i] = float32(int(raw[i*step])-128) / (1 << 7)
		}
	case w.format.BitDepth == 16:
		for i := range out {
			out[i] = float32(int16(binary.LittleEndian.Uint16(raw[i*step:]))) / (1 << 15)
		}
	case w.format.BitDepth == 24:
		for i := range out {
			b := raw[i*step : i*step+3]
			v := int32(uint32(b[0])<<8|uint32(b[1])<<16|uint32(b[2])<<24) >> 8
			out[i] = float32(v) / (1 << 23)
		}
	default:
		for i := range out {
			out[i] = float32(float64(int32(binary.LittleEndian.Uint32(raw[i*step:]))) / (1 << 31))
		}
	}
}

// Depth is the way samples are written.
type Depth int

// Depths that Write knows.
const (
	Int24   Depth = 24
	Float32 Depth = 32
)

// Header returns the bytes that come before the samples of a file of that many frames.
func Header(rate, channels, frames int, depth Depth) []byte {
	tag := uint16(tagPCM)
	if depth == Float32 {
		tag = tagFloat
	}
	align := channels * int(depth) / 8
	data := uint32(frames * align)
	h := make([]byte, 0, 44)
	le := binary.LittleEndian
	h = append(h, "RIFF"...)
	h = le.AppendUint32(h, 36+data+data&1)
	h = append(h, "WAVEfmt "...)
	h = le.AppendUint32(h, 16)
	h = le.AppendUint16(h, tag)
	h = le.AppendUint16(h, uint16(channels))
	h = le.AppendUint32(h, uint32(rate))
	h = le.AppendUint32(h, uint32(rate*align))
	h = le.AppendUint16(h, uint16(align))
	h = le.AppendUint16(h, uint16(depth))
	h = append(h, "data"...)
	return le.AppendUint32(h, data)
}

// Write writes b as a WAV file. Integer samples are rounded to nearest, and clipped to
// full scale where they go over it; at 24 bits the rounding error lies below -144 dBFS.
func Write(w io.Writer, b audio.Buffer, depth Depth) error {
	if depth != Int24 && depth != Float32 {
		return fmt.Errorf("wav: no writer for %d bits", depth)
	}
	bw := bufio.NewWriterSize(w, 1<<16)
	if _, err := bw.Write(Header(b.Rate, len(b.Ch), b.Frames(), depth)); err != nil {
		return err
	}
	const block = 4096
	step := int(depth) / 8
	raw := make([]byte, block*len(b.Ch)*step)
	for at := 0; at < b.Frames(); at += block {
		n := min(block, b.Frames()-at)
		p := 0
		for i := at; i < at+n; i++ {
			for c := range b.Ch {
				if v := b.Ch[c][i]; depth == Float32 {
					binary.LittleEndian.PutUint32(raw[p:], math.Float32bits(v))
				} else {
					q := int24(v)
					raw[p], raw[p+1], raw[p+2] = byte(q), byte(q>>8), byte(q>>16)
				}
				p += step
			}
		}
		if _, err := bw.Write(raw[:p]); err != nil {
			return err
		}
	}
	if len(b.Ch)*b.Frames()*step%2 == 1 {
		if err := bw.WriteByte(0); err != nil { // chunks are padded to an even length
			return err
		}
	}
	return bw.Flush()
}

func int24(v float32) int32 {
	const full = 1 << 23
	s := float64(v) * full
	switch {
	case s >= full-1:
		return full - 1
	case s <= -full:
		return -full
	case s < 0:
		return int32(s - 0.5)
	}
	return int32(s + 0.5) // NaN converts to an implementation's own value; mix never makes one
}
