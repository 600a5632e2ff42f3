// Package aiff reads AIFF and AIFF-C files: integer samples of 8 to 32 bits in either byte
// order ("NONE", "twos", "sowt") and floating point ("fl32", "FL32", "fl64", "FL64").
//
// The layout follows Apple, "Audio Interchange File Format: AIFF" 1.3 (1989) and "AIFF-C"
// draft (1991). The general-purpose package go-audio/aiff reads neither floating point nor
// headers with wrong sizes safely, so this reader is our own.
package aiff

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/audio/pcm"
)

// ErrNotAIFF is returned where the bytes are no AIFF file at all.
var ErrNotAIFF = errors.New("it is not an AIFF file")

const maxChunks = 1000

// NewReader reads the header of a file of that size in bytes.
func NewReader(r io.ReaderAt, size int64) (*pcm.Reader, error) {
	var head [12]byte
	if _, err := r.ReadAt(head[:], 0); err != nil || string(head[:4]) != "FORM" {
		return nil, ErrNotAIFF
	}
	compressed := string(head[8:]) == "AIFC"
	if !compressed && string(head[8:]) != "AIFF" {
		return nil, ErrNotAIFF
	}
	l := pcm.Layout{BigEndian: true, Format: audio.Format{Container: "aiff", Encoding: audio.PCM}}
	frames := int64(-1)
	at, sound, soundBytes := int64(12), int64(-1), int64(0)
	for range maxChunks {
		var ck [8]byte
		if n, _ := r.ReadAt(ck[:], at); n < len(ck) {
			break
		}
		length := int64(binary.BigEndian.Uint32(ck[4:]))
		at += 8
		switch string(ck[:4]) {
		case "COMM":
			n, err := common(r, at, length, compressed, &l)
			if err != nil {
				return nil, err
			}
			frames = n
		case "SSND":
			var b [8]byte
			if n, _ := r.ReadAt(b[:], at); n < len(b) {
				return nil, errors.New("it is cut short: there are no samples after the header")
			}
			offset := int64(binary.BigEndian.Uint32(b[:]))
			sound, soundBytes = at+8+offset, length-8-offset
		}
		at += length + length&1
	}
	switch {
	case frames < 0:
		return nil, errors.New("it is cut short: the header ends before the format is named")
	case frames == 0:
		return nil, errors.New("it holds no audio (0 samples)")
	case sound < 0:
		return nil, errors.New("it is cut short: there are no samples after the header")
	}
	l.Start = sound
	promised := frames * int64(l.FrameBytes())
	if err := l.Fits(promised, min(size-sound, max(soundBytes, 0))); err != nil {
		return nil, err
	}
	return pcm.NewReader(r, l), nil
}

// common reads the COMM chunk into l and returns the number of frames.
func common(r io.ReaderAt, at, length int64, compressed bool, l *pcm.Layout) (int64, error) {
	need := int64(18)
	if compressed {
		need = 22
	}
	if length < need || length > 4096 {
		return 0, fmt.Errorf("its format chunk has a wrong size (%d bytes)", length)
	}
	b := make([]byte, need)
	if n, _ := r.ReadAt(b, at); n < len(b) {
		return 0, errors.New("it is cut short inside the header")
	}
	be := binary.BigEndian
	bits := int(be.Uint16(b[6:]))
	l.Format.Channels = int(be.Uint16(b))
	l.Format.Rate = extended(b[8:18])
	l.Format.BitDepth = (bits + 7) / 8 * 8 // narrower samples stand left-aligned in whole bytes
	kind := "NONE"
	if compressed {
		kind = string(b[18:22])
	}
	switch kind {
	case "NONE", "twos", "in24", "in32":
	case "sowt":
		l.BigEndian = false
	case "fl32", "FL32":
		l.Format.Encoding, l.Format.BitDepth = audio.Float, 32
	case "fl64", "FL64":
		l.Format.Encoding, l.Format.BitDepth = audio.Float, 64
	default:
		return 0, fmt.Errorf("it holds compressed audio of the kind %q; bounce it as plain AIFF or WAV", kind)
	}
	if l.Format.Encoding == audio.PCM && (bits < 1 || bits > 32) {
		return 0, fmt.Errorf("it has %d-bit samples; 8 to 32 bits are read", bits)
	}
	if l.Format.Channels == 0 {
		return 0, errors.New("it has no channels")
	}
	return int64(be.Uint32(b[2:])), nil
}

// extended reads the 80-bit floating-point number in which AIFF holds its rate; a rate that
// is none reads as 0, which the limits refuse.
func extended(b []byte) int {
	exponent := int(binary.BigEndian.Uint16(b)&0x7FFF) - 16383
	v := math.Ldexp(float64(binary.BigEndian.Uint64(b[2:])), exponent-63)
	if !(v >= 0 && v <= 1e8) || b[0]&0x80 != 0 {
		return 0
	}
	return int(math.Round(v))
}
