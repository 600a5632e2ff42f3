package decode

import (
	"bytes"
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
)

// The test program decodes in children of its own, as the program does.
func TestMain(m *testing.M) {
	Main()
	os.Exit(m.Run())
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
	for name, data := range outside.Crafted(t) {
		began := time.Now()
		out, err := decoded(t, t.Context(), data)
		if err == nil || len(out) > 0 || strings.Contains(err.Error(), "goroutine") || len(err.Error()) > 200 {
			t.Errorf("%s: %d bytes, %v", name, len(out), err)
		}
		t.Logf("%s (%d bytes): %v, after %v", name, len(data), err, time.Since(began).Round(time.Millisecond))
	}
}

// A child that works without end is ended with its job.
func TestCancel(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	time.AfterFunc(300*time.Millisecond, stop)
	_, err := decoded(t, ctx, outside.Vorbis(0, outside.Bits(0, 8, 0x564342, 24, 1, 16, 1<<20, 24, 1, 1)))
	if !errors.Is(err, context.Canceled) { // and not that nothing came of it for long
		t.Error(err)
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
