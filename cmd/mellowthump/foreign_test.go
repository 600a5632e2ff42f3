package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"mellowthump/internal/outside"
)

// A crafted file ends a command in a sentence about it, and never the command itself: foreign files are decoded in a
// bounded child here too. What is no file is not waited for.
func TestForeignFilesAreBounded(t *testing.T) {
	dir := t.TempDir()
	for name, data := range outside.Crafted(t) {
		if name == "an ordered codebook cut off" { // nothing comes of it for 30 s: app/decode looks at that
			continue
		}
		path := filepath.Join(dir, "crafted.ogg")
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		var out, said bytes.Buffer
		code := run(t.Context(), []string{"measure", path}, &out, &said)
		if line := strings.TrimSpace(said.String()); code != 1 || out.Len() > 0 || strings.Contains(line, "\n") || strings.Contains(line, "runtime error") ||
			strings.Contains(line, "panic") ||
			!strings.Contains(line, "crafted.ogg: ") {
			t.Errorf("%s: ends with %d, %s", name, code, line)
		}
	}
	pipe := filepath.Join(dir, "pipe.wav")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{pipe: "a pipe or a device", "/dev/zero": "a pipe or a device", dir: "a folder"} {
		var out, said bytes.Buffer
		if code := run(t.Context(), []string{"measure", path}, &out, &said); code != 1 || !strings.Contains(said.String(), want) {
			t.Errorf("%s: ends with %d, %s", path, code, said.String())
		}
	}
}

// What a command that was killed left of its work is gone with the next one; what a command works on stays.
func TestWorkOfKilledCommandsIsSwept(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	_, at, done, err := scratch(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer done()
	killed, err := os.MkdirTemp("", scratchName)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(killed, "parts.wav"), []byte("x"), 0o600); err != nil {
		t.Fatal(err)
	}
	old := time.Now().Add(-time.Hour)
	for _, dir := range []string{at, killed} {
		if err := os.Chtimes(dir, old, old); err != nil {
			t.Fatal(err)
		}
	}
	_, _, next, err := scratch(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	next()
	if _, err := os.Stat(killed); !os.IsNotExist(err) {
		t.Errorf("it is left: %v", err)
	}
	if _, err := os.Stat(at); err != nil {
		t.Errorf("what is worked on is gone: %v", err)
	}
}
