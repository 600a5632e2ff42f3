package main

import (
	"archive/zip"
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/archive"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/demo"
	"mellowthump/internal/outside"
)

// The command makes the run sheet of a folder, and an archive that holds what it proposes; what it says to be made is in the
// archive's song, and the archive prints.
func TestPropose(t *testing.T) {
	outside.Slow(t)
	dir := filepath.Join(t.TempDir(), "River Song")
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, st := range demo.SlowFerry().Stems {
		if slices.Contains([]string{"kick-low", "kick-top", "808", "snare", "pad"}, st.ID) {
			short := st.Sound.Slice(0, 14*44100)
			if err := os.Rename(outside.WriteWAV(t, st.Name+".wav", short, wav.Int24), filepath.Join(dir, st.Name+".wav")); err != nil {
				t.Fatal(err)
			}
		}
	}
	for name, text := range map[string]string{"notes.txt": "no sound", ".hidden.wav": "no sound"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	to := filepath.Join(t.TempDir(), "song.zip")
	status, out, errs := command("propose", "--stems", dir, "--bpm", "142", "--out", to)
	if status != 0 {
		t.Fatal(status, errs)
	}
	var all []map[string]any
	if err := json.Unmarshal([]byte(out), &all); err != nil {
		t.Fatal(err)
	}
	made := 0
	stages := map[string]bool{}
	for _, p := range all {
		for _, key := range []string{"stage", "finding", "move", "why", "before", "after", "cost"} {
			if _, ok := p[key]; !ok {
				t.Errorf("%v has no %q", p["finding"], key)
			}
		}
		if p["made"] == true {
			made++
		}
		stages[p["stage"].(string)] = true
	}
	if made < 3 || !stages["intake"] || !stages["levels"] || !stages["duck"] || strings.Contains(out, "NaN") {
		t.Errorf("%d made, of %v", made, stages)
	}
	z, err := zip.OpenReader(to)
	if err != nil {
		t.Fatal(err)
	}
	defer z.Close()
	f, err := os.Open(to)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	size, _ := f.Stat()
	a, err := archive.Open(f, size.Size())
	if err != nil {
		t.Fatal(err)
	}
	if a.Song.Name != "River Song" || len(a.Song.Stems) != 5 || a.Song.BPM != 142 {
		t.Errorf("%s, %d stems, %g bpm", a.Song.Name, len(a.Song.Stems), a.Song.BPM)
	}
	if d, _ := a.Song.Duck(); d != nil { // the 808 lies over the kick throughout: no usual duck clears it, and that is told
		t.Error("a duck that misses its aim is made unasked")
	}
	if status, _, errs := command("print", "--song", to, "--out", t.TempDir(), "--what", "premaster"); status != 0 {
		t.Error(errs)
	}
}

// Bad usage is 2, what cannot be done 1, each a line that says what.
func TestProposeRefuses(t *testing.T) {
	empty, bad := t.TempDir(), t.TempDir()
	if err := os.WriteFile(filepath.Join(bad, "kick.wav"), []byte("RIFF no sound"), 0o600); err != nil {
		t.Fatal(err)
	}
	silent := t.TempDir() // but for what dither leaves
	dither := audio.New(44100, 1, 44100)
	for i := range dither.Ch[0] {
		dither.Ch[0][i] = float32(i*7919%3-1) / (1 << 15)
	}
	if err := os.Rename(outside.WriteWAV(t, "kick.wav", dither, wav.Int16), filepath.Join(silent, "kick.wav")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args   []string
		status int
		says   string
	}{
		{[]string{"propose"}, 2, "name the folder"},
		{[]string{"propose", "--stems", empty, "more"}, 2, "what is \"more\""},
		{[]string{"propose", "--stems", empty, "--bpm", "2"}, 2, "outside"},
		{[]string{"propose", "--stems", empty, "--aim", "loudest"}, 2, "no aim"},
		{[]string{"propose", "--stems", empty}, 1, "no audio file"},
		{[]string{"propose", "--stems", filepath.Join(empty, "none")}, 1, "no such file"},
		{[]string{"propose", "--stems", bad}, 1, "kick.wav"},
	} {
		status, out, errs := command(c.args...)
		if status != c.status || !strings.Contains(errs, c.says) || out != "" || strings.Count(errs, "\n") != 1 {
			t.Errorf("%v: %d %q %q", c.args, status, errs, out)
		}
	}
	if status, out, errs := command("propose", "--stems", silent); status != 0 || !strings.Contains(out, "which is nearly silent") ||
		strings.Contains(out, `"made": true`) { // dither is not raised to be heard
		t.Errorf("a silent stem: %d %s %s", status, out, errs)
	}
}
