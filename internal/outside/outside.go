// Package outside runs the programs that the project's figures are checked against: scipy,
// ffmpeg, sox. `make test` installs them; a missing one fails the test, it never skips it.
package outside

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
)

const python = "/usr/bin/python3" // Debian's, which has Debian's scipy

// Python runs a script with the JSON of in on its standard input and reads JSON into out.
func Python(t testing.TB, script string, in, out any) {
	t.Helper()
	body, err := json.Marshal(in)
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(python, "-c", script)
	cmd.Stdin = bytes.NewReader(body)
	var stderr bytes.Buffer
	cmd.Stderr = &stderr
	b, err := cmd.Output()
	if err != nil {
		t.Fatalf("python: %v\n%s", err, stderr.String())
	}
	if err := json.Unmarshal(b, out); err != nil {
		t.Fatalf("python said %q: %v", b, err)
	}
}

// Run runs a program and returns what it printed on both outputs.
func Run(t testing.TB, name string, args ...string) string {
	t.Helper()
	b, err := exec.Command(name, args...).CombinedOutput()
	if err != nil {
		t.Fatalf("%s %v: %v\n%s", name, args, err, b)
	}
	return string(b)
}

// WriteWAV writes a buffer to a file in the test's folder and returns its path.
func WriteWAV(t testing.TB, name string, b audio.Buffer, depth wav.Depth) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), name)
	f, err := os.Create(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := wav.Write(f, b, depth); err != nil {
		t.Fatal(err)
	}
	if err := f.Close(); err != nil {
		t.Fatal(err)
	}
	return path
}

// Loudness is what ffmpeg's ebur128 filter says of a file.
type Loudness struct{ Integrated, Range, TruePeak float64 }

var (
	integrated = regexp.MustCompile(`I:\s+(-?[\d.]+|-inf) LUFS`)
	lra        = regexp.MustCompile(`LRA:\s+(-?[\d.]+) LU\s`)
	peak       = regexp.MustCompile(`Peak:\s+(-?[\d.]+|-inf) dBFS`)
)

// EBUR128 measures a file by `ffmpeg -af ebur128=peak=true`.
func EBUR128(t testing.TB, path string) Loudness {
	t.Helper()
	text := Run(t, "ffmpeg", "-hide_banner", "-nostats", "-i", path, "-af", "ebur128=peak=true", "-f", "null", "-")
	last := func(re *regexp.Regexp) float64 {
		all := re.FindAllStringSubmatch(text, -1)
		if len(all) == 0 {
			t.Fatalf("ffmpeg says nothing of %v:\n%s", re, text)
		}
		v, err := strconv.ParseFloat(all[len(all)-1][1], 64)
		if err != nil {
			return -999 // -inf
		}
		return v
	}
	return Loudness{last(integrated), last(lra), last(peak)}
}

// Sine returns a sine of that amplitude in every channel.
func Sine(rate, channels int, hz, amplitude, seconds, phase float64) audio.Buffer {
	b := audio.New(rate, channels, int(seconds*float64(rate)))
	for i := range b.Ch[0] {
		v := float32(amplitude * sin(hz*float64(i)/float64(rate)+phase))
		for c := range b.Ch {
			b.Ch[c][i] = v
		}
	}
	return b
}
