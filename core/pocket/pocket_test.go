package pocket

import (
	"math"
	"strings"
	"testing"

	"mellowthump/core/meter"
)

func figures(clearance ...float64) meter.HitFigures {
	f := meter.HitFigures{PhaseSumMedian: 0.5}
	var c []meter.Figure
	for _, v := range clearance {
		f.Hits = append(f.Hits, meter.Hit{Clearance: meter.Figure(v)})
		c = append(c, meter.Figure(v))
	}
	f.ClearanceMedian, f.ClearanceP10 = meter.Median(c), meter.Percentile(c, 0.1)
	return f
}

func TestSentence(t *testing.T) {
	for _, c := range []struct {
		f    meter.HitFigures
		want string
	}{
		{figures(9, 10, 11, 9), "Nothing is wrong: the kick clears the 808 by 9.0 dB or more on 9 of 10 hits. Leave it."},
		{figures(-2, -1, 9, 10), "The 808 sits 1.5 dB over the kick in its own octave on 2 of 4 hits, and under the 8 dB asked on 2."},
		{figures(2, 3, 9, 10), "The kick clears the 808 by less than the 8 dB asked on 2 of 4 hits; the worst tenth has 2.3 dB."},
	} {
		if got := Sentence(c.f, 8, "Kick", "808"); got != c.want {
			t.Errorf("says\n%s\nwant\n%s", got, c.want)
		}
	}
}

// Hits under which no note is known are counted, and never called settled.
func TestUnjudgedHits(t *testing.T) {
	b := meter.BassLead{P10: 9}
	for i := range 68 {
		c := meter.None
		if i < 14 {
			c = 10
		}
		b.Clearance = append(b.Clearance, c)
	}
	if s := LeadSentence(b, 8, "Kick", "808"); !strings.Contains(s, "On 54 of 68 hits no note of the 808 is known") || strings.Contains(s, "Nothing is wrong") {
		t.Error(s)
	}
	if f := JudgeLead(b, 8, "Kick", "808"); len(f) != 1 || f[0].What != "54 of 68 hits left unjudged" {
		t.Errorf("%+v", f)
	}
}

// A kick a little off the note that most of its hits fall on is told, in cents; one that is on it, on another note, or
// that falls on many, is not.
func TestKickOffTheNote(t *testing.T) {
	notes := []NoteUse{{Note: "F1", Hz: 43.65, Hits: 12}, {Note: "C1", Hz: 32.7, Hits: 3}}
	for hz, want := range map[float64]string{44.7: "41 cents over F1, on which 12 of 15 hits fall", 42.5: "46 cents under F1", 42.7: "", 89.4: "41 cents over F1",
		43.9: "", 44.3: "", 49: ""} {
		f := OffNote(hz, notes, 15, "Kick", "808")
		if want == "" && len(f) > 0 || want != "" && (len(f) != 1 || !strings.Contains(f[0].What, want)) {
			t.Errorf("%g Hz: %+v, want %q", hz, f, want)
		}
	}
	if f := OffNote(44.7, notes, 40, "Kick", "808"); f != nil {
		t.Errorf("few hits: %+v", f)
	}
	notes[0].Share, notes[0].Cents, notes[0].Hz = 0.6, 20, 43.65*math.Pow(2, 20.0/1200) // few hits, the commonest note, itself out of tune
	f := OffNote(44.7, notes, 40, "Kick", "808")
	if len(f) != 1 || !strings.Contains(f[0].What, "is 41 cents over F1, on which") || !strings.Contains(f[0].What, "stays 60 % of its time") {
		t.Errorf("%+v", f)
	}
}

func TestJudge(t *testing.T) {
	sharp := &meter.Pitch{Hz: 44.08, Note: "F1", Cents: 17, Confidence: 0.9}
	unsure := &meter.Pitch{Hz: 44.08, Note: "F1", Cents: 17, Confidence: 0.1}
	cancelling := figures(9, 9, 9)
	cancelling.PhaseSumMedian = -4
	for name, c := range map[string]struct {
		f     meter.HitFigures
		pitch *meter.Pitch
		want  []string
	}{
		"all well":   {figures(9, 9, 9), nil, nil},
		"unsure":     {figures(9, 9, 9), unsure, nil},
		"fighting":   {figures(1, 9, 9), nil, []string{"1 of 3 hits under 8 dB"}},
		"sharp":      {figures(9, 9, 9), sharp, []string{"The 808 is 17 cents sharp"}},
		"cancelling": {cancelling, nil, []string{"The two cancel: phase sum −4 dB"}},
		"both":       {figures(1, 2, 3), sharp, []string{"3 of 3 hits under 8 dB", "The 808 is 17 cents sharp"}},
	} {
		got := Judge(c.f, 8, "Kick", "808", c.pitch)
		if len(got) != len(c.want) {
			t.Errorf("%s: %+v", name, got)
			continue
		}
		for i, w := range c.want {
			if got[i].What != w || got[i].Why == "" || got[i].Do == "" || got[i].Hear == "" {
				t.Errorf("%s: %+v, want %q", name, got[i], w)
			}
		}
	}
	if d := Judge(figures(9), 8, "Kick", "Bass", sharp)[0].Do; !strings.Contains(d, "−17 cents") {
		t.Errorf("the remedy is %q", d)
	}
}
