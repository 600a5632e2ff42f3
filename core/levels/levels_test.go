package levels

import (
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

const rate = 8000

var ctx = context.Background()

// desk is a song in memory with its renderer.
type desk struct {
	song session.Song
	lib  *mix.Memory
	r    *mix.Renderer
	w    mix.Window
}

func newBench(seconds float64) *desk {
	b := &desk{song: session.New("Test", 120), lib: &mix.Memory{}, w: mix.Window{To: int(seconds * rate)}}
	b.song.Rate = rate
	b.r = mix.New(b.lib, 1<<30) // as the application has
	return b
}

// add puts a stem in; its audio's name is made up to look like a hash.
func (b *desk) add(name string, role session.Role, bus string, sound audio.Buffer) *session.Stem {
	sha := fmt.Sprintf("%064x", len(b.song.Stems)+1)
	b.lib.Put(sha, sound)
	b.song.Stems = append(b.song.Stems, session.Stem{ID: name, Name: name, Role: role, Bus: bus, Audio: sha})
	return &b.song.Stems[len(b.song.Stems)-1]
}

func (b *desk) measure(t *testing.T) *Ledger {
	t.Helper()
	if err := b.song.Validate(); err != nil {
		t.Fatal(err)
	}
	l, err := Measure(ctx, b.r, &b.song, b.w)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

// sine makes a tone of a peak in dBFS.
func sine(seconds, hz, db float64) audio.Buffer {
	b := audio.New(rate, 1, int(seconds*rate))
	for i := range b.Ch[0] {
		b.Ch[0][i] = float32(math.Pow(10, db/20) * math.Sin(2*math.Pi*hz*float64(i)/rate))
	}
	return b
}

func noise(r *rand.Rand, seconds, db float64, channels int) audio.Buffer {
	b := audio.New(rate, channels, int(seconds*rate))
	for c := range b.Ch {
		for i := range b.Ch[c] {
			b.Ch[c][i] = float32(math.Pow(10, db/20) * r.NormFloat64())
		}
	}
	return b
}

func near(t *testing.T, what string, got meter.Figure, want, within float64) {
	t.Helper()
	if !got.Valid() || math.Abs(float64(got)-want) > within {
		t.Errorf("%s is %.3f, want %.3f", what, float64(got), want)
	}
}

// Two equal tones in phase sum to 20 log10 2 = +6.02 dB; two unrelated noises of equal level to
// 10 log10 2 = +3.01 (closed form).
func TestSums(t *testing.T) {
	b := newBench(3)
	b.song.Buses = []session.Bus{{ID: "tones", Name: "Tones"}, {ID: "noises", Name: "Noises"}}
	b.add("a", session.Other, "tones", sine(3, 997, -20))
	b.add("b", session.Other, "tones", sine(3, 997, -20))
	r := rand.New(rand.NewPCG(1, 2))
	n := b.add("c", session.Other, "noises", noise(r, 3, -30, 1))
	b.add("d", session.Other, "noises", noise(r, 3, -30, 1))
	alone := b.measure(t).Row("c").Levels.Steps[session.TrackStep].Integrated()
	_ = n
	l := b.measure(t)
	near(t, "two tones", l.Buses[0].Out.Peak, -20+20*math.Log10(2), 0.01)
	near(t, "two noises", l.Buses[1].Out.Integrated()-alone, 10*math.Log10(2), 0.1)
	b.song.Buses[0].Fader = -4
	near(t, "the bus behind its fader", b.measure(t).Buses[0].Out.Peak, -24+20*math.Log10(2), 0.01)
}

// With nothing non-linear between them, a trim is the same at any step.
func TestStepsAreEqual(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	sound := noise(r, 2, -20, 2)
	var peaks, louds []meter.Figure
	for _, set := range []func(*desk){
		func(b *desk) { b.song.Stems[0].Source = -5.3 },
		func(b *desk) { b.song.Stems[0].Clip = -5.3 },
		func(b *desk) { b.song.Stems[0].Fader = -5.3 },
		func(b *desk) { b.song.Buses[0].Fader = -5.3 },
		func(b *desk) { b.song.Master.Fader = -5.3 },
		func(b *desk) { b.song.Stems[0].Source, b.song.Stems[0].Clip, b.song.Master.Fader = 3, -10, 1.7 },
	} {
		b := newBench(2)
		b.song.Buses = []session.Bus{{ID: "x", Name: "X"}}
		b.add("a", session.Other, "x", sound)
		set(b)
		l := b.measure(t)
		peaks, louds = append(peaks, l.Master.Out.Peak), append(louds, l.Master.Out.Integrated())
	}
	for i := range peaks {
		if math.Abs(float64(peaks[i]-peaks[0])) > 1e-4 || math.Abs(float64(louds[i]-louds[0])) > 1e-3 {
			t.Errorf("trim %d gives %.5f dBFS, %.4f LUFS; the first gives %.5f, %.4f", i, peaks[i], louds[i], peaks[0], louds[0])
		}
	}
}

// What is over full scale is told at the step where it is so first, with the worst sample's place.
func TestClippingIsToldWhereItBegins(t *testing.T) {
	place := func(frame int) string { return fmt.Sprint(frame) }
	for _, c := range []struct {
		name string
		set  func(*desk)
		want string
	}{
		{"clip", func(b *desk) { b.song.Stems[0].Clip = 8 }, "a goes over full scale at the clip step, by 2.0 dB"},
		{"track", func(b *desk) { b.song.Stems[0].Clip, b.song.Stems[0].Fader = 3, 5 }, "a goes over full scale at the track step, by 2.0 dB"},
		{"bus", func(b *desk) {}, "X goes over full scale at the bus, by 0.0 dB"},
		{"master", func(b *desk) { b.song.Buses[0].Fader, b.song.Master.Fader = -1, 3 }, "The premaster goes over full scale, by 2.0 dB"},
	} {
		b := newBench(1)
		b.song.Buses = []session.Bus{{ID: "x", Name: "X"}}
		for _, n := range []string{"a", "b"} {
			s := sine(1, 100, -6)
			s.Ch[0][1234] = float32(math.Pow(10, -5.98/20)) // the worst sample
			b.add(n, session.Other, "x", s)
		}
		c.set(b)
		found := Judge(b.measure(t), nil, place)
		var said []string
		for _, f := range found {
			if strings.Contains(f.What, "full scale") {
				said = append(said, f.What)
				if !strings.Contains(f.Why, "1234") {
					t.Errorf("%s: the worst sample is said to be elsewhere: %s", c.name, f.Why)
				}
				if len(f.Fix) == 0 {
					t.Errorf("%s: no remedy", c.name)
				}
			}
		}
		if len(said) != 1 || said[0] != c.want {
			t.Errorf("%s: %q, want %q", c.name, said, c.want)
		}
	}
}

// Every kind of finding is raised by the fault it is for, and its remedy takes it away.
func TestFindings(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	base := func() *desk {
		b := newBench(2)
		b.song.Buses = []session.Bus{{ID: "drums", Name: "Drums"}, {ID: "low", Name: "Low"}}
		b.song.Master.Fader = -6
		b.song.Triggers = []session.Trigger{{ID: session.KickTrigger, Name: "Kick", Stem: "kick"}}
		b.add("kick", session.Kick, "drums", sine(2, 52, -7))
		b.add("808", session.Bass, "low", sine(2, 43, -9))
		b.add("pad", session.Melodic, "", sine(2, 300, -13))
		b.add("hiss", session.Texture, "", noise(r, 2, -38, 1))
		return b
	}
	if f := Judge(base().measure(t), nil, frames); len(f) > 0 {
		t.Errorf("a sound song has findings: %+v", f)
	}
	for name, c := range map[string]struct {
		set  func(*session.Song)
		want string
		kept bool // the remedy is not a trim
	}{
		"over the window":    {func(s *session.Song) { s.Stem("hiss").Clip = 9 }, "hiss peaks", false},
		"under the window":   {func(s *session.Song) { s.Stem("pad").Fader = -6 }, "pad peaks 4.0 dB under its window", false},
		"kick off its place": {func(s *session.Song) { s.Stem("kick").Clip, s.Stem("808").Clip = 3, 3 }, "kick peaks 2.0 dB over its window", false},
		"wrong order":        {func(s *session.Song) { s.Stem("808").Clip = 4 }, "808 peaks 2.0 dB over the kick, and the kick leads", false},
		"bass leads":         {func(s *session.Song) { s.Leader = session.BassLeads }, "808 peaks 2.0 dB under the kick, and the bass leads", false},
		"melody too near":    {func(s *session.Song) { s.Stem("pad").Clip = 4 }, "pad is only 2.0 dB under the kick", false},
		"bus over":           {func(s *session.Song) { s.Bus("drums").Fader = 5 }, "Drums peaks 1.5 dB over −3.5 dBFS", false},
		"premaster over":     {func(s *session.Song) { s.Master.Fader = -1 }, "The premaster peaks at", false},
		"big trim":           {func(s *session.Song) { s.Stem("pad").Clip, s.Stem("pad").Source = -12.5, 12.5 }, "pad is trimmed by +12.5 dB", true},
		"thrown away": {func(s *session.Song) { s.Stem("pad").Clip, s.Stem("pad").Fader = -10, 9 }, "pad loses 10.0 dB at the clip step and gets " +
			"9.0 dB back", false},
		"lost trigger": {func(s *session.Song) {
			d := duck()
			s.SetDuck(d, false, "")
			s.Triggers[0].At = "drums"
			s.Stem("kick").Bus = "low"
		}, "808 no longer ducks: its trigger does not arrive", false},
	} {
		b := base()
		c.set(&b.song)
		has := func() *find.Finding {
			for _, f := range Judge(b.measure(t), nil, frames) {
				if strings.HasPrefix(f.What, c.want) {
					return &f
				}
			}
			return nil
		}
		f := has()
		if f == nil {
			t.Errorf("%s: %q is not told; there are %+v", name, c.want, Judge(b.measure(t), nil, frames))
			continue
		}
		if c.kept {
			continue
		}
		if len(f.Fix) == 0 || f.Do == "" {
			t.Errorf("%s: no remedy", name)
			continue
		}
		if _, err := f.Edit().Apply(&b.song); err != nil {
			t.Fatal(err)
		}
		if again := has(); again != nil {
			t.Errorf("%s: after its own remedy %+v it is still told: %s", name, f.Fix, again.What)
		}
	}
}

// A stem under the others in every band is told, one that fills a band of its own is not.
func TestUnheard(t *testing.T) {
	b := newBench(1)
	b.add("loud", session.Melodic, "", sine(1, 440, -10))
	b.add("quiet", session.Melodic, "", sine(1, 440, -40))
	b.add("high", session.Hats, "", sine(1, 2000, -40))
	sounds := map[string]Sound{}
	for _, st := range b.song.Stems {
		src, closeFile, err := b.lib.Open(st.Audio)
		if err != nil {
			t.Fatal(err)
		}
		s, err := meter.MeasureSpectrum(src)
		if err != nil {
			t.Fatal(err)
		}
		closeFile()
		sounds[st.Audio] = Sound{s, 1}
	}
	var said []string
	for _, f := range Judge(b.measure(t), sounds, frames) {
		if strings.Contains(f.What, "every band") {
			said = append(said, f.What)
		}
	}
	if len(said) != 1 || !strings.HasPrefix(said[0], "quiet lies 30.0 dB under the others") {
		t.Errorf("unheard: %q", said)
	}
}

// Shares by the energy at the worst samples: a part that peaks alone there has all of it; of two
// equal tones each has half.
func TestShares(t *testing.T) {
	b := newBench(1)
	b.song.Buses = []session.Bus{{ID: "x", Name: "X"}}
	burst := audio.New(rate, 1, rate)
	for i := range 80 {
		burst.Ch[0][4000+i] = 0.9
	}
	b.add("burst", session.Snare, "x", burst)
	quiet := b.add("quiet", session.Melodic, "x", sine(1, 50, -60))
	quiet.Pan = 0.5
	l := b.measure(t)
	shares, err := b.r.Shares(ctx, &b.song, "x", l.Buses[0].Out)
	if err != nil || len(shares) != 2 || shares[0].Stem.ID != "burst" || shares[0].Share < 0.5 {
		t.Errorf("%+v, %v", shares, err)
	}
	c := newBench(1)
	c.add("a", session.Other, "", sine(1, 100, -10))
	c.add("b", session.Other, "", sine(1, 100, -10))
	shares, err = c.r.Shares(ctx, &c.song, "", c.measure(t).Master.Out)
	if err != nil || len(shares) != 2 || math.Abs(shares[0].Share-0.5) > 1e-6 {
		t.Errorf("two equal parts: %+v, %v", shares, err)
	}
}

// The running sum ends where the master is, in any order; each step is a real sum.
func TestRunningSum(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	b := newBench(2)
	b.song.Buses = []session.Bus{{ID: "x", Name: "X", Fader: -3}, {ID: "y", Name: "Y", Bus: "x", Fader: 2}, {ID: "room", Name: "Room", Fader: -4}}
	b.song.Master.Fader = 1
	for i, bus := range []string{"", "x", "y", "y"} {
		st := b.add(fmt.Sprint("s", i), []session.Role{session.Texture, session.Kick, session.Bass, session.Hats}[i], bus, noise(r, 2, -25, 1+i%2))
		st.Pan, st.Width = 0.3*float64(i-1), -0.2
		if i == 2 {
			st.Sends = []session.Send{{Bus: "room", Level: -6}}
		}
	}
	l := b.measure(t)
	for _, o := range Orders {
		steps, err := RunningSum(ctx, b.r, l, o.Order, b.w)
		if err != nil || len(steps) != 4 {
			t.Fatalf("%v, %v", steps, err)
		}
		last := steps[3].Level
		near(t, string(o.Order)+" ends at", last.Peak, float64(l.Master.Out.Peak), 1e-3)
		near(t, string(o.Order)+" ends at a loudness of", last.Integrated(), float64(l.Master.Out.Integrated()), 1e-2)
	}
	steps, _ := RunningSum(ctx, b.r, l, ByRole, b.w)
	if steps[0].Name != "s1" || steps[1].Name != "s2" || steps[3].Name != "s0" {
		t.Errorf("by role: %s, %s, %s, %s", steps[0].Name, steps[1].Name, steps[2].Name, steps[3].Name)
	}
}

func frames(at int) string { return fmt.Sprint(at) }

// The master of stems with gains against sox's mix of the same exported files with the same
// gains: within 24-bit rounding of both (a file's step is 2^-23).
func TestMixAgainstSox(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	b := newBench(2)
	b.song.Buses = []session.Bus{{ID: "x", Name: "X", Fader: -1.5}}
	args := []string{"-m"}
	for i, g := range []float64{-3.1, 2.4, -7} {
		name := fmt.Sprint("s", i)
		file := outside.WriteWAV(t, name+".wav", noise(r, 2, -24, 2), wav.Int24)
		f, err := os.Open(file)
		if err != nil {
			t.Fatal(err)
		}
		st, _ := f.Stat()
		src, err := wav.NewReader(f, st.Size())
		if err != nil {
			t.Fatal(err)
		}
		sound := audio.New(rate, 2, 2*rate)
		if err := src.ReadAt(sound, 0); err != nil {
			t.Fatal(err)
		}
		f.Close()
		b.add(name, session.Other, "x", sound).Clip = g
		args = append(args, "-v", fmt.Sprintf("%.12f", math.Pow(10, (g-1.5)/20)), file)
	}
	out := filepath.Join(t.TempDir(), "mix.raw")
	outside.Run(t, "sox", append(args, "-D", "-t", "raw", "-e", "signed", "-b", "32", out)...)
	raw, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	mine, _, err := b.r.Solo(ctx, &b.song, mix.SoloAll, b.w)
	if err != nil {
		t.Fatal(err)
	}
	if len(raw) != 8*mine.Frames() {
		t.Fatalf("sox wrote %d bytes for %d frames", len(raw), mine.Frames())
	}
	worst := 0.0
	for i := range mine.Frames() {
		for c := range mine.Ch {
			theirs := float64(int32(binary.LittleEndian.Uint32(raw[8*i+4*c:]))) / (1 << 31)
			worst = max(worst, math.Abs(theirs-float64(mine.Ch[c][i])))
		}
	}
	if worst > 1.0/(1<<23) {
		t.Errorf("off by %.2f steps of 24 bits", worst*(1<<23))
	}
}

// A trim among 60 stems: what is answered after it, the ledger with its findings.
func BenchmarkTrim60(b *testing.B) {
	r := rand.New(rand.NewPCG(13, 14))
	x := newBench(8 * 240 / 142.0)
	x.song.Rate = 44100
	x.w.To = 596281
	for i := range 6 {
		x.song.Buses = append(x.song.Buses, session.Bus{ID: fmt.Sprint("b", i), Name: fmt.Sprint("Bus ", i)})
	}
	for i := range 60 {
		sound := noise(r, 8*240/142.0*44100/rate, -40, 2)
		sound.Rate = 44100
		x.add(fmt.Sprint("s", i), session.Roles[i%8].Role, fmt.Sprint("b", i%6), sound)
	}
	if _, err := Measure(ctx, x.r, &x.song, x.w); err != nil {
		b.Fatal(err)
	}
	db := 0.0
	for b.Loop() {
		db -= 0.01
		x.song.Stems[7].Clip = db
		l, err := Measure(ctx, x.r, &x.song, x.w)
		if err != nil {
			b.Fatal(err)
		}
		Judge(l, nil, frames)
	}
}
