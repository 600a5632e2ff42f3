package shell

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"
)

// A field shows all that was typed, so that an edit of one point leaves the others alone.
func TestTypedKeepsWhatWasTyped(t *testing.T) {
	for v, want := range map[float64]string{-9.25: "-9.25", 0: "0", 209.7: "209.7", 12.345: "12.345", -6: "-6"} {
		if got := Typed(v); got != want {
			t.Errorf("%g is shown as %q, want %q", v, got, want)
		}
	}
}

// A template can be read: no line of it is over 160 characters.
func TestTemplateLines(t *testing.T) {
	files, err := filepath.Glob("../*/*.html")
	if err != nil || len(files) < 10 {
		t.Fatalf("%d templates, %v", len(files), err)
	}
	for _, name := range files {
		body, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		for i, line := range strings.Split(string(body), "\n") {
			if n := utf8.RuneCountInString(line); n > 160 {
				t.Errorf("%s:%d has %d characters", filepath.Base(name), i+1, n)
			}
		}
	}
}
