// Package mp3 decodes MPEG-1/2 layer III through hajimehoshi/go-mp3.
//
// The decoder gives 16-bit samples in two channels. What an encoder put before and behind the sound is taken off where its file says how
// much (the tag of the first frame, from memory of its public description); where it does not, some 20 to 50 ms of silence stay at the head.
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
	cut    bool  // it ends where the encoder's padding begins
	left   int64 // frames until there
}

const frameBytes = 4 // two channels of 16 bits

// NewDecoder reads the headers of all frames, so that the length is known.
func NewDecoder(r io.ReadSeeker) (d *Decoder, err error) {
	defer recovered(&err)
	first, err := lookAt(r)
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
	if first.mono {
		d.format.Channels = 1
	}
	if first.tagged { // the frame of the tag is decoded as silence
		skip := first.samples + first.delay + decoderDelay
		left := d.format.Frames - int64(skip)
		if first.frames > 0 {
			left = min(left, int64(first.frames*first.samples-first.delay-first.padding))
		}
		if left > 0 {
			if _, err := io.CopyN(io.Discard, dec, int64(skip)*frameBytes); err != nil {
				return nil, &audio.Damaged{What: "its MP3 data", Err: err}
			}
			d.format.Frames, d.left = left, left
			d.cut = true
		}
	}
	return d, d.format.Check()
}

// decoderDelay is by how much any decoder's own filters are late, frames: 528, and the one that they begin with.
const decoderDelay = 529

// Format describes what is decoded.
func (d *Decoder) Format() audio.Format { return d.format }

// Read decodes the next frames.
func (d *Decoder) Read(dst audio.Buffer) (n int, err error) {
	defer recovered(&err)
	need := min(dst.Frames(), 4096) * frameBytes
	if d.cut {
		if need = int(min(int64(need), d.left*frameBytes)); need == 0 {
			return 0, io.EOF
		}
	}
	if len(d.raw) < need {
		d.raw = make([]byte, need)
	}
	got, err := io.ReadFull(d.d, d.raw[:need])
	n = got / frameBytes
	d.left -= int64(n)
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

// head is what the first frame says.
type head struct {
	mono                   bool
	samples                int  // of a frame
	tagged                 bool // the encoder says what it put before and behind the sound
	frames, delay, padding int
}

// lookAt looks at the first frame's header (ISO/IEC 11172-3, 2.4.2.3) after any ID3v2 tag, and at the encoder's tag in it, and puts
// the reader back to its start.
func lookAt(r io.ReadSeeker) (out head, err error) {
	block := make([]byte, 64<<10)
	at := int64(0)
	var tag [10]byte
	if _, err := io.ReadFull(r, tag[:]); err == nil && string(tag[:3]) == "ID3" {
		at = 10 + int64(tag[6]&0x7F)<<21 + int64(tag[7]&0x7F)<<14 + int64(tag[8]&0x7F)<<7 + int64(tag[9]&0x7F)
	}
	if _, err := r.Seek(at, io.SeekStart); err != nil {
		return out, err
	}
	n, _ := io.ReadFull(r, block)
	_, err = r.Seek(0, io.SeekStart)
	for i := 0; i+4 <= n; i++ {
		if block[i] == 0xFF && block[i+1]&0xE6 == 0xE2 && block[i+2]&0xF0 != 0xF0 && block[i+2]&0x0C != 0x0C {
			first := block[i+1]&0x08 != 0 // MPEG-1
			out.mono = block[i+3]>>6 == 3
			side := 17 // bytes of side information
			switch {
			case first && !out.mono:
				side = 32
			case !first && out.mono:
				side = 9
			}
			if out.samples = 576; first {
				out.samples = 1152
			}
			out.tag(block[i+4+min(side, n-i-4) : n])
			break
		}
	}
	return out, err
}

// tag reads the encoder's tag: "Xing" or "Info", flags, what they say is there (frames, bytes, a table, a quality), and the encoder's own
// part, of which the 22nd to 24th byte are delay and padding, 12 bits each.
func (h *head) tag(b []byte) {
	const word, table, own = 4, 100, 21
	if len(b) < 2*word || string(b[:word]) != "Xing" && string(b[:word]) != "Info" {
		return
	}
	flags := binary.BigEndian.Uint32(b[word:])
	at := 2 * word
	for i, size := range []int{word, word, table, word} {
		if flags&(1<<i) == 0 {
			continue
		}
		if i == 0 && len(b) >= at+word {
			h.frames = int(binary.BigEndian.Uint32(b[at:]))
		}
		at += size
	}
	if len(b) < at+own+3 || b[at] < '0' { // nobody signed it
		return
	}
	v := b[at+own:]
	h.delay, h.padding = int(v[0])<<4|int(v[1])>>4, int(v[1]&0x0F)<<8|int(v[2])
	h.tagged = true
}
