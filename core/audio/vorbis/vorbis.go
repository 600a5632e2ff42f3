// Package vorbis decodes Ogg Vorbis through jfreymuth/oggvorbis.
package vorbis

import (
	"errors"
	"io"

	"github.com/jfreymuth/oggvorbis"

	"mellowthump/core/audio"
)

// Decoder decodes a file from start to end. It implements audio.Decoder.
type Decoder struct {
	r      *oggvorbis.Reader
	format audio.Format
	raw    []float32
}

// NewDecoder reads the headers, and the last page for the length.
func NewDecoder(r io.ReadSeeker) (d *Decoder, err error) {
	defer recovered(&err)
	v, err := oggvorbis.NewReader(r)
	if err != nil {
		return nil, &audio.Damaged{What: "its Vorbis data", Err: err}
	}
	d = &Decoder{r: v, format: audio.Format{
		Container: "ogg", Encoding: audio.Float, BitDepth: 32, Rate: v.SampleRate(), Channels: v.Channels(), Frames: v.Length(),
	}}
	return d, d.format.Check()
}

// Format describes what is decoded.
func (d *Decoder) Format() audio.Format { return d.format }

// Read decodes the next frames.
func (d *Decoder) Read(dst audio.Buffer) (n int, err error) {
	defer recovered(&err)
	channels := d.format.Channels
	need := min(dst.Frames(), 4096) * channels
	if len(d.raw) < need {
		d.raw = make([]float32, need)
	}
	got, err := d.r.Read(d.raw[:need])
	n = got / channels
	for c := range dst.Ch {
		for i := range n {
			dst.Ch[c][i] = d.raw[i*channels+c]
		}
	}
	if err != nil && !errors.Is(err, io.EOF) {
		err = &audio.Damaged{What: "its Vorbis data", Err: err}
	}
	return n, err
}

// recovered turns a panic of the decoder on damaged data into an error.
func recovered(err *error) {
	if v := recover(); v != nil {
		*err = audio.DamagedBy("its Vorbis data", v)
	}
}
