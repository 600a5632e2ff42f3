package move

import (
	"encoding/json"
	"math"
	"math/rand/v2"
	"os"
	"reflect"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

// examples are settings of every kind: as it is put in, and at its extremes.
var examples = map[string][]Params{
	"part":     {&Part{Keep: Head, Trigger: "k", At: 90, Fade: 20}, &Part{Keep: Tail, Trigger: "k", At: 300, Fade: 200}},
	"polarity": {&Polarity{}},
	"tune": {&Tune{Cents: 40}, &Tune{Cents: 300, Trigger: "k"}, &Tune{Cents: -1200, Trigger: "k"},
		&Tune{Cents: -17, Notes: []NoteTune{{At: 0.1}, {At: 0.8, Cents: 60}, {At: 1.9, Cents: -400}}}},
	"filter": {&Filter{Shape: dsp.Bell, Hz: 20, Q: 5, DB: 6}, &Filter{Shape: dsp.Highpass, Hz: 30, Slope: 48}, &Filter{Shape: dsp.Lowpass, Hz: 90, Slope: 24},
		&Filter{
			Shape: dsp.LowShelf,
			Hz:    40,
			Q:     0.7,
			DB:    -12,
		}, &Filter{Shape: dsp.Bell, Hz: 10, Q: 30, DB: -12}, &Filter{Shape: dsp.HighShelf, Hz: 20000, Q: 0.7, DB: 3}},
	"midside":   {&MidSide{Channels: "side", Shape: dsp.LowShelf, Hz: 120, Q: 0.7, DB: -24}, &MidSide{Channels: "mid", Shape: dsp.Bell, Hz: 30, Q: 8, DB: 6}},
	"sidecut":   {&SideCut{Hz: 40, Slope: 48}, &SideCut{Hz: 300, Slope: 12}, &SideCut{Hz: 150, Slope: 24, Low: LowRight}},
	"monobelow": {&MonoBelow{Hz: 30}, &MonoBelow{Hz: 300}},
	"width":     {&Width{Mid: -3, Side: 6}, &Width{Side: -60}},
	"align":     {&Align{Left: 3.3, Turn: TurnNone}, &Align{Left: -12, Turn: TurnLeft}, &Align{Turn: TurnRight}},
	"ring": {&Ring{Hz: 50, Q: 20, Range: 12, Threshold: -40, Ratio: 8, Attack: 5, Release: 300, Channels: "mid"},
		&Ring{Hz: 9000, Q: 0.3, Range: 24, Threshold: -60, Ratio: 100, Attack: 0.05, Release: 3000, Channels: "stereo"}},
	"keyedbell": {&KeyedBell{Trigger: "k", Hz: 56, Q: 4, Range: 6, Channels: "mid", High: 30, Low: 90, Threshold: -40, Ratio: 20, Attack: 2, Release: 80},
		&KeyedBell{Trigger: "k", Hz: 9000, Q: 0.5, Range: 24, Channels: "side", Threshold: -60, Ratio: 100, Attack: 0.05, Release: 3000}},
	"fade":  {&Fade{Trigger: "k", From: 50, To: 120}},
	"nudge": {&Nudge{MS: 20}, &Nudge{MS: -7.77}, &Nudge{MS: 99.991}},
	"gains": {&Gains{Steps: []GainStep{{At: 0.2, DB: -6}, {At: 0.21, DB: 3}, {At: 1.4, DB: 5}}}, &Gains{Steps: []GainStep{{At: 0, DB: 2}, {At: 2.2, DB: -24}}}},
	"drop": {&Drop{From: DropStart, Semitones: 12, MS: 120, Curve: "early", Notes: []DropNote{{0.1, 0.5, 50}, {0.5, 1.2, 55}, {1.6, 2.9, 41.2}}},
		&Drop{
			From:      DropRelease,
			Semitones: 24,
			MS:        400,
			Curve:     "late",
			Notes:     []DropNote{{0, 0.7, 50}, {0.9, 2.4, 98}},
		}, &Drop{From: DropRelease, Semitones: -7, MS: 2000, Curve: "straight", Notes: []DropNote{{0.2, 2.6, 30}}}},
	"sub": {&Sub{Trigger: "k", Hz: 26, Level: -12, Attack: 3, Length: 400}, &Sub{Trigger: "k", Hz: 60, Level: -60, Attack: 1, Length: 2000}},
	"attackbands": {
		&AttackBands{LowHz: 120, HighHz: 2500, LowSustain: -6, MidAttack: 3, HighAttack: 12},
		&AttackBands{LowHz: 40, HighHz: 12000, LowAttack: -12, HighSustain: 12},
	},
	"parallel": {&Parallel{Over: 340, Attack: 9, Sustain: -12, Drive: 12, Level: -3}, &Parallel{Over: 20, Attack: -12, Sustain: 6, Level: 6}},
	"bands": {
		&Bands{LowHz: 120, HighHz: 2500, Depth: 100, Low: -20, Mid: -30, High: -30, Attack: 10, Release: 120},
		&Bands{LowHz: 40, HighHz: 12000, Depth: 50, Low: -50, Mid: 0, High: -50, Attack: 200, Release: 1000, Gain: -3},
	},
	"attack": {&Attack{Attack: 6}, &Attack{Attack: -12, Sustain: 12}, &Attack{Sustain: -6}},
	"drive": {
		&Drive{Adds: DriveBoth, Drive: 12, Over: 120, Level: -6},
		&Drive{Adds: DriveEven, Drive: 24, Over: 20, Level: 12, Gain: -3},
		&Drive{Adds: DriveOdd, Drive: 0, Over: 2000, Level: 0},
		&Drive{Adds: DriveOdd, Drive: 18, Over: 60, Under: 120, Level: 0},
	},
	"compress": {&Compress{Threshold: -30, Ratio: 4, Knee: 6, Attack: 30, Release: 300, Makeup: 3, BackHz: 45, Back: 2},
		&Compress{
			Threshold: -50,
			Ratio:     20,
			Attack:    0.1,
			Release:   2000,
			BackHz:    50,
		}, &Compress{Threshold: -30, Ratio: 2, Knee: 6, KeyHz: 150, Attack: 30, Release: 200, BackHz: 50}},
	"limit": {
		&Limit{Drive: 6, Ceiling: -6, Ahead: 3, Release: 120},
		&Limit{Drive: 20, Ceiling: -12, Ahead: 20, Release: 400},
		&Limit{Drive: -6, Ceiling: 0, Ahead: 0.5, Release: 10},
	},
	"softclip": {&SoftClip{Threshold: -9, Knee: 6}, &SoftClip{Threshold: -12}, &SoftClip{Threshold: 0, Knee: 3}},
	"duck": {
		usual,
		&Duck{School: CompressorSchool, Trigger: "k", Comp: &Compressor{Threshold: -30, Ratio: 4, Knee: 6, Attack: 5, Hold: 20, Release: 200, Lookahead: 5}},
		&Duck{
			School:  CompressorSchool,
			Trigger: "k",
			Comp:    &Compressor{Threshold: -40, Ratio: 20, Attack: 0.5, Release: 3000},
			Key:     &KeyFilter{High: 20, Low: 120, Slope: 48},
		},
		&Duck{
			School:  BandSchool,
			Trigger: "k",
			Comp:    &Compressor{Threshold: -30, Ratio: 8, Attack: 2, Release: 90, Lookahead: 20},
			Band:    &Band{Shape: "bell", Hz: 50, Q: 6, Range: 12, Channels: "mid"},
		},
		&Duck{
			School:  BandSchool,
			Trigger: "k",
			Comp:    &Compressor{Threshold: -30, Ratio: 8, Attack: 2, Release: 90},
			Band:    &Band{Shape: "below", Hz: 80, Range: 12, Channels: "side"},
		},
	},
}

// noisy is two channels of noise and tones, seconds long.
func noisy(rate int, seconds float64) audio.Buffer {
	r := rand.New(rand.NewPCG(7, 8))
	b := audio.New(rate, 2, int(seconds*float64(rate)))
	for c := range b.Ch {
		for i := range b.Ch[c] {
			t := float64(i) / float64(rate)
			b.Ch[c][i] = float32(0.3*math.Sin(2*math.Pi*(50+5*float64(c))*t) + 0.1*r.NormFloat64())
		}
	}
	return b
}

// carry carries a move out on the frames from start to end of a sound, of which it hears memory more before, and
// takes its latency off. What a Listener listens to is the first channel.
func carry(t *testing.T, p Params, place Place, x audio.Buffer, from, to, block int) audio.Buffer {
	t.Helper()
	at := place
	at.Start = from
	run := p
	var gain []float32
	begin := max(0, from-p.Memory(at))
	if l, ok := p.(Listener); ok && p.Needs().Sound {
		run = l.Carrier()
		begin = max(0, from-run.Memory(at))
		at.Start = begin
		heard := max(0, begin-l.Listens(at))
		key := make([]float32, to-heard+place.Rate/20)
		copy(key, x.Ch[0][heard:])
		g, err := l.Listen(at)
		if err != nil {
			t.Fatal(err)
		}
		for k := 0; k < len(key); k += block {
			gain = append(gain, g.Gains(key[k:min(k+block, len(key))])...)
		}
		gain = gain[begin-heard+g.Ahead():]
	}
	at.Start = begin
	proc, err := run.Processor(at)
	if err != nil {
		t.Fatal(err)
	}
	late := proc.Latency()
	y := audio.New(x.Rate, len(x.Ch), to-begin+late)
	for c := range y.Ch {
		copy(y.Ch[c], x.Ch[c][begin:])
	}
	for k := 0; k < y.Frames(); k += block {
		end := min(k+block, y.Frames())
		key := audio.Buffer{Rate: x.Rate}
		if gain != nil {
			key.Ch = [][]float32{gain[k:end]}
		}
		proc.Process(y.Slice(k, end), key)
	}
	return y.Slice(from-begin+late, y.Frames())
}

func farthest(a, b audio.Buffer) float64 {
	worst := 0.0
	for c := range a.Ch {
		for i, v := range a.Ch[c] {
			worst = max(worst, math.Abs(float64(v-b.Ch[c][i])))
		}
	}
	return worst
}

// Every kind, at every rate, in blocks of any size: a window is that window of the whole to within 100 dB under full
// scale, finite out of finite in, and what is read back is what was written.
func TestEveryKind(t *testing.T) {
	for _, k := range Kinds {
		t.Run(k.Name, func(t *testing.T) {
			t.Parallel()
			outside.Slow(t)
			everySetting(t, k)
		})
	}
}

func everySetting(t *testing.T, k *Kind) {
	const near = 1e-5 // of full scale
	settings := append([]Params{k.Fresh()}, examples[k.Name]...)
	if len(settings) < 2 {
		t.Errorf("%s: no example", k.Name)
	}
	for i, p := range settings {
		for _, f := range p.Fields() {
			if f.Trigger && !f.None {
				*f.Text = "k"
			}
		}
		if err := Validate(p); err != nil {
			t.Errorf("%s %d: %v", k.Name, i, err)
			continue
		}
		if Words(p) == "" {
			t.Errorf("%s %d says nothing", k.Name, i)
		}
		b, err := json.Marshal(Move{ID: "m", Params: p})
		var back Move
		if err == nil {
			err = json.Unmarshal(b, &back)
		}
		if err != nil || !reflect.DeepEqual(back.Params, p) {
			t.Errorf("%s %d comes back from JSON as %+v (%v)", k.Name, i, back.Params, err)
		}
		for _, rate := range []int{44100, 48000, 96000} {
			if rate != 44100 && testing.Short() {
				continue
			}
			x := noisy(rate, 3)
			place := Place{Rate: rate, BPM: 120}
			for s := 0.25; s < 3; s += 0.55 {
				place.Hits = append(place.Hits, int(s*float64(rate)))
			}
			whole := carry(t, p, place, x, 0, x.Frames(), x.Frames()*2)
			for _, ch := range whole.Ch {
				for j, v := range ch {
					if v-v != 0 {
						t.Fatalf("%s %d: frame %d is no number", k.Name, i, j)
					}
				}
			}
			windows := [][2]int{{rate / 3, rate}, {0, rate}, {2*rate + 77, 2*rate + 5000}, {2*rate + rate/2, 3 * rate}}
			if rate != 44100 {
				windows = windows[:1]
			}
			for _, w := range windows {
				for _, block := range []int{63, 4096} {
					part := carry(t, p, place, x, w[0], w[1], block)
					if d := farthest(part, whole.Slice(w[0], w[1])); d > near {
						t.Errorf(
							"%s %d (%s) at %d Hz: frames %d to %d in blocks of %d differ from the whole by %.1f dBFS",
							k.Name,
							i,
							Words(p),
							rate,
							w[0],
							w[1],
							block,
							dsp.DB(d),
						)
					}
				}
			}
			mono := audio.Buffer{Rate: rate, Ch: x.Ch[:1]}
			if y := carry(t, p, place, mono, 0, rate, 4096); len(y.Ch) != 1 || y.Frames() != rate {
				t.Errorf("%s %d: one channel comes out as %d", k.Name, i, len(y.Ch))
			}
		}
	}
}

// A kind that says it is linear is: what comes out of a sum is the sum of what comes out of its parts; and one that
// is not does not say so.
func TestLinear(t *testing.T) {
	outside.Slow(t)
	x := noisy(testRate, 2)
	half := audio.New(testRate, 2, x.Frames())
	rest := audio.New(testRate, 2, x.Frames())
	for c := range x.Ch {
		for i, v := range x.Ch[c] {
			half.Ch[c][i] = v * float32(0.5+0.5*math.Sin(float64(i)/5000))
			rest.Ch[c][i] = v - half.Ch[c][i]
		}
	}
	for _, k := range Kinds {
		bent := 0.0
		for _, p := range examples[k.Name] {
			if tune, ok := p.(*Tune); ok && tune.Trigger == "" { // where it steps goes by the sound: linear but for that
				continue
			}
			place := Place{Rate: testRate, BPM: 120, Hits: []int{9000, 40000, 70000}}
			run := p
			if l, ok := p.(Listener); ok && p.Needs().Sound { // linear in what it lowers, not in what it hears
				run = l.Carrier()
			}
			out := func(b audio.Buffer) audio.Buffer { return carry(t, run, place, b, 0, b.Frames(), 4096) }
			a, b, all := out(half), out(rest), out(x)
			for c := range all.Ch {
				for i, v := range all.Ch[c] {
					bent = max(bent, math.Abs(float64(v-a.Ch[c][i]-b.Ch[c][i])))
				}
			}
		}
		if bent > 1e-5 == k.Linear {
			t.Errorf("%s says linear: %v, but a sum and its parts differ by %g", k.Name, k.Linear, bent)
		}
	}
}

// Every field has a name of its own that is its place in JSON, and every value out of its bounds is refused in a
// sentence that names the field.
func TestFields(t *testing.T) {
	for _, k := range Kinds {
		for _, p := range append([]Params{k.Fresh()}, examples[k.Name]...) {
			seen := map[string]bool{}
			for i, f := range p.Fields() {
				if f.Name == "" || f.Label == "" || seen[f.Name] {
					t.Errorf("%s: field %d has no name of its own", k.Name, i)
				}
				seen[f.Name] = true
				if f.Idle {
					continue
				}
				if f.Trigger {
					*f.Text = "k"
				}
				c := Copy(p)
				g := c.Fields()[i]
				switch {
				case g.Number != nil:
					if !(g.Lo < g.Hi && g.Step > 0) {
						t.Errorf("%s: the bounds of %s are none", k.Name, f.Name)
					}
					*g.Number = g.Hi // its place in JSON
					if !strings.Contains(at(t, c, f.Name), strings.TrimSuffix(f.String()[:0]+g.String(), ".0")) {
						t.Errorf("%s: %s is not its place in JSON: %s", k.Name, f.Name, at(t, c, f.Name))
					}
					for _, bad := range []float64{g.Hi + 1, g.Lo - 1, math.NaN(), math.Inf(1)} {
						if *g.Number = bad; Validate(c) == nil {
							t.Errorf("%s: %s of %g is taken", k.Name, f.Name, bad)
						}
					}
					if err := Read(Copy(p), func(name string) (string, bool) { return "soon", name == f.Name }); err == nil || !strings.Contains(err.Error(), f.Label) {
						t.Errorf("%s: %q as %s gives %v", k.Name, "soon", f.Name, err)
					}
				case !f.Trigger:
					if err := Read(Copy(p), func(name string) (string, bool) { return "7", name == f.Name }); err == nil {
						t.Errorf("%s: 7 is taken as %s", k.Name, f.Name)
					}
					for _, ch := range f.Choices {
						if err := Read(Copy(p), func(name string) (string, bool) { return ch.Value, name == f.Name }); err != nil {
							t.Errorf("%s: the choice %s of %s is refused: %v", k.Name, ch.Value, f.Name, err)
						}
					}
				}
			}
		}
	}
}

// at returns the JSON of parameters at a path.
func at(t *testing.T, p Params, path string) string {
	t.Helper()
	b, err := json.Marshal(p)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range strings.Split(path, ".") {
		var m map[string]json.RawMessage
		if err := json.Unmarshal(b, &m); err != nil {
			return ""
		}
		b = m[name]
	}
	return string(b)
}

// The table of kinds in docs/session-format.md is what the kinds say; UPDATE_DOCS=1 writes it anew.
func TestDocumented(t *testing.T) {
	const file, begin, end = "../../docs/session-format.md", "| kind | stands on | what it does | params |\n|---|---|---|---|\n", "\n\n"
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var rows []string
	for _, k := range Kinds {
		rows = append(rows, k.Doc())
	}
	before, rest, ok := strings.Cut(string(b), begin)
	if !ok {
		t.Fatal("the table is not there")
	}
	table, after, _ := strings.Cut(rest, end)
	want := strings.Join(rows, "\n")
	if table == want {
		return
	}
	if os.Getenv("UPDATE_DOCS") != "" {
		if err := os.WriteFile(file, []byte(before+begin+want+end+after), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	t.Errorf("docs/session-format.md does not list the kinds as they are; UPDATE_DOCS=1 go test ./core/move -run TestDocumented writes:\n%s", want)
}

// A list with a kind twice, or half made, is a mistake that shows at the start.
func TestKindList(t *testing.T) {
	for say, list := range map[string][]*Kind{
		"twice": {filterKind, filterKind}, "none": {nil}, "half": {{Name: "x", Label: "X"}},
		"other": {{Name: "x", Label: "X", Does: "x", Where: OnStem, New: func() Params { return &Nudge{} }}},
	} {
		func() {
			defer func() {
				if recover() == nil {
					t.Errorf("%s: the list is taken", say)
				}
			}()
			index(list)
		}()
	}
	if err := json.Unmarshal([]byte(`{"id": "m", "kind": "reverb", "params": {}}`), new(Move)); err == nil || !strings.Contains(err.Error(), "unknown kind") {
		t.Errorf("an unknown kind gives %v", err)
	}
}

// A soft clip leaves quiet sound as it is to the bit, holds its threshold, follows its curve at low frequencies
// (closed form), and makes fewer aliases than the same curve without a higher rate.
func TestSoftClip(t *testing.T) {
	quiet := tone(997, 0.3)
	for i := range quiet {
		quiet[i] *= 0.2
	}
	if y := through(t, &SoftClip{Threshold: -3, Knee: 3}, Place{Rate: testRate}, quiet, 777); off(quiet, y, 0, len(quiet)) != 0 {
		t.Error("a quiet sound is not left as it is")
	}
	s := &SoftClip{Threshold: -9, Knee: 4}
	c := &clipping{top: dsp.Gain(-9), knee: dsp.Gain(-13)}
	low := tone(40, 0.5) // to 0.5, -6 dBFS
	y := through(t, s, Place{Rate: testRate}, low, 512)
	for i := 2000; i < len(y)-2000; i++ {
		if want := float64(low[i]) + float64(c.shave(low[i])); math.Abs(float64(y[i])-want) > 2e-4 {
			t.Fatalf("frame %d: %g, the curve %g", i, y[i], want)
		}
		if math.Abs(float64(y[i])) > c.top*1.001 {
			t.Fatalf("frame %d: %g over the threshold %g", i, y[i], c.top)
		}
	}
	// by hand: at the threshold itself, a knee of 6.02 dB from 0.5: 1 - 0.25/2
	k := &clipping{top: 1, knee: 0.5}
	if got := 1 + k.shave(1); math.Abs(float64(got)-0.875) > 1e-6 || k.shave(0.5) != 0 || math.Abs(float64(1.5+k.shave(1.5))-1) > 1e-6 {
		t.Errorf("the curve at its threshold gives %g, want 0.875", got)
	}
	alias := func(y []float32) float64 { // of a 5 kHz tone, at 44.1 - 25 kHz: where the fifth harmonic would fold to
		var re, im float64
		for i := 4410; i < 4410+22050; i++ {
			p := 2 * math.Pi * 19100 * float64(i) / testRate
			re, im = re+float64(y[i])*math.Cos(p), im+float64(y[i])*math.Sin(p)
		}
		return dsp.DB(2 * math.Hypot(re, im) / 22050)
	}
	high := tone(5000, 1)
	plain := append([]float32(nil), high...)
	hard := &clipping{top: dsp.Gain(-12), knee: dsp.Gain(-12)}
	for i, v := range plain {
		plain[i] += hard.shave(v)
	}
	with := alias(through(t, &SoftClip{Threshold: -12}, Place{Rate: testRate}, high, 4096))
	if without := alias(plain); with > without-30 {
		t.Errorf("the alias at 19.1 kHz is %.1f dBFS, without the higher rate %.1f", with, without)
	}
}

// A bell on the side alone leaves the mid to the bit, and turns the side as the same bell would; mono is all mid.
func TestMidSide(t *testing.T) {
	x := noisy(testRate, 1)
	for _, part := range []string{"mid", "side"} {
		y := carry(t, &MidSide{Channels: part, Shape: dsp.Bell, Hz: 200, Q: 1, DB: -9}, Place{Rate: testRate}, x, 0, x.Frames(), 500)
		sign := map[string]float32{"mid": 1, "side": -1}[part]
		var kept, turned, want []float32
		for i := range x.Ch[0] {
			kept = append(kept, (y.Ch[0][i]-sign*y.Ch[1][i])-(x.Ch[0][i]-sign*x.Ch[1][i]))
			turned = append(turned, (y.Ch[0][i]+sign*y.Ch[1][i])/2)
			want = append(want, (x.Ch[0][i]+sign*x.Ch[1][i])/2)
		}
		want = through(t, &Filter{Shape: dsp.Bell, Hz: 200, Q: 1, DB: -9}, Place{Rate: testRate}, want, 500)
		if off(kept, make([]float32, len(kept)), 0, len(kept)) > 2e-7 || off(turned, want, 0, len(want)) > 1e-6 {
			t.Errorf(
				"%s: the other part changes by %g, this one misses its bell by %g",
				part,
				off(kept, make([]float32, len(kept)), 0, len(kept)),
				off(turned, want, 0, len(want)),
			)
		}
	}
	mono := tone(200, 0.5)
	if y := through(t, &MidSide{Channels: "side", Shape: dsp.Bell, Hz: 200, Q: 1, DB: -9}, Place{Rate: testRate}, mono, 500); off(mono, y, 0, len(mono)) != 0 {
		t.Error("a mono sound has a side")
	}
}
