package facts

import (
	"context"
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/session"
)

// Names are the same where only what tells versions apart differs; what tells parts apart stays.
func TestPlainName(t *testing.T) {
	for name, want := range map[string]string{
		"Kick": "kick", "kick_v2": "kick", "Kick (new)": "kick", "808-bounce-03": "808", "808 v2 final": "808", "Snare_20261126": "snare",
		"Kick 2": "kick 2", "808": "808", "Vox": "vox", "Pad L": "pad l", "v2": "v2", "Hat open": "hat open", "808 ducked 16 bit": "808", "Kick moves only": "kick",
	} {
		if got := plainName(name); got != want {
			t.Errorf("%q is %q, not %q", name, got, want)
		}
	}
}

// pulses is a sound that comes and goes in a pattern of its own.
func pulses(hz float64, steps []float64) audio.Buffer {
	b := audio.New(22050, 1, 4*22050)
	for k, level := range steps {
		for i := range 22050 / 5 {
			at := k*4*22050/len(steps) + i
			if at < len(b.Ch[0]) {
				s := float64(i) / 22050
				b.Ch[0][at] += float32(level * math.Sin(2*math.Pi*hz*s) * math.Exp(-s/0.06))
			}
		}
	}
	return b
}

// Files are matched by what is surest: their own export, the file itself, the name, the name but for its version, the sound.
// Each stem gets one at the most.
func TestMatchStems(t *testing.T) {
	analysed := func(b audio.Buffer) *Analysis {
		t.Helper()
		a, err := Analyse(context.Background(), audio.Memory{Buffer: b}, "x", nil)
		if err == nil {
			err = Describe(context.Background(), audio.Memory{Buffer: b}, a)
		}
		if err != nil {
			t.Fatal(err)
		}
		return a
	}
	four, off := []float64{0.8, 0, 0.8, 0, 0.8, 0, 0.8, 0}, []float64{0, 0.6, 0, 0.2, 0, 0.6, 0.5, 0}
	kick, snare, pad := analysed(pulses(55, four)), analysed(pulses(700, off)), analysed(pulses(330, []float64{0.3, 0.3, 0.5, 0.3}))
	louder := pulses(58, four) // worked on
	for i := range louder.Ch[0] {
		louder.Ch[0][i] = float32(math.Tanh(1.2 * float64(louder.Ch[0][i])))
	}
	facts := map[string]*Analysis{"k": kick, "s": snare, "p": pad}
	stems := []session.Stem{{ID: "s1", Name: "Kick", Audio: "k"}, {ID: "s2", Name: "Snare", Audio: "s"}, {ID: "s3", Name: "Pad", Audio: "p"}}
	got := MatchStems(stems, facts, []Brought{
		{Name: "SNARE_v3.wav", Audio: "n1", Facts: pad}, // the name goes before the sound
		{Name: "Boom.wav", Audio: "n2", Facts: analysed(louder)},
		{Name: "Pad.wav", Audio: "p", Facts: pad},
		{Name: "Rim.wav", Audio: "n3", Facts: analysed(pulses(1500, []float64{0, 0, 0.5, 0, 0.1, 0, 0, 0.4}))},
		{Name: "Snare.wav", Audio: "n4", Facts: snare},
	})
	for i, want := range []string{"", "s1", "s3", "", "s2"} {
		if got[i].Stem != want {
			t.Errorf("file %d is taken for %q (%s), not %q", i, got[i].Stem, got[i].Why, want)
		}
	}
	if !got[2].Same || got[1].Same {
		t.Errorf("the same file: %+v", got)
	}
	if m := MatchStems(stems, facts, []Brought{{Name: "Snare.wav", Audio: "n5", Facts: snare, Of: "s1"}}); m[0].Stem != "s1" || m[0].Why != "exported from here" {
		t.Errorf("an export: %+v", m)
	}
	steady := audio.New(22050, 1, 4*22050)
	for i := range steady.Ch[0] {
		steady.Ch[0][i] = float32(0.3 * math.Sin(2*math.Pi*110*float64(i)/22050))
	}
	if r := Resemblance(analysed(steady), analysed(steady)); r != 0 {
		t.Errorf("a tone without a course resembles itself by %g", r)
	}
	if r := Resemblance(kick, kick); math.Abs(r-1) > 1e-9 {
		t.Errorf("a kick resembles itself by %g", r)
	}
}
