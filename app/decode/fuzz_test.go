package decode

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/internal/outside"
)

// foreign is a short sound as ffmpeg writes it.
func foreign(f *testing.F, args ...string) []byte {
	f.Helper()
	name := filepath.Join(f.TempDir(), "x."+args[0])
	args = append([]string{"-v", "error", "-f", "lavfi", "-i", "sine=frequency=55:sample_rate=8000:duration=0.1"}, append(args[1:], name)...)
	outside.Run(f, "ffmpeg", args...)
	b, err := os.ReadFile(name)
	if err != nil {
		f.Fatal(err)
	}
	return b
}

// fuzzed is a fuzz target of one kind: whatever the bytes are, a child of this program gives a whole sound or a sentence,
// soon and within its memory. What a child has lived through is read here once more, so that the search sees its ways.
func fuzzed(f *testing.F, mended func([]byte) []byte) {
	silence = outside.MostTime / 2
	scratch := filepath.Join(f.TempDir(), "in")
	f.Fuzz(func(t *testing.T, data []byte) {
		data = mended(bytes.Clone(data))
		if err := os.WriteFile(scratch, data, 0o600); err != nil {
			t.Fatal(err)
		}
		in, err := os.Open(scratch)
		if err != nil {
			t.Fatal(err)
		}
		defer in.Close()
		began, got := time.Now(), int64(0)
		format, err := WAV(t.Context(), in, func(r io.Reader) (err error) {
			got, err = io.Copy(io.Discard, r)
			return err
		})
		if took := time.Since(began); took > outside.MostTime {
			t.Errorf("it took %v: %v", took, err)
		}
		if err != nil {
			if said := err.Error(); strings.Contains(said, "goroutine") || strings.Contains(said, "\n") || len(said) > 300 || errors.Is(err, io.EOF) {
				t.Errorf("%q is no sentence", said)
			}
		} else if format.Check() != nil || got < format.Frames*int64(format.Channels)*3 {
			t.Errorf("%d bytes of sound for %+v", got, format)
		}
		if !errors.Is(err, ErrSenseless) {
			outside.Bounded(t, func() { read(data) })
		}
	})
}

// read decodes all of a file.
func read(data []byte) {
	src, err := codec.Open(bytes.NewReader(data), int64(len(data)))
	if err != nil || src.Format().Check() != nil {
		return
	}
	buf := audio.New(src.Format().Rate, src.Format().Channels, 4096)
	for at := int64(0); at < src.Format().Frames && src.ReadAt(buf, at) == nil; at += 4096 {
	}
}

func asItIs(b []byte) []byte { return b }

func FuzzAIFF(f *testing.F) {
	f.Add(foreign(f, "aiff"))
	f.Add(foreign(f, "aiff", "-c:a", "pcm_s16le"))
	f.Add(foreign(f, "aiff", "-c:a", "pcm_f64be"))
	fuzzed(f, asItIs)
}

func FuzzMP3(f *testing.F) {
	f.Add(foreign(f, "mp3"))
	f.Add(foreign(f, "mp3", "-ac", "2", "-ar", "44100", "-b:a", "128k"))
	fuzzed(f, asItIs)
}

func FuzzOgg(f *testing.F) {
	f.Add(foreign(f, "ogg"))
	f.Add(outside.Vorbis(0, outside.Bits(0, 8, 0x564342, 24, 1, 16, 8, 24, 1, 1)))
	fuzzed(f, oggMended)
}

func FuzzFLAC(f *testing.F) {
	f.Add(foreign(f, "flac"))
	f.Add(foreign(f, "flac", "-sample_fmt", "s32", "-ac", "2", "-compression_level", "12"))
	fuzzed(f, flacMended)
}

// oggMended puts the checksum of every page right (RFC 3533, 6).
func oggMended(b []byte) []byte {
	for at := 0; at+27 <= len(b); at++ {
		if string(b[at:at+4]) != "OggS" {
			continue
		}
		end := at + 27 + int(b[at+26])
		if end > len(b) {
			break
		}
		for _, n := range b[at+27 : end] {
			end += int(n)
		}
		if end > len(b) {
			break
		}
		clear(b[at+22 : at+26])
		binary.LittleEndian.PutUint32(b[at+22:], outside.Checksum(b[at:end]))
		at = end - 1
	}
	return b
}

// flacMended puts the two checksums of every frame right (RFC 9639, 9.1.8 and 9.3): a frame begins at its sync code and
// ends before the next.
func flacMended(b []byte) []byte {
	first := 4
	for last := false; !last && first+4 <= len(b); { // behind its blocks of metadata
		last = b[first]&0x80 != 0
		first += 4 + int(b[first+1])<<16 + int(b[first+2])<<8 + int(b[first+3])
	}
	var starts []int
	for at := first; at+6 < len(b); at++ { // all have the first one's channels and bits
		if b[at] == 0xff && b[at+1]&0xfe == 0xf8 && b[at+3] == b[first+3] {
			starts = append(starts, at)
		}
	}
	for i, at := range starts {
		end := len(b)
		if i+1 < len(starts) {
			end = starts[i+1]
		}
		frame := b[at:end]
		if n := flacHead(frame); n > 0 && n+3 <= len(frame) {
			frame[n] = byte(crc(frame[:n], 8, 0x07))
			binary.BigEndian.PutUint16(frame[len(frame)-2:], uint16(crc(frame[:len(frame)-2], 16, 0x8005)))
		}
	}
	return b
}

// flacHead is the length of a frame's header without its checksum (RFC 9639, 9.1), 0 where it is none.
func flacHead(frame []byte) int {
	if len(frame) < 6 {
		return 0
	}
	n := 5 // sync, sizes, channels, and the first byte of the number
	for bit := byte(0x80); frame[4]&bit != 0 && bit > 1; bit >>= 1 {
		n++
	}
	if frame[4]&0x80 != 0 {
		n-- // the first one bit stands for the byte itself
	}
	switch frame[2] >> 4 {
	case 6:
		n++
	case 7:
		n += 2
	}
	switch frame[2] & 15 {
	case 12:
		n++
	case 13, 14:
		n += 2
	}
	return n
}

// crc is a plain checksum of that many bits, the highest first.
func crc(b []byte, width uint, by uint32) (sum uint32) {
	for _, v := range b {
		sum ^= uint32(v) << (width - 8)
		for range 8 {
			if sum&(1<<(width-1)) != 0 {
				sum = sum<<1 ^ by
			} else {
				sum <<= 1
			}
		}
	}
	return sum & (1<<width - 1)
}

// What is mended by hand is what ffmpeg wrote, and a file with other numbers in it passes its checks.
func TestMended(t *testing.T) {
	for _, kind := range []string{"flac", "ogg"} {
		mended := map[string]func([]byte) []byte{"flac": flacMended, "ogg": oggMended}[kind]
		was, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "sine=frequency=55:sample_rate=8000:duration=3", "-f", kind, "-").Output()
		if err != nil {
			t.Fatalf("ffmpeg: %v", err)
		}
		if !bytes.Equal(mended(bytes.Clone(was)), was) {
			t.Errorf("%s: a whole file is changed", kind)
		}
		cut := bytes.Clone(was)
		for _, at := range []int{len(cut) - 1, len(cut) - 2} {
			cut[at] ^= 0x55 // of FLAC its last checksum, of Ogg the sound
		}
		if kind == "flac" && !bytes.Equal(mended(cut), was) {
			t.Error("flac: the checksum is not put right")
		}
	}
}
