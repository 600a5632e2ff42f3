package facts

import (
	"context"
	"encoding/json"
	"errors"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

func analyse(t *testing.T, b audio.Buffer) *Analysis {
	t.Helper()
	a, err := Analyse(context.Background(), audio.Memory{Buffer: b}, "x.wav", nil)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func TestAnalyse(t *testing.T) {
	a := analyse(t, outside.Sine(48000, 2, 43.65, 0.5, 3, 0))
	if math.Abs(float64(a.SamplePeak)+6.02) > 0.01 || math.Abs(float64(a.RMS)+9.03) > 0.01 {
		t.Errorf("a half-scale sine: peak %.2f, RMS %.2f", a.SamplePeak, a.RMS)
	}
	if p := a.Fundamental; p == nil || p.Note != "F1" || math.Abs(p.Cents) > 2 {
		t.Errorf("fundamental %+v", a.Fundamental)
	}
	if a.DurationS != 3 || a.Rate != 48000 || a.Channels != 2 || len(a.Energy) != 3 || len(a.Overview) != OverviewSteps {
		t.Errorf("%+v", a.Facts)
	}
	if math.Abs(float64(a.Energy[1])-0.125) > 0.001 { // mean square of a 0.5 sine
		t.Errorf("energy %v", a.Energy)
	}
}

// All fields of the command `measure`, by the names of the design.
func TestFactsJSON(t *testing.T) {
	for name, b := range map[string]audio.Buffer{"tone": outside.Sine(44100, 1, 50, 0.5, 1, 0), "silence": audio.New(44100, 2, 44100)} {
		body, err := json.Marshal(analyse(t, b).Facts)
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		var got map[string]any
		if err := json.Unmarshal(body, &got); err != nil {
			t.Fatal(err)
		}
		for _, field := range strings.Fields("file format sample_rate_hz channels bit_depth duration_s sample_peak_dbfs true_peak_dbtp rms_dbfs crest_db " +
			"loudness_integrated_lufs loudness_momentary_max_lufs loudness_short_max_lufs loudness_range_lu dc_offset clipped_runs correlation fundamental onsets_s") {
			if _, ok := got[field]; !ok {
				t.Errorf("%s: no field %s", name, field)
			}
		}
		if name == "silence" && got["sample_peak_dbfs"] != nil {
			t.Errorf("silence peaks at %v", got["sample_peak_dbfs"])
		}
	}
}

func TestBadSound(t *testing.T) {
	b := outside.Sine(44100, 1, 50, 0.5, 1, 0)
	b.Ch[0][22050] = float32(math.NaN())
	_, err := Analyse(context.Background(), audio.Memory{Buffer: b}, "x", nil)
	if !errors.Is(err, audio.ErrNotFinite) || !strings.Contains(err.Error(), "0.500 s") {
		t.Errorf("NaN: %v", err)
	}
	b.Ch[0][22050] = float32(math.Inf(-1))
	if _, err := Analyse(context.Background(), audio.Memory{Buffer: b}, "x", nil); !errors.Is(err, audio.ErrNotFinite) {
		t.Errorf("Inf: %v", err)
	}
	b.Ch[0][22050] = -1.2e4
	if _, err := Analyse(context.Background(), audio.Memory{Buffer: b}, "x", nil); !errors.Is(err, audio.ErrTooLarge) ||
		!strings.Contains(err.Error(), "0.500 s") {
		t.Errorf("81 dB over full scale: %v", err)
	}
	if _, err := Analyse(context.Background(), audio.Memory{Buffer: audio.New(44100, 1, 0)}, "x", nil); err == nil || !strings.Contains(err.Error(), "no audio") {
		t.Errorf("nothing: %v", err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := Analyse(ctx, audio.Memory{Buffer: audio.New(44100, 1, 44100)}, "x", nil); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled: %v", err)
	}
	for _, n := range []int{1, 2, 10, 100, 1000} { // very short sounds measure without trouble
		analyse(t, outside.Sine(44100, 1, 50, 0.5, float64(n)/44100, 0.1))
	}
}

func TestProgress(t *testing.T) {
	var seen []float64
	_, err := Analyse(context.Background(), audio.Memory{Buffer: audio.New(44100, 1, 5*44100)}, "x", func(p float64) { seen = append(seen, p) })
	if err != nil || len(seen) < 4 || seen[len(seen)-1] != 1 {
		t.Errorf("%v, %v", seen, err)
	}
	for i := 1; i < len(seen); i++ {
		if seen[i] < seen[i-1] {
			t.Errorf("progress goes back: %v", seen)
		}
	}
}

func TestGuessRole(t *testing.T) {
	for name, want := range map[string]session.Role{
		"Kick low": session.Kick, "kick_02": session.Kick, "KICK2": session.Kick, "01 BD": session.Kick, "Bass Drum": session.Kick,
		"808": session.Bass, "808 F": session.Bass, "sub-bass": session.Bass, "Bass": session.Bass, "kick+808": session.Bass,
		"Snare": session.Snare, "clap 3": session.Snare, "Open Hat": session.Hats, "hihat": session.Hats, "Wood block": session.Perc,
		"Bell": session.Melodic, "Pad (wide)": session.Melodic, "vinyl": session.Texture, "Riser": session.Effects,
		"loop 3": session.Other, "": session.Other, "chatter": session.Other, "bassoon": session.Other,
	} {
		if got := GuessRole(name); got != want {
			t.Errorf("%q is %s, want %s", name, got, want)
		}
	}
}

func TestFormatLine(t *testing.T) {
	f := Facts{Rate: 44100, Channels: 2, BitDepth: 32, EncodingIs: "float"}
	if got := f.FormatLine(); got != "32-bit float, 44.1 kHz, stereo" {
		t.Errorf("%q", got)
	}
}

func BenchmarkAnalyse(b *testing.B) {
	x := audio.Memory{Buffer: outside.Sine(44100, 2, 50, 0.5, 60, 0)}
	b.SetBytes(int64(x.Bytes()))
	for b.Loop() {
		if _, err := Analyse(context.Background(), x, "x", nil); err != nil {
			b.Fatal(err)
		}
	}
}

// A MIDI file names the notes of a line; what is heard while each sounds tells how far off it is.
func TestLineByMIDI(t *testing.T) {
	heard := []meter.BassNote{{Start: 1.02, End: 1.48, Hz: 43.65 * math.Pow(2, 17.0/1200)}, {Start: 2, End: 2.4, Hz: 80}}
	a := &Analysis{Portrait: &Portrait{Line: heard}}
	notes := &session.MIDI{Offset: 0.5, Notes: []midi.Note{{Start: 0.5, End: 1, Key: 29}, {Start: 1.5, End: 2, Key: 27}}}
	line := Line(a, notes)
	if len(line) != 2 || line[0].Start != 1 || line[0].End != 1.5 || line[0].Note != "F1" || math.Abs(line[0].Cents-17) > 0.2 {
		t.Errorf("%+v", line)
	}
	if len(line) == 2 && (line[1].Note != "Eb1" || math.Abs(line[1].Hz-38.89) > 0.01) { // 80 Hz is no Eb1 out of tune
		t.Errorf("%+v", line[1])
	}
	if got := Line(a, nil); len(got) != 2 || got[1].Hz != 80 {
		t.Errorf("without MIDI %+v", got)
	}
	if Line(nil, nil) != nil {
		t.Error("a line of nothing")
	}
}
