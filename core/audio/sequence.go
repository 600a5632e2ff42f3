package audio

import (
	"errors"
	"fmt"
	"io"
)

// Decoder gives sound from its start to its end, as compressed files do.
type Decoder interface {
	Format() Format
	// Read fills the start of dst and returns how many frames it gave, 0 and io.EOF at the end.
	Read(dst Buffer) (int, error)
}

// ErrBackwards is returned where sound that only goes forward is asked for an earlier place.
var ErrBackwards = errors.New("audio: this sound can only be read forward")

// Sequential makes a Source of a decoder. It is read from start to end; what was read is gone.
// Where the decoder ends before its format's length the rest is an error, not silence.
func Sequential(d Decoder) Source { return &sequential{d: d} }

type sequential struct {
	d  Decoder
	at int64
}

func (s *sequential) Format() Format { return s.d.Format() }

func (s *sequential) ReadAt(dst Buffer, frame int64) error {
	if frame != s.at {
		return ErrBackwards
	}
	want := int(max(0, min(int64(dst.Frames()), s.d.Format().Frames-frame)))
	for done := 0; done < want; {
		n, err := s.d.Read(dst.Slice(done, want))
		done += n
		s.at += int64(n)
		if done == want {
			break
		}
		if errors.Is(err, io.EOF) || err == nil && n == 0 {
			return fmt.Errorf("it is cut short: the header promises %.2f s, the file holds %.2f s",
				s.d.Format().Duration(), float64(s.at)/float64(s.d.Format().Rate))
		}
		if err != nil {
			return err
		}
	}
	for c := range dst.Ch {
		Clear(dst.Ch[c][want:])
	}
	s.at = frame + int64(dst.Frames())
	return nil
}
