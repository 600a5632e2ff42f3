package main

import (
	"encoding/json"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/body"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// The weights of a file: fields by their names, as many hits as there are, each weight read again by scipy (the same band-pass,
// the mean square of 200 ms); a bass by its notes; bad input in one line.
func TestBodyOfFile(t *testing.T) {
	outside.Slow(t)
	part := func(id string) string {
		x := ferry()[id]
		return outside.WriteWAV(t, id+".wav", audio.Buffer{Rate: x.Rate, Ch: [][]float32{x.Mono()[:12*x.Rate]}}, wav.Float32)
	}
	kick := part("kick-low")
	status, out, errs := command("body", kick, "--role", "kick")
	if status != 0 {
		t.Fatal(status, errs)
	}
	var f body.File
	if err := json.Unmarshal([]byte(out), &f); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"spread_db"`, `"attack_db"`, `"items"`, `"at_s"`, `"weight_db"`, `"click_db"`, `"tone_db"`} {
		if !strings.Contains(out, want) {
			t.Errorf("there is no %s", want)
		}
	}
	if len(f.Items) < 10 || !f.Spread.Valid() || f.Attack < 3 {
		t.Fatalf("%+v", f)
	}
	var at, weights []float64
	for i, it := range f.Items {
		if i+1 < len(f.Items) && f.Items[i+1].At-it.At > 0.21 {
			at = append(at, it.At)
		}
	}
	outside.Python(t, `
import json, sys
import numpy as np
from scipy.io import wavfile
from scipy.signal import butter, sosfilt
path, at = json.load(sys.stdin)
fs, x = wavfile.read(path)
y = sosfilt(butter(2, [20, 150], "bandpass", fs=fs, output="sos"), x.astype(float))
print(json.dumps([10*np.log10(np.mean(y[round(a*fs):round(a*fs)+round(0.2*fs)]**2)) for a in at]))
`, []any{kick, at}, &weights)
	k := 0
	for _, it := range f.Items {
		if k < len(at) && it.At == at[k] {
			if math.Abs(float64(it.Weight)-weights[k]) > 0.05 {
				t.Errorf("the hit at %.2f s weighs %.2f dB, scipy says %.2f", it.At, float64(it.Weight), weights[k])
			}
			k++
		}
	}
	if status, out, errs := command("body", "--role", "bass", part("808")); status != 0 || strings.Count(out, "at_s") < 5 {
		t.Errorf("a bass: %d %s %.300s", status, errs, out)
	}
	silent := outside.WriteWAV(t, "silent.wav", audio.New(44100, 1, 44100), wav.Int24)
	for _, role := range []session.Role{session.Kick, session.Bass} {
		if status, out, errs := command("body", silent, "--role", string(role)); status != 0 || !strings.Contains(out, `"items": []`) ||
			!strings.Contains(out, `"spread_db": null`) {
			t.Errorf("silence: %d %s %s", status, out, errs)
		}
	}
	for args, want := range map[string]int{"body": 2, "body " + kick + " --role snare": 2, "body /nowhere.wav": 1, "body " + kick + " x": 2} {
		if status, out, errs := command(strings.Fields(args)...); status != want || out != "" || strings.TrimSpace(errs) == "" {
			t.Errorf("%s: %d %q %q", args, status, out, errs)
		}
	}
}
