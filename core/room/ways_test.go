package room

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// band is noise in a band at a level, for some seconds, on during part of every half second.
func band(r *rand.Rand, lo, hi, db, seconds, on float64) audio.Buffer {
	x := audio.New(rate, 1, int(seconds*rate))
	for i := range x.Ch[0] {
		x.Ch[0][i] = float32(r.NormFloat64())
	}
	s, err := dsp.Bandpass(lo, hi, rate)
	if err != nil {
		panic(err)
	}
	dsp.NewFilter(s).Process(x.Ch[0], x.Ch[0])
	turn(x, db)
	for i := range x.Ch[0] {
		if math.Mod(float64(i)/rate, 0.5) >= 0.5*on {
			x.Ch[0][i] = 0
		}
	}
	return x
}

// Two noises of one band stand apart in every ERB of it by the difference of their levels: the closed form of the margin.
func TestMarginOfTwoNoises(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 9))
	for _, by := range []float64{0, 3, 9} {
		c, _ := crowdOf(t, band(r, 300, 900, -20, 20, 1), band(r, 300, 900, -20-by, 20, 1))
		var a, b float64
		for f := range c.sum {
			for n, hz := range c.ear.Hz {
				if hz > 350 && hz < 800 {
					a, b = a+c.each[0].was[f][n], b+c.each[1].was[f][n]
				}
			}
		}
		if got := dsp.PowerDB(a / b); math.Abs(got-by) > 0.2 {
			t.Errorf("two noises %g dB apart stand %.2f dB apart", by, got)
		}
	}
}

// A dip that works only while the other sounds, or in the middle alone, is the smallest that gives half back, does on the
// sound what was said of it, and costs no more than one that always works; a second one for a third part stands beside it
// with its own trigger and band.
func TestKeyedDip(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 9))
	ctx := context.Background()
	r, song, w := songOf(band(rnd, 150, 900, -14, 4, 1), band(rnd, 400, 700, -16, 4, 0.5), band(rnd, 180, 260, -15, 4, 0.3))
	c := gathered(t, r, song, w)
	k, ok := c.Pair("a", "b")
	always, found := c.Dip(k)
	if !ok || !found {
		t.Fatalf("%+v", k)
	}
	for _, mid := range []bool{false, true} {
		d, ok, err := c.DipAs(ctx, r, song, w, k, Keyed, mid)
		if err != nil || !ok || !d.Half || d.Way != Keyed || d.Mid != mid {
			t.Fatalf("%+v %v", d, err)
		}
		if d.Costs > always.Costs {
			t.Errorf("while it sounds it costs %.3f, always %.3f", d.Costs, always.Costs)
		}
		after := song.Clone()
		if _, err := d.Edit(song).Apply(&after); err != nil {
			t.Fatal(err)
		}
		b, ok := after.Stem("a").Move("room-for-b").Params.(*move.KeyedBell)
		if tr := after.Trigger(b.Trigger); !ok || tr == nil || tr.Stem != "b" || b.Range != -d.Bell.DB || (b.Channels == "mid") != mid {
			t.Fatalf("%+v", b)
		}
		did := gathered(t, r, &after, w).audible(1, -1, nil) - c.audible(1, -1, nil)
		if math.Abs(did-d.Back) > 0.01 || did < coverHalf*k.Lost {
			t.Errorf("carried out it gives %.3f back of %.3f, %.3f was said", did, k.Lost, d.Back)
		}
		b.Range -= 0.2
		if less := gathered(t, r, &after, w).audible(1, -1, nil) - c.audible(1, -1, nil); less >= coverHalf*k.Lost {
			t.Errorf("0.2 dB less than %.1f gives half back too", -d.Bell.DB)
		}
		b.Range += 0.2
		k2, _ := c.Pair("a", "c")
		d2, ok, err := c.DipAs(ctx, r, song, w, k2, Keyed, true)
		if err != nil || !ok {
			t.Fatalf("%+v %v", d2, err)
		}
		if _, err := d2.Edit(&after).Apply(&after); err != nil {
			t.Fatal(err)
		}
		b2 := after.Stem("a").Move("room-for-c").Params.(*move.KeyedBell)
		if b2.Trigger == b.Trigger || len(after.Triggers) != 2 || math.Abs(b2.Hz-b.Hz) < 50 {
			t.Errorf("two bells for two parts: %+v %+v", b, b2)
		}
	}
	m, ok, err := c.DipAs(ctx, r, song, w, k, Always, true)
	if p, is := m.Params.(*move.MidSide); err != nil || !ok || !is || math.Abs(p.DB-always.Bell.DB) > 0.3 {
		t.Errorf("of a mono sound the middle is all: %+v %+v (%v), always %+v", m, m.Params, err, always.Bell)
	}
}

// A dip in what is held leaves the first 20 ms of every note within 1 dB and lowers what lasts.
func TestHeldDip(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 10))
	r, song, w := songOf(band(rnd, 400, 700, -12, 4, 0.7), band(rnd, 400, 700, -15, 4, 0.9))
	c := gathered(t, r, song, w)
	k, _ := c.Pair("a", "b")
	d, ok, err := c.DipAs(context.Background(), r, song, w, k, Held, false)
	if err != nil || !ok {
		t.Fatalf("%+v %v", d, err)
	}
	after := song.Clone()
	if _, err := d.Edit(song).Apply(&after); err != nil {
		t.Fatal(err)
	}
	sound := func(s *session.Song) []float32 {
		_, hear, err := chained(r, s, "a", w)
		if err != nil {
			t.Fatal(err)
		}
		x, err := hear(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		return x.Ch[0]
	}
	was, now := sound(song), sound(&after)
	change := func(from, to float64) float64 {
		var a, b float64
		for n := 1; n < 8; n++ {
			for i := int((0.5*float64(n) + from) * rate); i < int((0.5*float64(n)+to)*rate); i++ {
				a, b = a+float64(was[i])*float64(was[i]), b+float64(now[i])*float64(now[i])
			}
		}
		return dsp.PowerDB(b / a)
	}
	if got := change(0, 0.02); got < -1 {
		t.Errorf("attacks fall by %.2f dB", -got)
	}
	if got := change(0.2, 0.34); got > 0.5*d.Bell.DB {
		t.Errorf("what lasts falls by %.2f dB of %.1f", -got, -d.Bell.DB)
	}
}

// Kick and snare are judged at their hits: what rings on faintly may be covered.
func TestDrumsAtTheirHits(t *testing.T) {
	rnd := rand.New(rand.NewPCG(5, 5))
	drum := band(rnd, 200, 4000, -14, 4, 1)
	for i := range drum.Ch[0] {
		since := math.Mod(float64(i)/rate, 0.5)
		g := math.Exp(-since / 0.02)
		if since > 0.13 {
			g = 0.03
		}
		drum.Ch[0][i] *= float32(g)
	}
	pad := band(rnd, 200, 4000, -42, 4, 1)
	r, song, w := songOf(pad, drum)
	other := gathered(t, r, song, w)
	song.Stems[1].Role = session.Snare
	c := gathered(t, r, song, w)
	judged := 0
	for f := range c.sum {
		if c.judged(1, f) {
			judged++
		}
		if !c.judged(0, f) {
			t.Fatal("a melody is judged everywhere")
		}
	}
	if share := float64(judged) / float64(len(c.sum)); share < 0.1 || share > 0.35 {
		t.Errorf("%.2f of the frames lie within 100 ms of hits twice a second", share)
	}
	if a, b := c.audible(1, -1, nil), other.audible(1, -1, nil); a < b || a < 0.95 {
		t.Errorf("at its hits %.3f of it is heard, anywhere %.3f", a, b)
	}
}

// What comes back is compared with the plan: filtered as planned and softer it has landed; as it was it has not, and it is
// told where; a file that holds the move has landed with the move off.
func TestBack(t *testing.T) {
	rnd := rand.New(rand.NewPCG(6, 5))
	old := hiss(rnd, rate, 4, 20, -14)
	cut := &move.Filter{Shape: dsp.Highpass, Hz: 200, Slope: 24}
	done, err := filtered(old, cut)
	if err != nil {
		t.Fatal(err)
	}
	turn(done, -2)
	less, err := filtered(old, &move.Filter{Shape: dsp.Highpass, Hz: 120, Slope: 24})
	if err != nil {
		t.Fatal(err)
	}
	r, song, w := songOf(old, done, less)
	song.Stems = song.Stems[:1]
	st := &song.Stems[0]
	st.SetMove(move.Move{ID: session.RoomLow, Params: cut})
	back := func(now string) Back {
		t.Helper()
		st.Was, st.Audio = audioOf("a"), audioOf(now)
		b, err := Backs(context.Background(), r, song, session.OfRoom, w)
		if err != nil || len(b) != 1 {
			t.Fatalf("%+v %v", b, err)
		}
		return b[0]
	}
	if b := back("b"); !b.Landed() || math.Abs(b.Gain+2) > 0.2 {
		t.Errorf("as planned, 2 dB softer: %+v", b)
	}
	if b := back("c"); b.Landed() || b.Worst < 8 || b.Hz > 130 {
		t.Errorf("cut too low: %+v", b)
	}
	if b := back("a"); b.Landed() || b.Worst < 20 {
		t.Errorf("not cut: %+v", b)
	}
	st.Moves[0].Off = true
	if b, err := Backs(context.Background(), r, song, session.OfRoom, w); err != nil || len(b) != 0 {
		t.Errorf("nothing is planned: %+v %v", b, err)
	}
	st.Holds = "filter"
	if b := back("b"); !b.Landed() {
		t.Errorf("the file holds it: %+v", b)
	}
}

// A voice of the song's own is judged where it sounds, as loud as it came or brought to a level, and is in no mix.
func TestVoiceOfItsOwn(t *testing.T) {
	rnd := rand.New(rand.NewPCG(7, 5))
	ctx := context.Background()
	voice := band(rnd, 200, 4000, -20, 4, 0.5)
	r, song, w := songOf(band(rnd, 150, 5000, -30, 4, 1), voice)
	song.Stems = song.Stems[:1]
	song.Voice = &session.Reference{ID: "voice", Name: "Lead", Audio: audioOf("b")}
	mixed, key, err := r.Solo(ctx, song, mix.SoloAll, w)
	if err != nil {
		t.Fatal(err)
	}
	c := gathered(t, r, song, w)
	v, own, err := c.WithVoiceOf(ctx, r, song, w, meter.None)
	if level := dsp.PowerDB(2 * meter.Energy(voice.Ch[0]) / float64(voice.Frames())); err != nil || math.Abs(float64(own)-level) > 2 { // it sounds half the time
		t.Fatalf("it stands at %.1f, %.1f while it sounds (%v)", float64(own), level, err)
	}
	if s := v.Space(); s.Words > 0.2 {
		t.Errorf("10 dB over the beat %.2f of it is covered", s.Words)
	}
	if v, _, err = c.WithVoiceOf(ctx, r, song, w, own-13); err != nil {
		t.Fatal(err)
	}
	if s := v.Space(); s.Words < 0.6 || len(s.Dips) != 1 || s.Dips[0].By != "a" {
		t.Errorf("3 dB under the beat: %+v", s)
	}
	song.Voice = nil
	if _, again, err := r.Solo(ctx, song, mix.SoloAll, w); err != nil || again != key || mixed.Frames() == 0 {
		t.Error("the voice is in the mix")
	}
	song.Voice = &session.Reference{ID: "voice", Name: "Lead", Audio: audioOf("b")}
	if _, own, err := c.WithVoiceOf(ctx, r, song, mix.Window{From: 10 * rate, To: 12 * rate}, meter.None); err != nil || own.Valid() {
		t.Errorf("after its end it stands at %v (%v)", own, err)
	}
}

// Where one stem is turned, that one alone is listened to again; the cuts are those of a song that was never heard before.
func TestATrimIsHeardAlone(t *testing.T) {
	rnd := rand.New(rand.NewPCG(9, 9))
	ctx := context.Background()
	r, song, w := songOf(
		band(rnd, 40, 90, -20, 3, 1),
		band(rnd, 200, 900, -22, 3, 0.5),
		plus(hiss(rnd, rate, 3, 300, -30), tones(45, -55, 3)),
		hiss(rnd, rate, 3, 2000, -30),
	)
	song.Stems[0].Role = session.Bass
	if _, err := Cuts(ctx, r, song, w); err != nil {
		t.Fatal(err)
	}
	before := gathered(t, r, song, w)
	after := song.Clone()
	after.Stems[1].Fader = -9
	cuts, err := Cuts(ctx, r, &after, w)
	if err != nil {
		t.Fatal(err)
	}
	now := gathered(t, r, &after, w)
	for i := range now.each {
		if again := now.each[i] != before.each[i]; again != (i == 1) {
			t.Errorf("stem %d is listened to again: %v", i, again)
		}
	}
	fresh, _, _ := songOf()
	fresh.Library = r.Library
	want, err := Cuts(ctx, fresh, &after, w)
	if err != nil {
		t.Fatal(err)
	}
	for i, k := range cuts {
		for _, p := range [][2]float64{{k.Low.Alone, want[i].Low.Alone}, {k.Low.Mix, want[i].Low.Mix}, {k.Low.All, want[i].Low.All}, {k.High.Mix, want[i].High.Mix},
			{float64(k.Low.Premaster), float64(want[i].Low.Premaster)}} {
			if math.Abs(p[0]-p[1]) > 1e-6 {
				t.Errorf("stem %s: %+v, heard anew %+v", k.Stem, k, want[i])
				break
			}
		}
	}
}

// A trim of one stem of twelve, all others known.
func BenchmarkTrim(b *testing.B) {
	rnd := rand.New(rand.NewPCG(9, 9))
	var sounds []audio.Buffer
	for k := range 12 {
		sounds = append(sounds, hiss(rnd, rate, 13.5, 100*float64(k+1), -30))
	}
	r, song, w := songOf(sounds...)
	run := func() {
		if _, err := Cuts(context.Background(), r, song, w); err != nil {
			b.Fatal(err)
		}
	}
	run()
	for b.Loop() {
		song.Stems[3].Fader -= 0.1
		run()
	}
}

// Two parts cannot each make room while the other sounds: that is refused in a sentence, and nothing of it is done.
func TestKeyedRing(t *testing.T) {
	rnd := rand.New(rand.NewPCG(4, 12))
	low, high := func(db float64) audio.Buffer { return band(rnd, 300, 600, db, 3, 1) }, func(db float64) audio.Buffer { return band(rnd, 2000, 4000, db, 3, 1) }
	r, song, w := songOf(plus(low(-14), high(-19)), plus(low(-16), high(-17)))
	c := gathered(t, r, song, w)
	k, _ := c.Pair("a", "b")
	d, ok, err := c.DipAs(context.Background(), r, song, w, k, Keyed, false)
	if err != nil || !ok {
		t.Fatalf("%+v %v", d, err)
	}
	if _, err := d.Edit(song).Apply(song); err != nil {
		t.Fatal(err)
	}
	c = gathered(t, r, song, w)
	k, _ = c.Pair("b", "a")
	var no Refused
	if _, ok, err := c.DipAs(context.Background(), r, song, w, k, Keyed, false); ok || !errors.As(err, &no) || no.Error() == "" {
		t.Errorf("a ring is taken: %v %v", ok, err)
	}
	if _, ok, err := c.DipAs(context.Background(), r, song, w, k, Always, false); !ok || err != nil {
		t.Errorf("always it works: %v %v", ok, err)
	}
}
