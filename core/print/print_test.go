package print

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

const rate = 44100

// beat is a kick with a click every half second over a soft bass and noise, in stereo, and where its hits are.
func beat(seconds int) (x audio.Buffer, hits []int) {
	r := rand.New(rand.NewPCG(1, 9))
	x = audio.New(rate, 2, seconds*rate)
	for at := rate / 4; at+rate/2 < x.Frames(); at += rate / 2 {
		hits = append(hits, at)
		for i := range rate / 4 {
			s := float64(i) / rate
			v := 0.5*math.Sin(2*math.Pi*(55*s+1.4*(1-math.Exp(-s/0.008))))*math.Exp(-s/0.07) + 0.25*math.Sin(2*math.Pi*2300*s)*math.Exp(-s/0.004)
			x.Ch[0][at+i] += float32(v)
			x.Ch[1][at+i] += float32(v)
		}
	}
	for c := range x.Ch {
		for i := range x.Ch[c] {
			s := float64(i) / rate
			x.Ch[c][i] += float32(0.1*math.Sin(2*math.Pi*49*s) + 0.05*r.NormFloat64())
		}
	}
	return x, hits
}

// What is asked is met within 0.3 LU by ffmpeg, and the true peak is at most the ceiling and 0.1 dB; what cannot be met is
// said, and is the loudest that the school comes to. Of the splits that are tried the one is taken that takes least off the
// attack.
func TestSolveByFFmpeg(t *testing.T) {
	outside.Slow(t)
	ctx := context.Background()
	x, hits := beat(12)
	const lead = rate
	var in []int
	for _, h := range hits {
		if h >= lead {
			in = append(in, h-lead)
		}
	}
	harm := map[string]float64{}
	for _, asked := range []session.Print{{School: "clip", LUFS: -11, Ceiling: -1}, {School: "limit", LUFS: -11, Ceiling: -1}, {School: "two", LUFS: -12,
		Ceiling: -2}, {School: "limit", LUFS: -24, Ceiling: -1}} {
		s, err := Solve(ctx, x, lead, in, asked, 0)
		if err != nil || !s.Reached {
			t.Fatalf("%+v: %+v %v", asked, s, err)
		}
		r, err := Run(s.Chain, x, lead)
		if err != nil {
			t.Fatal(err)
		}
		is := outside.EBUR128(t, outside.WriteWAV(t, "x.wav", r.Sound, wav.Float32))
		if math.Abs(is.Integrated-asked.LUFS) > 0.3 || is.TruePeak > asked.Ceiling+0.1 {
			t.Errorf("%+v: %.1f LUFS, %.2f dBTP", asked, is.Integrated, is.TruePeak)
		}
		if off := math.Abs(is.Integrated - float64(s.After.Loudness)); off > 0.1 {
			t.Errorf("%+v: said %.2f LUFS, ffmpeg says %.2f", asked, float64(s.After.Loudness), is.Integrated)
		}
		if r.Sound.Frames() != x.Frames()-lead {
			t.Errorf("%d frames", r.Sound.Frames())
		}
		if asked.LUFS == -11 {
			harm[asked.School] = s.Harm()
		}
	}
	if harm["clip"] > harm["limit"]+0.05 {
		t.Errorf("the split harms the attack by %.2f dB, a limiter alone by %.2f", harm["clip"], harm["limit"])
	}
	s, err := Solve(ctx, x, lead, in, session.Print{School: "limit", LUFS: -3, Ceiling: -6}, 0)
	if err != nil || s.Reached || float64(s.After.Loudness) > -3 || float64(s.After.Loudness) < float64(s.Before.Loudness) {
		t.Errorf("what cannot be reached: %+v %v", s, err)
	}
	plain, err := Solve(ctx, x, lead, in, session.Print{School: "none", LUFS: -9, Ceiling: -1}, 0)
	if err != nil || len(plain.Chain) != 0 || plain.After.Loudness != plain.Before.Loudness {
		t.Errorf("untouched: %+v %v", plain, err)
	}
	if none, err := Solve(ctx, audio.New(rate, 2, 3*rate), rate, nil, session.Print{School: "limit", LUFS: -9, Ceiling: -1}, 0); none != nil || err != nil {
		t.Errorf("silence: %+v %v", none, err)
	}
	gone, stop := context.WithCancel(ctx)
	stop()
	if _, err := Solve(gone, x, lead, in, session.Print{School: "clip", LUFS: -9, Ceiling: -1}, 0); !errors.Is(err, context.Canceled) {
		t.Errorf("it goes on: %v", err)
	}
}

// What loudness costs grows with it, from nothing, and meets what is solved.
func TestCurve(t *testing.T) {
	outside.Slow(t)
	x, hits := beat(8)
	asked := session.Print{School: "limit", LUFS: -11, Ceiling: -1}
	all, err := Curve(context.Background(), x, 0, hits, asked)
	if err != nil || len(all) < 4 || math.Abs(all[0].Harm) > 0.05 || all[0].Most > 0.05 {
		t.Fatalf("%+v %v", all, err)
	}
	s, err := Solve(context.Background(), x, 0, hits, asked, 0)
	if err != nil {
		t.Fatal(err)
	}
	met := false
	for i := 1; i < len(all); i++ {
		a, b := all[i-1], all[i]
		if b.LUFS <= a.LUFS || b.Harm < a.Harm-0.05 || b.Most < a.Most {
			t.Errorf("from %+v to %+v", a, b)
		}
		if l := float64(s.After.Loudness); l >= a.LUFS && l <= b.LUFS {
			met = s.Harm() > a.Harm-0.1 && s.Harm() < b.Harm+0.1
		}
	}
	if !met {
		t.Errorf("%.2f LUFS for %.2f dB: %+v", float64(s.After.Loudness), s.Harm(), all)
	}
	if none, err := Curve(context.Background(), x, 0, hits, session.Print{School: "none"}); none != nil || err != nil {
		t.Errorf("%v %v", none, err)
	}
}

// A whole sound, its split looked for on its loudest stretch, meets what is asked too; silence is refused.
func TestWhole(t *testing.T) {
	outside.Slow(t)
	x, hits := beat(40)
	for i := range 10 * rate { // it begins softly
		x.Ch[0][i] *= 0.2
		x.Ch[1][i] *= 0.2
	}
	asked := session.Print{School: "clip", LUFS: -12, Ceiling: -1}
	s, r, err := Whole(context.Background(), x, hits, asked)
	if err != nil || !s.Reached || r.Sound.Frames() != x.Frames() {
		t.Fatalf("%+v %v", s, err)
	}
	is := outside.EBUR128(t, outside.WriteWAV(t, "x.wav", r.Sound, wav.Float32))
	if math.Abs(is.Integrated-asked.LUFS) > 0.3 || is.TruePeak > asked.Ceiling+0.1 {
		t.Errorf("%.1f LUFS, %.2f dBTP", is.Integrated, is.TruePeak)
	}
	if _, _, err := Whole(context.Background(), audio.New(rate, 2, rate), nil, asked); !errors.Is(err, ErrSilent) {
		t.Errorf("silence: %v", err)
	}
	if _, _, err := Whole(context.Background(), x, nil, session.Print{School: "loud", LUFS: -9}); err == nil {
		t.Error("a school that is none")
	}
}

// Three songs whose culprit is known: one loud part among soft ones, two that are loud in turn, and one that adds to a part
// that is near the ceiling by itself. Shares add to all.
func TestWho(t *testing.T) {
	outside.Slow(t)
	ctx := context.Background()
	const seconds = 6
	tone := func(hz, level float64, on func(s float64) bool) audio.Buffer {
		x := outside.Sine(rate, 1, hz, level, seconds, 0)
		for i := range x.Ch[0] {
			if !on(float64(i) / rate) {
				x.Ch[0][i] = 0
			}
		}
		return x
	}
	always := func(float64) bool { return true }
	odd := func(s float64) bool { return int(2*s)%4 == 1 }
	even := func(s float64) bool { return int(2*s)%4 == 3 }
	chain := Chain("limit", 0, noClip, -6, 0)
	who := func(sounds ...audio.Buffer) []float64 {
		sum := audio.New(rate, 2, seconds*rate)
		var parts []StemSound
		for _, x := range sounds {
			parts = append(parts, StemSound{Sound: x})
			for c := range sum.Ch {
				for i, v := range x.Ch[0] {
					sum.Ch[c][i] += v
				}
			}
		}
		w, err := Who(ctx, sum, parts, chain, rate/2)
		if err != nil {
			t.Fatal(err)
		}
		of := make([]float64, len(parts))
		all := 0.0
		for _, s := range w.Shares {
			of[s.Part] = s.Of
			all += s.Of
		}
		if math.Abs(all-1) > 1e-9 {
			t.Errorf("all shares are %.6f", all)
		}
		for _, p := range w.Places {
			all = 0
			for _, s := range p.Shares {
				all += s.Of
			}
			if math.Abs(all-1) > 1e-9 || p.Most <= works || p.To <= p.From {
				t.Errorf("%+v", p)
			}
		}
		if w.Trim != w.Shares[0].Part || w.Saves < 0.3 && of[w.Trim] > 0.6 || w.Saves > 1.1 {
			t.Errorf("1 dB less of part %d saves %.2f dB", w.Trim, w.Saves)
		}
		return of
	}
	if of := who(tone(110, 0.9, odd), tone(700, 0.02, always), tone(3000, 0.02, always)); of[0] < 0.9 {
		t.Errorf("one loud part: %.3f", of)
	}
	if of := who(tone(110, 0.9, odd), tone(110, 0.9, even)); math.Abs(of[0]-0.5) > 0.05 {
		t.Errorf("two in turn: %.3f", of)
	}
	if of := who(tone(80, 0.48, always), tone(1000, 0.3, odd), tone(5000, 0.01, always)); of[0] < 0.3 || of[1] < 0.3 || of[2] > 0.1 {
		t.Errorf("one on top of another: %.3f", of)
	}
	quiet := audio.New(rate, 2, seconds*rate)
	if w, err := Who(ctx, quiet, []StemSound{{Sound: quiet}}, chain, 0); err != nil || len(w.Shares) != 0 {
		t.Errorf("where nothing is turned down: %+v %v", w, err)
	}
}

// Hit by hit: what would pass the ceiling is the peak's, whose it is is whose samples they are, and what was shaved and turned
// down brings it under.
func TestHits(t *testing.T) {
	outside.Slow(t)
	x, hits := beat(6)
	s, err := Solve(context.Background(), x, 0, hits, session.Print{School: "clip", LUFS: -10, Ceiling: -1}, 0)
	if err != nil {
		t.Fatal(err)
	}
	chain := Chain("clip", s.Drive, 1, -1, 0)
	r, err := Run(chain, x, 0)
	if err != nil {
		t.Fatal(err)
	}
	low := [2]audio.Buffer{x, audio.New(rate, 2, x.Frames())} // all of it is the kick
	all := Hits(Pressed{x, 0, low, s.Drive, -1}, r, hits)
	if len(all) != len(hits) {
		t.Fatalf("%d of %d", len(all), len(hits))
	}
	for _, h := range all {
		if h.Kick < 0.99 || h.Bass != 0 || h.Over < 1 {
			t.Errorf("%+v", h)
		}
		if left := h.Over - h.Shaved - h.Turned; left > 0.3 { // what is between samples is no part of it
			t.Errorf("%.2f dB over, %.2f shaved, %.2f turned down", h.Over, h.Shaved, h.Turned)
		}
	}
	f := r.Measure(hits)
	if !f.Clipped.Valid() || f.Clipped <= 0 || f.Clipped > 20 || !f.Most.Valid() || !(f.Attack < s.Before.Attack) {
		t.Errorf("%+v", f)
	}
}
