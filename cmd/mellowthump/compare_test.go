package main

import (
	"encoding/json"
	"math"
	"path/filepath"
	"strings"
	"testing"

	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
)

// A file against itself made brighter and softer by sox: the fields by their names, the tilt and the bands that sox's treble
// gives, the loudness that ffmpeg measures, a match that takes some of it back; bad input in one line.
func TestCompareFile(t *testing.T) {
	outside.Slow(t)
	x := ferry()["bell"]
	file := outside.WriteWAV(t, "bell.wav", x.Slice(0, 14*x.Rate), wav.Float32)
	ref := filepath.Join(t.TempDir(), "bright.wav")
	outside.Run(t, "sox", "-v", "0.5", file, "-b", "32", "-e", "floating-point", ref, "treble", "6", "2000")
	status, out, errs := command("compare", file, "--reference", ref)
	if status != 0 {
		t.Fatal(status, errs)
	}
	var got struct {
		Loudness float64 `json:"loudness_off_lu"`
		Tilt     float64 `json:"tilt_off_db_oct"`
		Bands    []struct {
			Hz  float64  `json:"hz"`
			Off *float64 `json:"off_db"`
		} `json:"bands"`
		Match []struct {
			Shape string  `json:"shape"`
			Hz    float64 `json:"hz"`
			DB    float64 `json:"db"`
		} `json:"match"`
		Residual *float64 `json:"residual_db"`
	}
	if err := json.Unmarshal([]byte(out), &got); err != nil {
		t.Fatal(err, out)
	}
	if want := outside.EBUR128(t, file).Integrated - outside.EBUR128(t, ref).Integrated; math.Abs(got.Loudness-want) > 0.11 {
		t.Errorf("%.2f LU, ffmpeg %.2f", got.Loudness, want)
	}
	low, high := math.NaN(), math.NaN()
	for _, b := range got.Bands {
		if b.Off != nil && b.Hz < 300 {
			low = *b.Off
		}
		if b.Off != nil && b.Hz < 8500 {
			high = *b.Off
		}
	}
	if got.Tilt > -0.3 || math.Abs(low-high-6) > 1.5 || len(got.Match) == 0 || got.Residual == nil {
		t.Errorf("tilt %.2f, low %.2f, high %.2f, %d filters", got.Tilt, low, high, len(got.Match))
	}
	for args, c := range map[string]struct {
		status int
		say    string
	}{"compare": {2, "at least one --reference"}, "compare " + file: {2, "--reference"}, "compare none.wav --reference " + ref: {1, "none.wav"}} {
		if status, out, errs := command(strings.Fields(args)...); status != c.status || out != "" || !strings.Contains(errs, c.say) {
			t.Errorf("%s: %d %q %q", args, status, out, errs)
		}
	}
}
