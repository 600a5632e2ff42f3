package duck

import (
	"context"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// pairSong makes a song of a kick and a bass.
func pairSong(kick, bass audio.Buffer) (*mix.Renderer, session.Song, mix.Window) {
	lib := &mix.Memory{}
	k, b := strings.Repeat("a", 64), strings.Repeat("b", 64) // as long as a hash
	lib.Put(k, kick)
	lib.Put(b, bass)
	s := session.New("Schools", 120)
	s.Rate = rate
	s.Stems = []session.Stem{{ID: "k", Name: "Kick", Role: session.Kick, Audio: k}, {ID: "b", Name: "808", Role: session.Bass, Audio: b}}
	s.Settle()
	return mix.New(lib, 1<<29), s, mix.Window{To: kick.Frames()}
}

// Every school reaches the goal when it is carried out in the mix, is back before the next hit, keeps
// to the cap, and costs bass; a silent wish is answered by "no duck needed".
func TestEverySchoolReaches(t *testing.T) {
	kick, bass := pattern(even(0.3, 0.5, 12), 6.5, 52, 0.08, 43.65, 0.3)
	r, s, w := pairSong(kick, bass)
	s.Targets.MaxDepth = 16 // a band leaves some of the octave, so it goes deeper than the others
	for _, school := range move.Schools {
		f, err := FitSchool(context.Background(), r, &s, w, school.School)
		if err != nil || f.Duck == nil || !f.Reached {
			t.Errorf("%s: %+v, %v", school.School, f, err)
			continue
		}
		c := s.Clone()
		f.Duck.Trigger = session.KickTrigger
		c.SetDuck(f.Duck, false, "")
		if err := c.Validate(); err != nil {
			t.Fatal(err)
		}
		st, err := Measure(context.Background(), r, &c, w)
		if err != nil {
			t.Fatal(err)
		}
		if p := float64(st.After.ClearanceP10); p < 8-0.05 || p > 9.5 {
			t.Errorf("%s: the worst tenth comes to %.2f dB", school.School, p)
		}
		ro := st.Readout
		if ro.Clicks() {
			t.Errorf("%s: %.2f dB/ms may click", school.School, float64(ro.Steepest))
		}
		if ro.Back != ro.Of || float64(ro.Depth) < -16.1 || float64(ro.Depth) > -2 || !(ro.BassLossLow > 0.1) {
			t.Errorf("%s: %+v", school.School, *ro)
		}
		if f.Duck.School != school.School {
			t.Errorf("asked for %s, got %s", school.School, f.Duck.School)
		}
	}
	s.Stem("b").Clip = -30
	if f, err := FitSchool(context.Background(), r, &s, w, move.CompressorSchool); err != nil || f.Needed || f.Duck != nil {
		t.Errorf("a bass 30 dB down: %+v, %v", f, err)
	}
	s.Stem("b").Clip = 0
	s.Targets.Clearance, s.Targets.MaxDepth = 8, 1
	if f, err := FitSchool(context.Background(), r, &s, w, move.BandSchool); err != nil || f.Reached || f.Reason == "" {
		t.Errorf("a cap of 1 dB: %+v, %v", f, err)
	}
}

// The gain that the readouts take is the gain that the render has: the bass divided by itself.
func TestGainIsTheRenders(t *testing.T) {
	kick, bass := pattern(even(0.3, 0.5, 8), 4.5, 52, 0.08, 43.65, 0.3)
	r, s, w := pairSong(kick, bass)
	for _, d := range []*move.Duck{
		{School: move.CurveSchool, Trigger: session.KickTrigger, Points: []move.Point{{MS: -5}, {DB: -8}, {MS: 80, DB: -8}, {MS: 150}}},
		{School: move.CompressorSchool, Trigger: session.KickTrigger, Comp: &move.Compressor{Threshold: -20, Ratio: 4, Knee: 6, Attack: 2, Hold: 20, Release: 60, Lookahead: 3}},
	} {
		c := s.Clone()
		c.SetDuck(d, false, "")
		st := c.Stem("b")
		out, _, err := r.Stem(&c, st, w)
		if err != nil {
			t.Fatal(err)
		}
		gain, err := r.Gain(&c, st, w)
		if err != nil || len(gain) != w.Frames() {
			t.Fatal(err)
		}
		for i, v := range bass.Ch[0] {
			if math.Abs(float64(v)) > 0.05 && math.Abs(float64(out.Ch[0][i]/v-gain[i])) > 1e-4 {
				t.Fatalf("%s: frame %d has a gain of %g, said to be %g", d.School, i, out.Ch[0][i]/v, gain[i])
			}
		}
		// and a part of the song has the same as the whole
		part := mix.Window{From: 2 * rate, To: 3 * rate}
		some, _, err := r.Stem(&c, st, part)
		if err != nil {
			t.Fatal(err)
		}
		for i := range some.Ch[0] {
			if math.Abs(float64(some.Ch[0][i]-out.Ch[0][part.From+i])) > 1e-4 {
				t.Fatalf("%s: frame %d of the part differs from the whole", d.School, i)
			}
		}
	}
}

// The trial at the low rate tells what the full rate does, within some tenths of a dB.
func TestKeyedTrial(t *testing.T) {
	kick, bass := pattern(even(0.3, 0.5, 8), 4.5, 52, 0.08, 43.65, 0.3)
	r, s, w := pairSong(kick, bass)
	p, err := r.Pair(context.Background(), &s, w)
	if err != nil {
		t.Fatal(err)
	}
	key, _, err := r.KeySound(&s, session.KickTrigger, p.Wide())
	if err != nil {
		t.Fatal(err)
	}
	trial, err := newKeyedTrial(p.Meter, key, p.Mono, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range []*move.Duck{
		keyedDuck(move.CompressorSchool, trial.peak, 30, 40, 8, trial.rise, nil),
		keyedDuck(move.BandSchool, trial.peak, 30, 40, 8, trial.rise, &move.Band{Shape: "bell", Hz: 52, Q: bellQ, Channels: "stereo"}),
		keyedDuck(move.BandSchool, trial.peak, 30, 40, 8, trial.rise, &move.Band{Shape: "below", Hz: 90, Channels: "stereo"}),
	} {
		j := trial.judgeKeyed(d, trial.base(d.Band), true)
		out, err := carryOut(d, rate, key, p.Mono)
		if err != nil {
			t.Fatal(err)
		}
		f := p.Meter.Measure(out)
		if got := worst(clearances(f)); math.Abs(got-j.clearance) > 0.6 {
			t.Errorf("%s %+v: %.2f dB of clearance tried, %.2f carried out", d.School, d.Band, j.clearance, got)
		}
	}
}

func BenchmarkFitSchools(b *testing.B) {
	kick, bass := pattern(even(0.3, 0.42, 64), 28, 52, 0.08, 43.65, 0.3)
	r, s, w := pairSong(kick, bass)
	p, err := r.Pair(context.Background(), &s, w)
	if err != nil {
		b.Fatal(err)
	}
	before, _ := r.Figures(p)
	key, _, _ := r.KeySound(&s, session.KickTrigger, p.Wide())
	goal := Goal{8, 12}
	for b.Loop() {
		if _, err := FitFrom(p.Meter, before, p.Mono, goal); err != nil {
			b.Fatal(err)
		}
		for _, school := range []string{move.CompressorSchool, move.BandSchool} {
			if _, err := FitKeyed(p.Meter, before, key, p.Mono, goal, school, nil); err != nil {
				b.Fatal(err)
			}
		}
	}
}
