package main

import (
	"encoding/json"
	"math"
	"regexp"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/room"
	"mellowthump/internal/outside"
)

// The room of files: the fields by their names, the rumble of the demo's bell told, nothing that is no number; the cellar
// is that of the same stems' band energies (scipy, live, by the same band-pass); bad input is one line.
func TestRoomOfFiles(t *testing.T) {
	outside.Slow(t)
	part := func(id string) string {
		x := audio.Buffer{Rate: ferry()[id].Rate, Ch: [][]float32{ferry()[id].Mono()}}
		return outside.WriteWAV(t, id+".wav", x.Slice(0, min(x.Frames(), 12*x.Rate)), wav.Float32)
	}
	kick, bass, bell, hats := part("kick-low"), part("808"), part("bell"), part("hats")
	status, out, errs := command("room", "--kick", kick, "--bass", bass, "--stem", bell, "--stem", hats)
	if status != 0 {
		t.Fatal(status, errs)
	}
	if regexp.MustCompile(`NaN|Inf`).MatchString(out) {
		t.Error("the JSON holds no number")
	}
	var f room.Files
	if err := json.Unmarshal([]byte(out), &f); err != nil {
		t.Fatal(err)
	}
	if len(f.Stems) != 2 || f.Stems[0].File != bell || !(f.Stems[0].Low.Mix >= 63 && f.Stems[0].Low.Mix <= 400) || f.Stems[0].Freed < 0.5 ||
		f.Stems[0].Low.Slope != 24 {
		t.Errorf("%+v", f)
	}
	for _, want := range []string{`"cellar_db"`, `"stems"`, `"freed_cellar_db"`, `"low_cut"`, `"high_cut"`, `"alone_hz"`, `"mix_hz"`} {
		if !strings.Contains(out, want) {
			t.Errorf("there is no %s", want)
		}
	}
	var cellar float64
	outside.Python(t, `
import json, sys
import numpy as np
from scipy.io import wavfile
low, rest = json.load(sys.stdin)
def energy(paths):
    x = np.zeros(600000)
    for p in paths:
        y = wavfile.read(p)[1].astype(float)
        y = y if y.ndim == 1 else y.mean(axis=1)
        x[:len(y)] += y
    fs = wavfile.read(paths[0])[0]
    p, f = np.abs(np.fft.rfft(x))**2, np.fft.rfftfreq(len(x), 1/fs)
    return np.sum(p[(f >= 20) & (f < 150)])
print(json.dumps(10*np.log10(energy(low)/energy(rest))))
`, [][]string{{kick, bass}, {bell, hats}}, &cellar)
	if math.Abs(cellar-float64(f.Cellar)) > 0.15 {
		t.Errorf("the cellar is %.2f dB, scipy says %.2f", float64(f.Cellar), cellar)
	}
	silent := outside.WriteWAV(t, "silent.wav", audio.New(44100, 1, 44100), wav.Int24)
	if status, out, errs := command("room", "--kick", kick, "--bass", bass, "--stem", silent); status != 0 || !strings.Contains(out, `"cellar_db": null`) {
		t.Errorf("a silent stem: %d %s %s", status, out, errs)
	}
	for args, want := range map[string]int{
		"room": 2, "room --kick " + kick + " --bass " + bass: 2, "room --kick " + kick + " --bass " + bass + " --stem /nowhere.wav": 1, "room " + kick: 2,
	} {
		if status, out, errs := command(strings.Fields(args)...); status != want || out != "" || strings.TrimSpace(errs) == "" {
			t.Errorf("%s: %d %q %q", args, status, out, errs)
		}
	}
}
