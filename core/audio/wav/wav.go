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
	"mellowthump/core/audio/pcm"
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

// Is reports whether a file begins as a WAV does, RF64 and BW64 among them.
func Is(r io.ReaderAt) bool {
	var head [4]byte
	_, err := r.ReadAt(head[:], 0)
	return err == nil && (string(head[:]) == "RIFF" || string(head[:]) == "RF64" || string(head[:]) == "BW64")
}

// NewReader reads the header of a file of that size in bytes. RF64 and BW64 (EBU Tech 3306,
// ITU-R BS.2088) are read too; other chunks (LIST, smpl, cue and so on) are passed over. The
// error says in plain words what is wrong: not a WAV, cut short, no samples, an encoding
// that is not read.
func NewReader(r io.ReaderAt, size int64) (*pcm.Reader, error) {
	var head [12]byte
	if _, err := r.ReadAt(head[:], 0); err != nil {
		return nil, ErrNotWAV
	}
	wide := string(head[:4]) == "RF64" || string(head[:4]) == "BW64"
	if !wide && string(head[:4]) != "RIFF" || string(head[8:]) != "WAVE" {
		return nil, ErrNotWAV
	}
	l := pcm.Layout{Unsigned8: true}
	dataSize := int64(-1) // from the ds64 chunk
	at := int64(12)
	for range maxChunks {
		var ck [8]byte
		if n, err := r.ReadAt(ck[:], at); n < len(ck) {
			if err != nil && err != io.EOF {
				return nil, fmt.Errorf("reading the header: %w", err)
			}
			if l.Format.Channels == 0 {
				return nil, errors.New("it is cut short: the header ends before the format is named")
			}
			return nil, errors.New("it is cut short: there are no samples after the header")
		}
		id, length := string(ck[:4]), int64(binary.LittleEndian.Uint32(ck[4:]))
		at += 8
		switch id {
		case "ds64":
			var b [16]byte
			if n, _ := r.ReadAt(b[:], at); wide && n == len(b) {
				dataSize = int64(binary.LittleEndian.Uint64(b[8:]))
			}
		case "fmt ":
			f, err := readFormat(r, at, length)
			if err != nil {
				return nil, err
			}
			l.Format = f
		case "data":
			if l.Format.Channels == 0 {
				return nil, errors.New("its header is out of order: samples come before the format")
			}
			if length == unknownSize {
				if length = size - at; wide && dataSize >= 0 {
					length = dataSize
				}
			}
			l.Start = at
			if err := l.Fits(length, size-at); err != nil {
				return nil, err
			}
			return pcm.NewReader(r, l), nil
		}
		at += length + length&1
	}
	return nil, ErrNotWAV
}

func readFormat(r io.ReaderAt, at, length int64) (audio.Format, error) {
	f := audio.Format{Container: "wav", Encoding: audio.PCM}
	if length < 16 || length > 4096 {
		return f, fmt.Errorf("its format chunk has a wrong size (%d bytes)", length)
	}
	b := make([]byte, length)
	if _, err := r.ReadAt(b, at); err != nil {
		return f, errors.New("it is cut short inside the header")
	}
	tag := binary.LittleEndian.Uint16(b)
	f.Channels = int(binary.LittleEndian.Uint16(b[2:]))
	f.Rate = int(binary.LittleEndian.Uint32(b[4:]))
	align := int(binary.LittleEndian.Uint16(b[12:]))
	bits := int(binary.LittleEndian.Uint16(b[14:]))
	f.BitDepth = bits
	if tag == tagExtensible {
		if length < 40 {
			return f, errors.New("its EXTENSIBLE header is too short")
		}
		tag = binary.LittleEndian.Uint16(b[24:])
	}
	switch {
	case tag == tagPCM && (bits == 8 || bits == 16 || bits == 24 || bits == 32):
	case tag == tagFloat && (bits == 32 || bits == 64):
		f.Encoding = audio.Float
	case tag == tagPCM || tag == tagFloat:
		return f, fmt.Errorf("it has %d-bit samples of a kind that is not read; use 16, 24 or 32 bits", bits)
	default:
		return f, fmt.Errorf("it holds compressed or unknown audio (format tag %d); bounce it as plain WAV", tag)
	}
	if f.Channels == 0 || align != f.Channels*bits/8 {
		return f, fmt.Errorf("its header contradicts itself: %d channels of %d bits do not make %d bytes a frame", f.Channels, bits, align)
	}
	return f, nil
}

// Depth is the way samples are written.
type Depth int

// Depths that Write knows.
const (
	Int16   Depth = 16 // with triangular dither
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

// Write writes b as a WAV file. Integer samples are rounded to nearest, and clipped to full
// scale where they go over it. 16 bits are dithered (TPDF, two steps wide, the same on every
// run; Lipshitz, Wannamaker and Vanderkooy, JAES 40(5), 1992); at 24 bits the rounding error
// lies below -144 dBFS and is left alone.
func Write(w io.Writer, b audio.Buffer, depth Depth) error {
	out, err := NewWriter(w, b.Rate, len(b.Ch), b.Frames(), depth)
	if err != nil {
		return err
	}
	if err := out.Write(b); err != nil {
		return err
	}
	return out.Close()
}

// Writer writes a file of known length block by block.
type Writer struct {
	w      *bufio.Writer
	depth  Depth
	raw    []byte
	left   int // frames still to come
	bytes  int
	dither uint64
}

// NewWriter writes the header of a file of that many frames.
func NewWriter(w io.Writer, rate, channels, frames int, depth Depth) (*Writer, error) {
	if depth != Int16 && depth != Int24 && depth != Float32 {
		return nil, fmt.Errorf("wav: no writer for %d bits", depth)
	}
	out := &Writer{w: bufio.NewWriterSize(w, 1<<16), depth: depth, left: frames, bytes: channels * frames * int(depth) / 8, dither: 1}
	_, err := out.w.Write(Header(rate, channels, frames, depth))
	return out, err
}

// Write writes the next block.
func (o *Writer) Write(b audio.Buffer) error {
	const block = 4096
	if o.left -= b.Frames(); o.left < 0 {
		return errors.New("wav: more frames than the header promises")
	}
	step := int(o.depth) / 8
	if need := block * len(b.Ch) * step; len(o.raw) < need {
		o.raw = make([]byte, need)
	}
	frame := step * len(b.Ch)
	for at := 0; at < b.Frames(); at += block {
		end := min(at+block, b.Frames())
		raw := o.raw[:(end-at)*frame]
		switch o.depth {
		case Int24:
			for c, ch := range b.Ch {
				for i, v := range ch[at:end] {
					q, to := int24(v), raw[i*frame+c*step:][:3]
					to[0], to[1], to[2] = byte(q), byte(q>>8), byte(q>>16)
				}
			}
		case Float32:
			for c, ch := range b.Ch {
				for i, v := range ch[at:end] {
					binary.LittleEndian.PutUint32(raw[i*frame+c*step:], math.Float32bits(v))
				}
			}
		default: // the dither runs on from channel to channel
			for i := range end - at {
				for c := range b.Ch {
					binary.LittleEndian.PutUint16(raw[i*frame+c*step:], uint16(o.int16(b.Ch[c][at+i])))
				}
			}
		}
		if _, err := o.w.Write(raw); err != nil {
			return err
		}
	}
	return nil
}

// Close writes what is left; it does not close the file.
func (o *Writer) Close() error {
	if o.left != 0 {
		return fmt.Errorf("wav: %d frames are missing", o.left)
	}
	if o.bytes%2 == 1 {
		if err := o.w.WriteByte(0); err != nil { // chunks are padded to an even length
			return err
		}
	}
	return o.w.Flush()
}

// int16 rounds with dither of triangular distribution, one step to each side. What stands on a step already has no error to be
// dithered: so a file of 16 bits goes through as it is.
func (o *Writer) int16(v float32) int16 {
	if s := float64(v) * (1 << 15); s == math.Trunc(s) {
		return int16(max(-1<<15, min(1<<15-1, s)))
	}
	uniform := func() float64 {
		o.dither = o.dither*6364136223846793005 + 1442695040888963407
		return float64(o.dither>>11) / (1 << 53)
	}
	s := math.Round(float64(v)*(1<<15) + uniform() - uniform())
	return int16(max(-1<<15, min(1<<15-1, s)))
}

func int24(v float32) int32 {
	const full = 1 << 23
	s := float64(v) * full
	q := int32(s + math.Copysign(0.5, s)) // no branch on the sign, which changes all the time
	if s >= full-1 {
		return full - 1
	}
	if s <= -full {
		return -full
	}
	return q // NaN converts to an implementation's own value; mix never makes one
}
