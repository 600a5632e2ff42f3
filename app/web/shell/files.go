package shell

import (
	"archive/zip"
	"bytes"
	"errors"
	"io"
	"log/slog"
	"mime"
	"net/http"
	"os"
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/audio/wav"
	"mellowthump/core/export"
	"mellowthump/core/session"
)

// longestInMemory is the size up to which a file that goes out is held in memory, bytes.
const longestInMemory = 1 << 20

// Send answers with a file. It is made whole first: what goes wrong while it is made is told, and no half a file goes
// out.
func (s *Server) Send(c *gin.Context, f export.File, err error) {
	switch {
	case errors.Is(err, export.ErrNoDuck), errors.Is(err, export.ErrNoHits), errors.Is(err, export.ErrNoPart), errors.Is(err, export.ErrNoPlan):
		s.Fail(c, http.StatusNotFound, Sentence(err.Error()))
		return
	case err != nil:
		s.FailWith(c, err)
		return
	}
	spool := &spool{}
	defer spool.close()
	if err := f.Write(c.Request.Context(), spool); err != nil {
		s.FailWith(c, err)
		return
	}
	size, r, err := spool.reader()
	if err == nil {
		if err = s.noteExports(c, f, r, size); store.Full(err) { // it is not known again when it comes back; it can be fetched all the same
			slog.Error("an export is not noted", "err", err)
			err = nil
		}
	}
	if err != nil {
		s.FailWith(c, err)
		return
	}
	c.Header("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}))
	c.DataFromReader(http.StatusOK, size, f.Type, io.NewSectionReader(r, 0, size), nil)
}

// noteExports remembers what the sounds that go out are: one that comes back is known by its samples.
func (s *Server) noteExports(c *gin.Context, f export.File, r io.ReaderAt, size int64) error {
	note := func(held *session.Held, r io.ReaderAt, size int64) error {
		src, err := codec.Open(io.NewSectionReader(r, 0, size), size)
		if err != nil {
			return err
		}
		print, err := audio.Digest(src)
		if err != nil {
			return err
		}
		return s.Store.NoteExport(c.Request.Context(), c.Param("id"), print, *held)
	}
	if f.Held != nil {
		return note(f.Held, r, size)
	}
	if f.Parts == nil {
		return nil
	}
	z, err := zip.NewReader(r, size)
	if err != nil {
		return err
	}
	for i, part := range f.Parts {
		if part.Held == nil {
			continue
		}
		at, err := z.File[i].DataOffset() // sound is stored as it is
		if err == nil {
			n := int64(z.File[i].UncompressedSize64)
			err = note(part.Held, io.NewSectionReader(r, at, n), n)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// spool holds what is written in memory, and on disk where that is long.
type spool struct {
	memory bytes.Buffer
	file   *os.File
	full   bool // the disk: memory holds what comes from then on
}

// Write takes what is written.
func (s *spool) Write(b []byte) (n int, err error) {
	if s.file == nil && !s.full && s.memory.Len()+len(b) > longestInMemory {
		if s.file, err = os.CreateTemp("", "mellowthump-*"); err != nil {
			return s.inMemory(0, err, b)
		}
		os.Remove(s.file.Name()) // gone when it is closed
		if _, err := s.file.Write(s.memory.Bytes()); err != nil {
			return s.inMemory(0, err, b)
		}
		s.memory = bytes.Buffer{}
	}
	if s.file == nil {
		return s.memory.Write(b)
	}
	if n, err = s.file.Write(b); err != nil {
		return s.inMemory(n, err, b)
	}
	return n, nil
}

// inMemory goes on in memory where the disk is full: a file is fetched to be kept elsewhere. n bytes of b are on the disk already.
func (s *spool) inMemory(n int, err error, b []byte) (int, error) {
	if !store.Full(err) {
		return n, err
	}
	s.full = true
	if s.file != nil {
		if s.memory.Len() == 0 { // else all of it is in memory still
			size, err := s.file.Seek(0, io.SeekCurrent)
			if err == nil {
				_, err = io.Copy(&s.memory, io.NewSectionReader(s.file, 0, size-int64(n)))
			}
			if err != nil {
				return n, err
			}
		}
		s.file.Close()
		s.file = nil
	}
	return s.memory.Write(b)
}

func (s *spool) reader() (int64, io.ReaderAt, error) {
	if s.file == nil {
		return int64(s.memory.Len()), bytes.NewReader(s.memory.Bytes()), nil
	}
	size, err := s.file.Seek(0, io.SeekCurrent)
	return size, s.file, err
}

func (s *spool) close() {
	if s.file != nil {
		s.file.Close()
	}
}

// SendWAV answers with a buffer as a WAV.
func SendWAV(c *gin.Context, b audio.Buffer, depth wav.Depth) {
	data := b.Frames() * len(b.Ch) * int(depth) / 8
	c.Header("Content-Type", "audio/wav")
	c.Header("Content-Length", strconv.Itoa(len(wav.Header(b.Rate, len(b.Ch), b.Frames(), depth))+data+data%2))
	c.Status(http.StatusOK)
	if err := wav.Write(c.Writer, b, depth); err != nil {
		c.Abort() // the other end has gone, or it will see that the file is short
	}
}
