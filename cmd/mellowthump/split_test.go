package main

import (
	"encoding/json"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/demo"
	"mellowthump/internal/outside"
)

// The demo's break is taken apart into three files: they sum to it when sox adds them up, ffmpeg measures the loudness that is said;
// bad input is one line, and leaves no file.
func TestSplitFile(t *testing.T) {
	outside.Slow(t)
	dir := t.TempDir()
	var x audio.Buffer
	for _, s := range demo.CopperKettle().Stems {
		if s.ID == "break" {
			x = s.Sound.Slice(0, 12*s.Sound.Rate)
		}
	}
	file := outside.WriteWAV(t, "break.wav", x, wav.Float32)
	a, b, c := filepath.Join(dir, "a.wav"), filepath.Join(dir, "b.wav"), filepath.Join(dir, "c.wav")
	status, out, errs := command("split", file, "--struck", a, "--sustained", b, "--rest", c)
	if status != 0 {
		t.Fatal(status, errs)
	}
	var said map[string]float64
	if err := json.Unmarshal([]byte(out), &said); err != nil {
		t.Fatal(err)
	}
	for name, path := range map[string]string{"struck_lufs": a, "sustained_lufs": b, "rest_lufs": c} {
		if v, ok := said[name]; !ok || math.Abs(v-outside.EBUR128(t, path).Integrated) > 0.11 {
			t.Errorf("%s: said %v, ffmpeg measures %v", name, v, outside.EBUR128(t, path).Integrated)
		}
	}
	diff := filepath.Join(dir, "diff.wav")
	outside.Run(t, "sox", "-m", "-v", "1", a, "-v", "1", b, "-v", "1", c, "-v", "-1", file, "-b", "32", "-e", "floating-point", diff)
	stats := outside.Run(t, "sox", diff, "-n", "stat")
	for _, line := range strings.Split(stats, "\n") {
		if v, ok := strings.CutPrefix(line, "Maximum amplitude:"); ok {
			var top float64
			if err := json.Unmarshal([]byte(strings.TrimSpace(v)), &top); err != nil || top > 1e-5 {
				t.Errorf("the parts miss the file by %v (%v)", top, err)
			}
		}
	}
	junk := filepath.Join(dir, "junk.wav")
	if err := os.WriteFile(junk, []byte("no sound"), 0o600); err != nil {
		t.Fatal(err)
	}
	left, _ := os.ReadDir(dir)
	for _, c := range []struct {
		args   []string
		status int
		say    string
	}{
		{[]string{"split"}, 2, "name the file"}, {[]string{"split", file, "--struck", a}, 2, "--sustained is missing"},
		{[]string{"split", file, "--struck", a, "--sustained", a, "--rest", c}, 2, "written over"}, {[]string{"split", file, "--struck", file, "--sustained", a,
			"--rest", c}, 2, "written over"},
		{[]string{"split", junk, "--struck", a, "--sustained", b, "--rest", c}, 1, "junk.wav"}, {[]string{"split", file, "--struck", filepath.Join(dir, "no",
			"a.wav"), "--sustained", b, "--rest", c}, 1, "no such"},
	} {
		if status, out, errs := command(c.args...); status != c.status || !strings.Contains(errs, c.say) || out != "" {
			t.Errorf("%v: %d %q %q", c.args, status, out, errs)
		}
	}
	if now, _ := os.ReadDir(dir); len(now) != len(left) {
		t.Errorf("%d files after what was refused, %d before", len(now), len(left))
	}
}
