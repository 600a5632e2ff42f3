// Package codec opens a sound file of any kind that is read, by what it holds and not by its
// name.
package codec

import (
	"errors"
	"io"

	"mellowthump/core/audio"
	"mellowthump/core/audio/aiff"
	"mellowthump/core/audio/flac"
	"mellowthump/core/audio/mp3"
	"mellowthump/core/audio/vorbis"
	"mellowthump/core/audio/wav"
)

// ErrUnknown is returned where the bytes are no sound that is read.
var ErrUnknown = errors.New("it is not a sound file that is read: WAV, AIFF, FLAC, MP3 and Ogg Vorbis are")

// Open opens a file of that size in bytes. WAV and AIFF can be read at any place; the others
// from start to end, once.
func Open(r io.ReaderAt, size int64) (audio.Source, error) {
	var head [12]byte
	n, _ := r.ReadAt(head[:], 0)
	if n < 4 {
		return nil, ErrUnknown
	}
	section := io.NewSectionReader(r, 0, size)
	switch magic := string(head[:4]); {
	case magic == "RIFF" || magic == "RF64" || magic == "BW64":
		return source(wav.NewReader(r, size))
	case magic == "FORM":
		return source(aiff.NewReader(r, size))
	case magic == "fLaC":
		return sequential(flac.NewDecoder(section))
	case magic == "OggS":
		return sequential(vorbis.NewDecoder(section))
	case magic[:3] == "ID3" || head[0] == 0xFF && head[1]&0xE0 == 0xE0:
		return sequential(mp3.NewDecoder(section))
	}
	return nil, ErrUnknown
}

func source[S audio.Source](s S, err error) (audio.Source, error) {
	if err != nil {
		return nil, err
	}
	return s, nil
}

func sequential[D audio.Decoder](d D, err error) (audio.Source, error) {
	if err != nil {
		return nil, err
	}
	return audio.Sequential(d), nil
}
