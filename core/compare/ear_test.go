package compare

import (
	"context"
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/device"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/internal/outside"
)

// What is listened to in a band or between the channels goes round too, and leaves what it was made of alone.
func TestThroughs(t *testing.T) {
	x := outside.Sine(rate, 2, 60, 0.5, 1, 0)
	for _, th := range Throughs {
		was := append([]float32(nil), x.Ch[0]...)
		y, err := th.Listen(x, 83)
		if err != nil || y.Frames() != x.Frames() {
			t.Fatalf("%s: %v", th.ID, err)
		}
		for i := range was {
			if was[i] != x.Ch[0][i] {
				t.Fatalf("%s changes what it listens to", th.ID)
			}
		}
	}
	level := func(id string, hz float64) float64 {
		th, ok := ThroughOf(id)
		y, err := th.Listen(outside.Sine(rate, 1, hz, 0.5, 1, 0), 83)
		if err != nil || !ok {
			t.Fatal(err)
		}
		return dsp.PowerDB(meter.Energy(y.Ch[0])/float64(y.Frames())/0.125 + 1e-20)
	}
	for _, c := range []struct {
		id   string
		hz   float64
		want float64
		free float64
	}{{"sub", 40, 0, 0.1}, {"sub", 80, -3.01, 0.05}, {"sub", 160, -24.1, 0.5}, {"low", 200, -3.01, 0.05}, {"second", 150, 0, 0.5}, {"second", 40, -24.1,
		0.5}, {"second", 600, -24.2, 0.5}} {
		if l := level(c.id, c.hz); math.Abs(l-c.want) > c.free {
			t.Errorf("%s at %.0f Hz: %.2f dB, not %.2f", c.id, c.hz, l, c.want)
		}
	}
	if _, ok := ThroughOf("radio"); ok {
		t.Error("there is a way of that name")
	}
}

// A mix of known parts: a sub of 45 Hz is lost on the phone and not on earbuds, a tone stays, what stands upside down between
// the channels is lost where one speaker plays, and a kick without a click is unheard where its lows are.
func TestVanish(t *testing.T) {
	const seconds = 4
	tone := func(hz, level float64, flip bool) audio.Buffer {
		x := outside.Sine(rate, 2, hz, level, seconds, 0)
		if flip {
			for i := range x.Ch[1] {
				x.Ch[1][i] = -x.Ch[1][i]
			}
		}
		return x
	}
	kick := audio.New(rate, 1, seconds*rate)
	var hits []int
	for at := rate / 4; at < seconds*rate-rate/2; at += rate / 2 {
		hits = append(hits, at)
		for i := range rate / 4 {
			s := float64(i) / rate
			kick.Ch[0][at+i] = float32(0.5 * math.Sin(2*math.Pi*50*s) * math.Exp(-s/0.06) * math.Min(1, s/0.02))
		}
	}
	parts := []StemSound{
		{"sub", "Sub", false, tone(45, 0.2, false)},
		{"tone", "Tone", false, tone(1000, 0.02, false)},
		{"side", "Side", false, tone(3000, 0.02, true)},
		{"kick", "Kick", true, kick},
	}
	all, err := Vanish(context.Background(), parts, hits, 0, seconds*rate, 83)
	if err != nil || len(all) != len(device.All) {
		t.Fatal(err)
	}
	of := func(device, stem string) StemThere {
		for _, v := range all {
			for _, s := range v.Stems {
				if v.ID == device && s.ID == stem {
					return s
				}
			}
		}
		t.Fatalf("no %s on %s", stem, device)
		return StemThere{}
	}
	for _, c := range []struct {
		device, stem string
		there        bool
	}{{"phone", "sub", false}, {"laptop", "sub", false}, {"earbuds", "sub", true}, {"phone", "tone", true}, {"car", "tone", true}, {"phone", "side",
		false}, {"kitchen", "side", false}, {"laptop", "side", true}, {"club", "side", true}} {
		s := of(c.device, c.stem)
		if c.there != (s.There > 0.85) || c.there == (s.There < 0.1) || s.Room < 0.85 {
			t.Errorf("%s on the %s: heard in %.2f, in the room in %.2f", c.stem, c.device, float64(s.There), float64(s.Room))
		}
	}
	for _, v := range all {
		small := v.ID == "phone" || v.ID == "laptop"
		if v.Hits != len(hits) || small && len(v.Unheard) != len(hits) || !small && len(v.Unheard) > 0 {
			t.Errorf("%s: %d of %d hits unheard", v.ID, len(v.Unheard), v.Hits)
		}
	}
	if first := all[0].Stems[0].ID; first != "sub" && first != "side" && first != "kick" {
		t.Errorf("the worst on the phone is the %s", first)
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if _, err := Vanish(ctx, parts, hits, 0, seconds*rate, 83); err == nil {
		t.Error("it goes on after it was left")
	}
	if none, err := Vanish(context.Background(), nil, nil, 0, rate, 83); none != nil || err != nil {
		t.Errorf("%v %v", none, err)
	}
}
