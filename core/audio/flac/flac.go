// Package flac reads and writes FLAC files through mewkiz/flac.
package flac

import (
	"errors"
	"fmt"
	"io"

	"github.com/mewkiz/flac"
	"github.com/mewkiz/flac/frame"
	"github.com/mewkiz/flac/meta"

	"mellowthump/core/audio"
)

// Decoder decodes a FLAC file from start to end. It implements audio.Decoder.
type Decoder struct {
	stream *flac.Stream
	format audio.Format
	frame  *frame.Frame
	at     int // next sample in frame
}

// NewDecoder reads the header. A stream that does not say its length is refused: what is
// taken in is checked against its end.
func NewDecoder(r io.Reader) (*Decoder, error) {
	s, err := flac.New(r)
	if err != nil {
		return nil, &audio.Damaged{What: "its FLAC header", Err: err}
	}
	d := &Decoder{stream: s, format: audio.Format{
		Container: "flac", Encoding: audio.PCM, BitDepth: int(s.Info.BitsPerSample),
		Rate: int(s.Info.SampleRate), Channels: int(s.Info.NChannels), Frames: int64(s.Info.NSamples),
	}}
	if d.format.Frames == 0 {
		return nil, errors.New("its FLAC header does not say how long it is; encode it to a file, not to a pipe")
	}
	return d, d.format.Check()
}

// Format describes the file.
func (d *Decoder) Format() audio.Format { return d.format }

// Read decodes the next frames.
func (d *Decoder) Read(dst audio.Buffer) (int, error) {
	for d.frame == nil || d.at >= int(d.frame.BlockSize) {
		f, err := d.stream.ParseNext()
		if err != nil {
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				return 0, io.EOF
			}
			return 0, &audio.Damaged{What: "its FLAC data", Err: err}
		}
		if len(f.Subframes) != d.format.Channels {
			return 0, errors.New("its FLAC data is damaged: the number of channels changes")
		}
		d.frame, d.at = f, 0
	}
	n := min(dst.Frames(), int(d.frame.BlockSize)-d.at)
	scale := 1 / float64(int64(1)<<(d.format.BitDepth-1))
	for c := range dst.Ch {
		samples := d.frame.Subframes[c].Samples
		if len(samples) < d.at+n {
			return 0, errors.New("its FLAC data is damaged: a block is too short")
		}
		for i, v := range samples[d.at : d.at+n] {
			dst.Ch[c][i] = float32(float64(v) * scale)
		}
	}
	d.at += n
	return n, nil
}

const blockSize = 4096

// Write writes a buffer as FLAC of 16 or 24 bits, rounded to nearest and clipped at full
// scale. The writer has to be able to seek: lengths and checksum are filled in at the end.
func Write(w io.WriteSeeker, b audio.Buffer, bits int) error {
	if bits != 16 && bits != 24 {
		return fmt.Errorf("flac: no writer for %d bits", bits)
	}
	enc, err := flac.NewEncoder(keepOpen{w}, &meta.StreamInfo{
		BlockSizeMin: blockSize, BlockSizeMax: blockSize, SampleRate: uint32(b.Rate),
		NChannels: uint8(len(b.Ch)), BitsPerSample: uint8(bits), NSamples: uint64(b.Frames()),
	})
	if err != nil {
		return fmt.Errorf("writing FLAC: %w", err)
	}
	channels := frame.ChannelsMono
	if len(b.Ch) == 2 {
		channels = frame.ChannelsLR
	}
	full := float64(int64(1) << (bits - 1))
	for at := 0; at < b.Frames(); at += blockSize {
		n := min(blockSize, b.Frames()-at)
		f := &frame.Frame{
			Header: frame.Header{HasFixedBlockSize: true, BlockSize: uint16(n), SampleRate: uint32(b.Rate), Channels: channels, BitsPerSample: uint8(bits)},
		}
		for c := range b.Ch {
			s := &frame.Subframe{SubHeader: frame.SubHeader{Pred: frame.PredVerbatim}, NSamples: n, Samples: make([]int32, n)} // the encoder looks for better
			for i, v := range b.Ch[c][at : at+n] {
				s.Samples[i] = quantise(float64(v)*full, full)
			}
			f.Subframes = append(f.Subframes, s)
		}
		if err := enc.WriteFrame(f); err != nil {
			return fmt.Errorf("writing FLAC: %w", err)
		}
	}
	return enc.Close()
}

func quantise(s, full float64) int32 {
	if s < 0 {
		s -= 0.5
	} else {
		s += 0.5
	}
	return int32(max(-full, min(full-1, s)))
}

// keepOpen hides Close: the encoder would close a file that is not its own.
type keepOpen struct{ io.WriteSeeker }
