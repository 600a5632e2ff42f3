package intake

import (
	"context"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/facts"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

func analyse(t *testing.T, b audio.Buffer) *facts.Analysis {
	t.Helper()
	a, err := facts.Analyse(context.Background(), audio.Memory{Buffer: b}, "x.wav", nil)
	if err != nil {
		t.Fatal(err)
	}
	return a
}
func analysed(t testing.TB, b audio.Buffer) *facts.Analysis {
	t.Helper()
	src := audio.Memory{Buffer: b}
	a, err := facts.Analyse(context.Background(), src, "x.wav", nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := facts.Describe(context.Background(), src, a); err != nil {
		t.Fatal(err)
	}
	return a
}

func TestFindings(t *testing.T) {
	tone := analyse(t, outside.Sine(44100, 1, 44.08, 0.5, 2, 0))
	loudTone := outside.Sine(44100, 1, 44, 0.5, 2, 0)
	for i, v := range loudTone.Ch[0] {
		loudTone.Ch[0][i] = max(-0.98, min(0.98, 4*v)) + 0.01
	}
	for _, c := range []struct {
		role session.Role
		a    *facts.Analysis
		want string
	}{
		{session.Melodic, tone, ""},
		{session.Bass, tone, "17 cents sharp on F1"},
		{session.Kick, &facts.Analysis{Facts: tone.Facts}, ""},
		{session.Bass, analyse(t, audio.New(44100, 1, 44100)), "silent"},
		{session.Melodic, analyse(t, loudTone), "clipped in"},
		{session.Melodic, analyse(t, loudTone), "DC offset of 1.0 %"},
	} {
		var all []string
		for _, f := range Findings(c.role, c.a) {
			all = append(all, f.What)
			if f.Why == "" {
				t.Errorf("%q without a why", f.What)
			}
		}
		if got := strings.Join(all, "; "); !strings.Contains(got, c.want) || c.want == "" && got != "" {
			t.Errorf("%s: found %q, want %q", c.role, got, c.want)
		}
	}
	quiet := *tone
	quiet.Onsets = nil
	if f := Findings(session.Kick, &quiet); len(f) != 1 || f[0].What != "no hits found" {
		t.Errorf("a kick without hits: %+v", f)
	}
	long := &facts.Analysis{Facts: facts.Facts{DurationS: 60}}
	if f := Short(tone, []*facts.Analysis{tone, long, long, long}); len(f) != 1 || f[0].What != "only 2.0 s long, the others 60.0 s" {
		t.Errorf("a single hit among stems: %+v", f)
	}
	if f := Short(long, []*facts.Analysis{tone, long, long, long}); f != nil {
		t.Errorf("a stem like the others: %+v", f)
	}
	short := analyse(t, outside.Sine(44100, 1, 43.65, 0.5, 1, 0))
	if f := Against(short, tone); len(f) != 1 || f[0].What != "ends 1.00 s before the kick" {
		t.Errorf("a short bass: %+v", f)
	}
	if f := Against(tone, short); f != nil {
		t.Errorf("a long bass: %+v", f)
	}
}

func synthetic(seconds float64, f func(t float64) float64) audio.Buffer {
	b := audio.New(sampled.Rate, 1, int(seconds*sampled.Rate))
	for i := range b.Ch[0] {
		b.Ch[0][i] = float32(f(float64(i) / sampled.Rate))
	}
	return b
}

// Tails that fill the gaps are no noise floor, room noise is one; a hat 80 dB over what leaks into the low band has no
// pitch; channels upside down against each other cancel in mono.
func TestFalseFaults(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	found := func(role session.Role, b audio.Buffer) (string, *facts.Analysis) {
		a := analysed(t, b)
		var all []string
		for _, f := range Findings(role, a) {
			all = append(all, f.What)
		}
		return strings.Join(all, "; "), a
	}
	tails := synthetic(8, func(t float64) float64 {
		in := math.Mod(t, 0.5)
		return 0.8 * math.Sin(2*math.Pi*55*in) * math.Exp(-in/0.15)
	})
	if f, _ := found(session.Kick, tails); strings.Contains(f, "noise floor") {
		t.Errorf("a tail: %s", f)
	}
	noisy := synthetic(8, func(t float64) float64 {
		in := math.Mod(t, 0.5)
		return 0.8*math.Sin(2*math.Pi*55*in)*math.Exp(-in/0.02) + 0.006*r.NormFloat64()
	})
	if f, _ := found(session.Kick, noisy); !strings.Contains(f, "noise floor at -4") {
		t.Errorf("room noise at -44 dBFS: %s", f)
	}
	hat := synthetic(4, func(t float64) float64 {
		return 0.5*math.Sin(2*math.Pi*9000*t)*math.Exp(-math.Mod(t, 0.25)/0.03) + 5e-5*math.Sin(2*math.Pi*221*t)
	})
	if _, a := found(session.Hats, hat); a.Fundamental != nil {
		t.Errorf("a hat has a pitch: %+v", a.Fundamental)
	}
	wide := audio.New(44100, 2, 44100)
	for i := range wide.Ch[0] {
		wide.Ch[0][i] = float32(0.4 * math.Sin(2*math.Pi*50*float64(i)/44100))
		wide.Ch[1][i] = -wide.Ch[0][i]
	}
	if f, _ := found(session.Bass, wide); !strings.Contains(f, "cancels in mono") {
		t.Errorf("opposite channels: %s", f)
	}
}
