package room

import (
	"context"
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/session"
	"mellowthump/internal/sampled"
)

// A straight line has nothing over it; a bell on it stands out by what it is, and the smallest bell against it is it.
func TestMudAgainstAPlainLine(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 1))
	x := audio.New(rate, 1, 12*rate)
	for i := range x.Ch[0] {
		x.Ch[0][i] = float32(0.1 * r.NormFloat64())
	}
	f, err := fineSpectrum(context.Background(), x, 0)
	if err != nil {
		t.Fatal(err)
	}
	for i, v := range f.over(boxWide) {
		if hz := fineHz(i); hz >= lineLo && hz <= lineHi && math.Abs(v) > 1.2 {
			t.Errorf("noise stands %.2f dB over its line at %.0f Hz", v, hz)
		}
	}
	b, err := dsp.RBJ(dsp.Bell, 180, 1.4, 5, rate)
	if err != nil {
		t.Fatal(err)
	}
	y := audio.New(rate, 1, x.Frames())
	dsp.NewFilter([]dsp.Biquad{b}).Process(y.Ch[0], x.Ch[0])
	if f, err = fineSpectrum(context.Background(), y, 0); err != nil {
		t.Fatal(err)
	}
	at, by := worst(f.over(boxWide), mudBand)
	if math.Abs(fineHz(at)-180) > 25 || by < 2.5 || by > 5 { // it lifts the line a little, and a third of an octave is wide
		t.Errorf("a bell of 5 dB at 180 Hz: %.1f dB at %.0f Hz", by, fineHz(at))
	}
	bell := bellAt(fineHz(at), rate, f, func(f Fine) float64 {
		_, by := worst(f.over(boxWide), mudBand)
		return by
	})
	if bell == nil || bell.DB > -2 || bell.DB < -6 {
		t.Fatalf("against it: %+v", bell)
	}
	s, err := bell.Sections(rate)
	if err != nil {
		t.Fatal(err)
	}
	dsp.NewFilter(s).Process(y.Ch[0], y.Ch[0])
	if f, err = fineSpectrum(context.Background(), y, 0); err != nil {
		t.Fatal(err)
	}
	if _, by := worst(f.over(boxWide), mudBand); by > 0.6 {
		t.Errorf("behind its bell it stands %.2f dB over the line still", by)
	}
}

// A drum is boxy by a resonance of its own, not by the skirt of its body: of 18 recorded snares few are.
func TestBoxOnRecordedSnares(t *testing.T) {
	boxy := 0
	for _, kit := range sampled.Kits {
		for _, key := range []int{38, 40} {
			var n []sampled.Note
			for at := 0.2; at < 4; at += 0.6 {
				n = append(n, sampled.Note{At: at, End: at + 0.2, Key: key, Velocity: 110, Channel: sampled.Drums})
			}
			x := sampled.Play(t, map[int]int{sampled.Drums: kit}, n, 5)
			f, err := fineSpectrum(context.Background(), x, 0)
			if err != nil {
				t.Fatal(err)
			}
			if at, _ := f.boxy(session.Snare); at >= 0 {
				t.Logf("kit %d, key %d: %.0f Hz", kit, key, fineHz(at))
				boxy++
			}
			// the same with a resonance put in at 250 Hz
			for h := 0.2; h < 4; h += 0.6 {
				for i := range rate / 2 {
					at, ts := int(h*rate)+i, float64(i)/rate
					for _, ch := range x.Ch {
						if at < len(ch) {
							ch[at] += float32(0.35 * math.Sin(2*math.Pi*250*ts) * math.Exp(-ts/0.12))
						}
					}
				}
			}
			if f, err = fineSpectrum(context.Background(), x, 0); err != nil {
				t.Fatal(err)
			}
			if at, _ := f.boxy(session.Snare); at < 0 || math.Abs(fineHz(at)-250) > 15 {
				t.Errorf("kit %d, key %d: the resonance is not found", kit, key)
			}
		}
	}
	if boxy > 1 {
		t.Errorf("%d of 18 snares are boxy", boxy)
	}
}
