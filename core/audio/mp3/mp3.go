// Package mp3 decodes MPEG-1/2 layer III through hajimehoshi/go-mp3.
//
// The decoder gives 16-bit samples in two channels, and does not take off the encoder's own
// delay (some 20 to 50 ms of silence at the head); both are said where a file is shown.
package mp3

import (
	"encoding/binary"
	"errors"
	"io"

	"github.com/hajimehoshi/go-mp3"

	"mellowthump/core/audio"
)

// Decoder decodes a file from start to end. It implements audio.Decoder.
type Decoder struct {
	d      *mp3.Decoder
	format audio.Format
	raw    []byte
}

const frameBytes = 4 // two channels of 16 bits

// NewDecoder reads the headers of all frames, so that the length is known.
func NewDecoder(r io.ReadSeeker) (d *Decoder, err error) {
	defer recovered(&err)
	mono, err := isMono(r)
	if err != nil {
		return nil, err
	}
	dec, err := mp3.NewDecoder(r)
	if err != nil {
		return nil, &audio.Damaged{What: "its MP3 data", Err: err}
	}
	d = &Decoder{d: dec, format: audio.Format{
		Container: "mp3", Encoding: audio.PCM, BitDepth: 16, Rate: dec.SampleRate(), Channels: 2, Frames: max(0, dec.Length()) / frameBytes,
	}}
	if mono {
		d.format.Channels = 1
	}
	return d, d.format.Check()
}

// Format describes what is decoded.
func (d *Decoder) Format() audio.Format { return d.format }

// Read decodes the next frames.
func (d *Decoder) Read(dst audio.Buffer) (n int, err error) {
	defer recovered(&err)
	need := min(dst.Frames(), 4096) * frameBytes
	if len(d.raw) < need {
		d.raw = make([]byte, need)
	}
	got, err := io.ReadFull(d.d, d.raw[:need])
	n = got / frameBytes
	for c := range dst.Ch {
		for i := range n {
			dst.Ch[c][i] = float32(int16(binary.LittleEndian.Uint16(d.raw[i*frameBytes+2*c:]))) / (1 << 15)
		}
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = nil
	}
	if err != nil && !errors.Is(err, io.EOF) {
		err = &audio.Damaged{What: "its MP3 data", Err: err}
	}
	return n, err
}

// recovered turns a panic of the decoder on damaged data into an error.
func recovered(err *error) {
	if v := recover(); v != nil {
		*err = audio.DamagedBy("its MP3 data", v)
	}
}

// isMono looks at the first frame's header (ISO/IEC 11172-3, 2.4.2.3) after any ID3v2 tag,
// and puts the reader back to its start.
func isMono(r io.ReadSeeker) (bool, error) {
	head := make([]byte, 64<<10)
	at := int64(0)
	var tag [10]byte
	if _, err := io.ReadFull(r, tag[:]); err == nil && string(tag[:3]) == "ID3" {
		at = 10 + int64(tag[6]&0x7F)<<21 + int64(tag[7]&0x7F)<<14 + int64(tag[8]&0x7F)<<7 + int64(tag[9]&0x7F)
	}
	if _, err := r.Seek(at, io.SeekStart); err != nil {
		return false, err
	}
	n, _ := io.ReadFull(r, head)
	_, err := r.Seek(0, io.SeekStart)
	for i := 0; i+4 <= n; i++ {
		if head[i] == 0xFF && head[i+1]&0xE6 == 0xE2 && head[i+2]&0xF0 != 0xF0 && head[i+2]&0x0C != 0x0C {
			return head[i+3]>>6 == 3, err
		}
	}
	return false, err
}
