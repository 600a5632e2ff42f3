package decode

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"mellowthump/core/audio/wav"
)

// The test program decodes in children of its own, as the program does.
func TestMain(m *testing.M) {
	Main()
	os.Exit(m.Run())
}

// page is an Ogg page (RFC 3533, 6) with packets under 255 bytes a segment, and its checksum put right.
func page(position int64, serial int, flags byte, packets ...[]byte) []byte {
	p := append([]byte("OggS\x00"), flags)
	p = binary.LittleEndian.AppendUint64(p, uint64(position))
	p = append(p, 1, 0, 0, 0, byte(serial), 0, 0, 0, 0, 0, 0, 0)
	var lacing, body []byte
	for _, k := range packets {
		for n := len(k); n >= 0; n -= 255 {
			lacing = append(lacing, byte(min(n, 255)))
		}
		body = append(body, k...)
	}
	p = append(append(append(p, byte(len(lacing))), lacing...), body...)
	binary.LittleEndian.PutUint32(p[22:], checksum(p))
	return p
}

// checksum is that of an Ogg page whose own is 0 (RFC 3533, 6).
func checksum(p []byte) (crc uint32) {
	for _, b := range p {
		crc ^= uint32(b) << 24
		for range 8 {
			if crc&(1<<31) != 0 {
				crc = crc<<1 ^ 0x04c11db7
			} else {
				crc <<= 1
			}
		}
	}
	return crc
}

// bits packs numbers as Vorbis does, the lowest bit first: value, width, value, width ...
func bits(pairs ...uint64) []byte {
	var out []byte
	at := 0
	for i := 0; i < len(pairs); i += 2 {
		for b := range pairs[i+1] {
			if at%8 == 0 {
				out = append(out, 0)
			}
			out[at/8] |= byte(pairs[i]>>b&1) << (at % 8)
			at++
		}
	}
	return out
}

// The three headers of Vorbis I (Xiph.Org, 4.2), the last two as crafted.
func vorbis(comments uint32, setup []byte) []byte {
	id := append([]byte("\x01vorbis"), 0, 0, 0, 0, 1)
	id = binary.LittleEndian.AppendUint32(id, 44100)
	id = append(id, make([]byte, 12)...)
	id = append(id, 0xb8, 1)
	note := append([]byte("\x03vorbis"), 0, 0, 0, 0)
	note = append(binary.LittleEndian.AppendUint32(note, comments), 1)
	book := append([]byte("\x05vorbis"), setup...)
	return append(page(0, 0, 2, id), append(page(0, 1, 0, note, book), page(44100, 2, 4, []byte{0})...)...)
}

// negative is a sound file whose last page gives a negative length.
func negative(t *testing.T) []byte {
	t.Helper()
	out, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "sine=frequency=55:duration=1", "-c:a", "libvorbis", "-f", "ogg", "-").Output()
	if err != nil {
		t.Fatalf("ffmpeg: %v", err)
	}
	last := bytes.LastIndex(out, []byte("OggS"))
	binary.LittleEndian.PutUint64(out[last+6:], 1<<64-5000)
	binary.LittleEndian.PutUint32(out[last+22:], 0)
	binary.LittleEndian.PutUint32(out[last+22:], checksum(out[last:]))
	return out
}

// decoded runs a file through a child.
func decoded(t *testing.T, ctx context.Context, data []byte) ([]byte, error) {
	t.Helper()
	name := filepath.Join(t.TempDir(), "in")
	if err := os.WriteFile(name, data, 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	var out bytes.Buffer
	_, err = WAV(ctx, f, func(r io.Reader) error {
		_, err := out.ReadFrom(r)
		return err
	})
	return out.Bytes(), err
}

// Files made to bring a decoder down end in a sentence, soon.
func TestCrafted(t *testing.T) {
	defer func(was time.Duration) { silence = was }(silence)
	silence = 2 * time.Second
	head := []uint64{0, 8, 0x564342, 24}
	for name, data := range map[string][]byte{
		"2^32 comments": vorbis(1<<32-1, nil),
		"a codebook of 2^20 x 65535": vorbis(0, append(
			bits(append(head, 65535, 16, 1<<20, 24, 1, 1, 19, 5, 1<<20, 21, 2, 4)...), make([]byte, 64)...)),
		"an ordered codebook cut off":     vorbis(0, bits(append(head, 1, 16, 1<<20, 24, 1, 1)...)),
		"a negative length":               negative(t),
		"an MP3 tag longer than the file": append([]byte("ID3\x04\x00\x00\x7f\x7f\x7f\x7f"), make([]byte, 200)...),
		"noise":                           bytes.Repeat([]byte("no sound at all "), 99),
	} {
		began := time.Now()
		out, err := decoded(t, t.Context(), data)
		if err == nil || len(out) > 0 || strings.Contains(err.Error(), "goroutine") || len(err.Error()) > 200 {
			t.Errorf("%s: %d bytes, %v", name, len(out), err)
		}
		if took := time.Since(began); took > 10*time.Second {
			t.Errorf("%s took %v", name, took)
		}
		t.Logf("%s (%d bytes): %v, after %v", name, len(data), err, time.Since(began).Round(time.Millisecond))
	}
}

// A child that works without end is ended with its job.
func TestCancel(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(300*time.Millisecond, stop)
	began := time.Now()
	_, err := decoded(t, ctx, vorbis(0, bits(0, 8, 0x564342, 24, 1, 16, 1<<20, 24, 1, 1)))
	if !errors.Is(err, context.Canceled) || time.Since(began) > 3*time.Second {
		t.Errorf("after %v: %v", time.Since(began), err)
	}
}

// What cannot be kept ends the child too, with the reason.
func TestTakeFails(t *testing.T) {
	full := errors.New("the disk is full")
	name := filepath.Join(t.TempDir(), "in.wav")
	head := wav.Header(44100, 1, 44100, wav.Int24)
	if err := os.WriteFile(name, append(head, make([]byte, 3*44100)...), 0o600); err != nil {
		t.Fatal(err)
	}
	f, err := os.Open(name)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if _, err := WAV(t.Context(), f, func(io.Reader) error { return full }); !errors.Is(err, full) {
		t.Error(err)
	}
}
