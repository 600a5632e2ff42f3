package main

import (
	"bytes"
	"encoding/json"
	"math"
	"os"
	"path/filepath"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/demo"
	"mellowthump/internal/outside"
)

// The demo's finished track, turned down, comes to the loudness that is asked under the ceiling by ffmpeg, by every school and
// in every form; untouched it stays what it is to the bit; bad input is one line, and leaves no file.
func TestMaster(t *testing.T) {
	outside.Slow(t)
	dir := t.TempDir()
	x := demo.TidalGlass().Finished[0].Sound.Slice(0, 12*44100)
	for _, ch := range x.Ch {
		for i := range ch {
			ch[i] *= 0.4
		}
	}
	file := outside.WriteWAV(t, "mix.wav", x, wav.Float32)
	to := filepath.Join(dir, "out.wav")
	for school, form := range map[string]string{"clip": "24", "limit": "16", "two": "32f"} {
		status, out, errs := command("master", file, "--out", to, "--lufs", "-10", "--ceiling", "-1.5", "--school", school, "--form", form)
		if status != 0 {
			t.Fatal(school, status, errs)
		}
		var said mastered
		if err := json.Unmarshal([]byte(out), &said); err != nil {
			t.Fatal(err)
		}
		is := outside.EBUR128(t, to)
		if !said.Reached || math.Abs(is.Integrated+10) > 0.3 || is.TruePeak > -1.5+0.1 || math.Abs(is.Integrated-float64(said.After.Loudness)) > 0.1 ||
			len(said.Chain) == 0 {
			t.Errorf("%s: %.1f LUFS, %.2f dBTP: %s", school, is.Integrated, is.TruePeak, out)
		}
	}
	mono := outside.WriteWAV(t, "mono.wav", audio.Buffer{Rate: x.Rate, Ch: x.Ch[:1]}, wav.Int16) // one channel is one channel
	if status, out, errs := command("master", mono, "--out", to, "--lufs", "-12"); status != 0 || math.Abs(outside.EBUR128(t, to).Integrated+12) > 0.3 {
		t.Errorf("a mono file comes out at %.1f LUFS: %s%s", outside.EBUR128(t, to).Integrated, out, errs)
	}
	if status, _, errs := command("master", mono, "--out", to, "--school", "none", "--form", "16"); status != 0 {
		t.Fatal(errs)
	}
	was, err := os.ReadFile(mono)
	now, err2 := os.ReadFile(to)
	if err != nil || err2 != nil || !bytes.Equal(was, now) {
		t.Errorf("an untouched file of 16 bits is another: %v %v", err, err2)
	}
	if status, _, errs := command("master", file, "--out", to, "--school", "none", "--form", "32f"); status != 0 {
		t.Fatal(errs)
	}
	src, opened, err := openSound(t.Context(), to)
	if err != nil {
		t.Fatal(err)
	}
	defer opened.Close()
	y, err := audio.ReadAll(src)
	if err != nil {
		t.Fatal(err)
	}
	for c := range x.Ch {
		for i, v := range x.Ch[c] {
			if v != y.Ch[c][i] {
				t.Fatalf("untouched it differs at %d", i)
			}
		}
	}
	silent := outside.WriteWAV(t, "silent.wav", audio.New(44100, 1, 44100), wav.Int16)
	none := filepath.Join(dir, "none.wav")
	for _, c := range []struct {
		status int
		args   []string
	}{
		{2, []string{"master"}}, {2, []string{"master", file}}, {2, []string{"master", file, "--out", file}}, {2, []string{"master", file, "--out", none,
			"--school", "loud"}},
		{2, []string{"master", file, "--out", none, "--lufs", "5"}}, {2, []string{"master", file, "--out", none, "--form", "8"}}, {2, []string{"master", file, file,
			"--out", none}},
		{1, []string{"master", silent, "--out", none}}, {1, []string{"master", filepath.Join(dir, "gone.wav"), "--out", none}}, {1, []string{"master", file,
			"--out", filepath.Join(dir, "no", "where.wav")}},
	} {
		if status, out, errs := command(c.args...); status != c.status || out != "" || errs == "" {
			t.Errorf("%v: %d %q %q", c.args, status, out, errs)
		}
	}
	if _, err := os.Stat(none); err == nil {
		t.Error("a file is left")
	}
}
