package compare

import (
	"context"
	"math"
	"os"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/device"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/internal/sampled"
)

// A reference is the same mix with one part at another level: who is to be turned is that part, and by that much.
func TestTurns(t *testing.T) {
	ctx := context.Background()
	parts := []audio.Buffer{coloured(7), coloured(8), coloured(9)}
	for i, band := range [][2]float64{{40, 110}, {250, 900}, {2500, 9000}} { // each by itself in a band
		s, err := dsp.Bandpass(band[0], band[1], float64(parts[i].Rate))
		if err != nil {
			t.Fatal(err)
		}
		for _, ch := range parts[i].Ch {
			for range 2 {
				dsp.NewFilter(s).Process(ch, ch)
			}
		}
		g := float32(dsp.Gain(-20 - float64(meter.IntegratedLoudness(parts[i])))) // all equally loud
		for _, ch := range parts[i].Ch {
			for n := range ch {
				ch[n] *= g
			}
		}
	}
	mix := func(db [3]float64) audio.Buffer {
		out := audio.New(parts[0].Rate, len(parts[0].Ch), parts[0].Frames())
		for k, p := range parts {
			g := float32(dsp.Gain(db[k]))
			for c := range out.Ch {
				for i := range out.Ch[c] {
					out.Ch[c][i] += g * p.Ch[c][i]
				}
			}
		}
		return out
	}
	sound := func(x audio.Buffer) Sound {
		s, err := OfSource(ctx, audio.Memory{Buffer: x})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	var bands [][]meter.Figure
	for _, p := range parts {
		s, err := meter.MeasureSpectrum(audio.Memory{Buffer: p})
		if err != nil {
			t.Fatal(err)
		}
		bands = append(bands, s.Level)
	}
	song := sound(mix([3]float64{}))
	for k := range parts {
		var by [3]float64
		by[k] = 5
		other := sound(mix(by))
		for _, turn := range Against(song, other).Turns(bands, 1) {
			want := 5 - float64(other.Loudness-song.Loudness) // at one loudness it is so much softer, and the others as much louder as it made all
			if turn.Part != k {
				want -= 5
			}
			if math.Abs(turn.DB-want) > 0.6 || turn.Of < 0.9 {
				t.Errorf("part %d is 5 dB too soft: part %d by %.1f dB, not %.1f (%.2f of what sounds there)", k, turn.Part, turn.DB, want, turn.Of)
			}
		}
		all := Against(song, sound(mix(only(k, 14)))).Turns(bands, 3)
		if len(all) < 2 {
			t.Errorf("part %d is 14 dB too soft: %+v", k, all)
		}
		for i, a := range all {
			for _, b := range all[:i] {
				if math.Abs(math.Log2(a.Hz/b.Hz)) < 0.85 {
					t.Errorf("%.0f and %.0f Hz are told both", a.Hz, b.Hz)
				}
			}
			if math.Abs(a.Off) <= 3 || math.Abs(a.DB) > 6 {
				t.Errorf("%+v", a)
			}
		}
	}
	if same := Against(song, song).Turns(bands, 3); same != nil {
		t.Errorf("against itself: %+v", same)
	}
	if SaidHz(63.1) != "63 Hz" || SaidHz(2511) != "2.5 kHz" {
		t.Error(SaidHz(63.1), SaidHz(2511))
	}
}

func only(k int, db float64) (out [3]float64) {
	out[k] = db
	return out
}

// hits is a kick of 55 Hz every half second, with a bass from a time on.
func hits(bassFrom float64) audio.Buffer {
	x := audio.New(rate, 1, 8*rate)
	for h := range 15 {
		at := rate/4 + h*rate/2
		for i := range rate / 3 {
			s := float64(i) / rate
			x.Ch[0][at+i] += float32(0.6 * math.Sin(2*math.Pi*(55*s+1.2*(1-math.Exp(-s/0.008)))) * math.Exp(-s/0.07))
		}
	}
	for i := int(bassFrom * rate); i < len(x.Ch[0]); i++ {
		x.Ch[0][i] += float32(0.3 * math.Sin(2*math.Pi*50*float64(i)/rate))
	}
	return x
}

// The kicks before the bass comes in stand free, and are measured: where they are, what they weigh by plain sums, where they
// settle, how long they last. Where the bass plays through none does.
func TestFreeKicks(t *testing.T) {
	ctx := context.Background()
	x := hits(4)
	k, err := FreeKicks(ctx, audio.Memory{Buffer: x}, -14)
	if err != nil || k.Count < 5 || k.Count > 8 {
		t.Fatalf("%+v %v", k, err)
	}
	if off := math.Mod(k.At-0.25+0.5, 0.5); math.Min(off, 0.5-off) > 0.012 || k.At > 4 {
		t.Errorf("the freest is at %.3f s", k.At)
	}
	if math.Abs(float64(k.Hz)-55) > 6 {
		t.Errorf("it settles at %.1f Hz", float64(k.Hz))
	}
	// exp(-t/0.07) falls by 20 dB in 161 ms
	if math.Abs(float64(k.Length)-161) > 15 {
		t.Errorf("it lasts %.0f ms", float64(k.Length))
	}
	s, err := dsp.Bandpass(20, 150, rate)
	if err != nil {
		t.Fatal(err)
	}
	y := make([]float32, rate/5)
	at := int(k.At*rate) - rate/200
	dsp.NewFilter(s).Process(y, x.Ch[0][at:at+len(y)])
	if want := dsp.PowerDB(meter.Energy(y)/float64(len(y))) + 14; math.Abs(float64(k.Weight)-want) > 0.5 {
		t.Errorf("it weighs %.2f dB, by plain sums %.2f", float64(k.Weight), want)
	}
	if k, err = FreeKicks(ctx, audio.Memory{Buffer: hits(0)}, -14); err != nil || k.Count != 0 || k.Weight.Valid() {
		t.Errorf("under a bass: %+v %v", k, err)
	}
	if k, err = FreeKicks(ctx, audio.Memory{Buffer: audio.New(rate, 2, rate)}, meter.None); err != nil || k.Count != 0 {
		t.Errorf("silence: %+v %v", k, err)
	}
}

// Recorded drums: of a kit whose bass drum plays alone for four bars, and with a bass after, those of the four bars are found.
func TestFreeKicksRecorded(t *testing.T) {
	for _, kit := range sampled.Kits[:2] {
		var notes []sampled.Note
		for beat := range 16 {
			at := 0.5 + 0.5*float64(beat)
			notes = append(notes, sampled.Note{Channel: sampled.Drums, Key: 36, Velocity: 110, At: at, End: at + 0.2})
			if beat >= 8 {
				notes = append(notes, sampled.Note{Channel: 0, Key: 33, Velocity: 110, At: at, End: at + 0.48})
			}
		}
		x := sampled.Play(t, map[int]int{sampled.Drums: kit, 0: 38}, notes, 9)
		k, err := FreeKicks(context.Background(), audio.Memory{Buffer: x}, -20)
		if err != nil {
			t.Fatal(err)
		}
		if k.Count < 6 || k.Count > 9 || k.At > 4.6 || !k.Weight.Valid() {
			t.Errorf("kit %d: %+v", kit, k)
		}
		if off := math.Mod(k.At+0.25, 0.5) - 0.25; math.Abs(off) > 0.03 {
			t.Errorf("kit %d: the freest is %.0f ms off its note", kit, 1000*off)
		}
	}
}

// Every stand-in is written down as it is.
func TestDescribed(t *testing.T) {
	doc, err := os.ReadFile("../../docs/numbers.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, d := range device.All {
		if row := "| " + d.Short() + " | " + d.Described() + " |"; !strings.Contains(string(doc), row) {
			t.Errorf("docs/numbers.md lacks %s", row)
		}
	}
}
