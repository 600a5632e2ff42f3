package body

import (
	"context"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const rate = 44100

// bursts are tones of 60 Hz that begin twice a second, each at its own level, dBFS of its peak, and fall by e in a time.
func bursts(tau float64, levels ...float64) audio.Buffer {
	x := audio.New(rate, 1, (len(levels)+1)*rate/2)
	for k, db := range levels {
		for i := range int(0.45 * rate) {
			s := float64(i) / rate
			x.Ch[0][rate/4+k*rate/2+i] += float32(dsp.Gain(db) * math.Sin(2*math.Pi*60*s) * math.Exp(-s/tau))
		}
	}
	return x
}

func items(n int) []Item {
	var out []Item
	for k := range n {
		out = append(out, Item{At: 0.25 + 0.5*float64(k), End: 0.75 + 0.5*float64(k)})
	}
	return out
}

// A burst of a known level and decay weighs what the closed form says: the mean of e^(-2t/tau)/2 over 200 ms; the spread of a row is
// that of its levels, by numpy's percentiles (straight between neighbours).
func TestWeightInClosedForm(t *testing.T) {
	for _, tau := range []float64{0.1, 0.3, 10} {
		w, err := Measure(bursts(tau, -6, -9, -12, -12, -14).Ch[0], rate, Part{ID: Kick, Low: true}, items(5))
		if err != nil {
			t.Fatal(err)
		}
		mean := tau / 2 * (1 - math.Exp(-2*hitWeigh/tau)) / hitWeigh / 2
		for i, db := range []float64{-6, -9, -12, -12, -14} {
			if got, want := float64(w.Items[i].Weight), db+dsp.PowerDB(mean); math.Abs(got-want) > 0.4 { // the band's own start and ripple
				t.Errorf("tau %g: burst %d weighs %.2f dB, want %.2f", tau, i, got, want)
			}
		}
		if got, want := float64(w.Spread), (-6-0.4*3)-(-14+0.4*2); math.Abs(got-want) > 0.05 {
			t.Errorf("spread %.2f dB, want %.2f", got, want)
		}
		if d := float64(w.Median) - (-12 + dsp.PowerDB(mean)); math.Abs(d) > 0.4 {
			t.Errorf("median off by %.2f dB", d)
		}
		if it, off, ok := w.Worst(); !ok || it.At != 0.25 || math.Abs(off-6) > 0.05 {
			t.Errorf("worst: %+v %+.2f", it, off)
		}
	}
	// a click of noise before a tone: tone is weight less click; the attack is its peak over what follows
	r := rand.New(rand.NewPCG(1, 2))
	x := audio.New(rate, 1, rate)
	for i := range rate / 2 {
		x.Ch[0][i] = float32(0.1 * math.Sin(2*math.Pi*60*float64(i)/rate))
	}
	plain, err := Measure(x.Ch[0], rate, Part{ID: Kick, Low: true}, []Item{{At: 0, End: 1}})
	if err != nil {
		t.Fatal(err)
	}
	x.Ch[0][200] += 0.8
	for i := range int(clickFor * rate) {
		x.Ch[0][i] += float32(0.02 * r.NormFloat64())
	}
	struck, err := Measure(x.Ch[0], rate, Part{ID: Kick, Low: true}, []Item{{At: 0, End: 1}})
	if err != nil {
		t.Fatal(err)
	}
	a, b := plain.Items[0], struck.Items[0]
	if b.Click < a.Click+20 || math.Abs(float64(b.Weight-a.Weight)) > 0.5 || b.Tone != b.Weight-b.Click {
		t.Errorf("%+v, with a click %+v", a, b)
	}
	if want := 20 * math.Log10(0.85/(0.1/math.Sqrt2)); math.Abs(float64(b.Attack)-want) > 1 {
		t.Errorf("attack %.2f dB, want about %.2f", float64(b.Attack), want)
	}
	if w, err := Measure(make([]float32, rate), rate, Part{ID: Kick, Low: true}, items(2)); err != nil || len(w.Items) != 0 || w.Spread.Valid() ||
		w.Median.Valid() {
		t.Errorf("silence weighs %+v %v", w, err)
	}
}

// kicks is a song of one kick with bursts at their own levels.
func kicks(t *testing.T, levels ...float64) (*mix.Renderer, *session.Song, mix.Window) {
	t.Helper()
	lib := &mix.Memory{}
	song := session.New("x", 120)
	song.Rate = rate
	x := bursts(0.1, levels...)
	id := strings.Repeat("a", 64)
	lib.Put(id, x)
	song.Stems = []session.Stem{{ID: "k", Name: "Kick", Role: session.Kick, Audio: id}}
	song.Settle()
	song.Triggers[0].MIDI = nil
	for k := range levels {
		song.Triggers[0].Added = append(song.Triggers[0].Added, 0.25+0.5*float64(k))
	}
	return mix.New(lib, 1<<28), &song, mix.Window{To: x.Frames()}
}

// Own gains reach their target exactly, by the least share; the compressor reaches it too with the hits' own attack let through, and
// gives the low end back after it.
func TestSteady(t *testing.T) {
	r, song, w := kicks(t, -6, -10, -7, -13, -8, -6, -12, -9)
	ctx := context.Background()
	p, ok := Of(song, Kick)
	if !ok {
		t.Fatal("no kick")
	}
	before, err := Weigh(ctx, r, song, p, nil, w)
	if err != nil || len(before.Items) != 8 {
		t.Fatalf("%+v %v", before, err)
	}
	own, err := ByOwnGains(ctx, r, song, before, nil, w, 2)
	if err != nil || !own.Reached || own.Share >= 1 || own.Most > ownMost {
		t.Fatalf("%+v %v", own, err)
	}
	if float64(own.After.Spread) > 2.05 {
		t.Errorf("own gains leave %.2f dB", float64(own.After.Spread))
	}
	if less := before.gains(own.Share - ownStep); float64(before.evened(less)) <= 2 {
		t.Error("a smaller share would do")
	}
	for i, it := range own.After.Items { // what was said of each is what is rendered
		want := float64(before.Items[i].Weight) + own.Move.(*move.Gains).Steps[i].DB
		if math.Abs(float64(it.Weight)-want) > 0.05 {
			t.Errorf("hit %d weighs %.2f dB, %.2f was said", i, float64(it.Weight), want)
		}
	}
	comp, err := ByCompressor(ctx, r, song, before, Even{nil, w, 2, 60})
	if err != nil || comp == nil {
		t.Fatalf("%+v %v", comp, err)
	}
	c := comp.Move.(*move.Compress)
	if comp.After.Spread >= before.Spread || c.Attack != attackLong || c.Release > 500*releaseGap || c.Back <= 0 {
		t.Errorf("%+v %+v: %.2f dB of %.2f", comp, c, float64(comp.After.Spread), float64(before.Spread))
	}
	if d := float64(comp.After.Median - before.Median); math.Abs(d) > 1 {
		t.Errorf("after its bell the median is off by %.2f dB", d)
	}
	f, ok := Uneven(song, before, own, comp, 2)
	if !ok || f.ID != "uneven.kick" || !strings.Contains(f.What, "step by") {
		t.Errorf("%+v", f)
	}
	if _, err := f.Edit().Apply(song); err != nil || song.Stem("k").Move(session.BodySteady) == nil {
		t.Fatal(err)
	}
	now, err := Weigh(ctx, r, song, p, nil, w)
	if err != nil || float64(now.Spread) > 2.05 {
		t.Errorf("applied: %.2f dB %v", float64(now.Spread), err)
	}
	if _, ok := Uneven(song, before, own, comp, 2); ok {
		t.Error("it is told once more")
	}
	even, song2, w2 := kicks(t, -6, -6, -6.2, -6)
	b2, err := Weigh(ctx, even, song2, p, nil, w2)
	if err != nil || float64(b2.Spread) > 0.5 || !strings.Contains(Sentence([]*Weights{b2}, 2), "is even") {
		t.Errorf("%+v %v", b2, err)
	}
}

// Raising the low end before a compressor is told, and mended behind it.
func TestBoostBefore(t *testing.T) {
	_, song, _ := kicks(t, -6, -9)
	st := song.Stem("k")
	st.SetMove(move.Move{ID: "filter1", Params: &move.Filter{Shape: dsp.Bell, Hz: 60, Q: 1, DB: 4}})
	if f := BoostedBefore(song); len(f) != 0 {
		t.Errorf("without a compressor: %+v", f)
	}
	st.SetMove(move.Move{ID: "compress1", Params: &move.Compress{Threshold: -20, Ratio: 3, Attack: 30, Release: 100, BackHz: 50}})
	f := BoostedBefore(song)
	if len(f) != 1 {
		t.Fatalf("%+v", f)
	}
	if _, err := f[0].Edit().Apply(song); err != nil {
		t.Fatal(err)
	}
	if c := st.Move("compress1"); st.Move("filter1") != nil && song.Stem("k").Move("filter1") != nil || c == nil {
		t.Error("it is still before it")
	}
	if c := song.Stem("k").Move("compress1").Params.(*move.Compress); c.Back != 4 || c.BackHz != 60 {
		t.Errorf("%+v", c)
	}
	if len(BoostedBefore(song)) != 0 {
		t.Error("told again")
	}
}

// A struck part whose attack is soft is told, and the least shaping that brings it to what is asked is what a render has; half a
// decibel less does not. One that is struck hard is not told.
func TestShape(t *testing.T) {
	lib := &mix.Memory{}
	song := session.New("x", 120)
	song.Rate = rate
	x := audio.New(rate, 1, 4*rate)
	for k := range 7 {
		for i := range int(0.4 * rate) { // it comes slowly and lasts
			s := float64(i) / rate
			x.Ch[0][rate/4+k*rate/2+i] = float32(0.5 * math.Sin(2*math.Pi*190*s) * math.Exp(-s/0.2) * math.Min(1, 0.7+s/0.03))
		}
	}
	id := strings.Repeat("b", 64)
	lib.Put(id, x)
	song.Stems = []session.Stem{{ID: "s", Name: "Snare", Role: session.Snare, Audio: id}}
	r, w, ctx := mix.New(lib, 1<<28), mix.Window{To: x.Frames()}, context.Background()
	p, ok := Of(&song, "s")
	if !ok || !p.Drum(&song) {
		t.Fatal("no drum")
	}
	s, err := Shape(ctx, r, &song, p, nil, w, 8)
	if err != nil || s == nil || !s.Reached || s.Move.Attack < 1 {
		t.Fatalf("%+v %v", s, err)
	}
	less := *s.Move
	if less.Sustain < 0 {
		less.Sustain += shapeStep
	} else {
		less.Attack -= shapeStep
	}
	if l, err := Weigh(ctx, r, shapedBy(&song, p, &less), p, nil, w); err != nil || float64(l.Attack) >= 8 {
		t.Errorf("%+v does it too: %.2f dB", less, float64(l.Attack))
	}
	f, ok := Soft(&song, s, 8)
	if !ok || f.ID != "soft.s" || !strings.Contains(f.What, "its attack is") {
		t.Fatalf("%+v: %+v %+v", f, s, s.Move)
	}
	if _, err := f.Edit().Apply(&song); err != nil {
		t.Fatal(err)
	}
	if now, err := Weigh(ctx, r, &song, p, nil, w); err != nil || math.Abs(float64(now.Attack-s.After.Attack)) > 0.05 {
		t.Errorf("carried out it is %.2f dB, %.2f was said", float64(now.Attack), float64(s.After.Attack))
	}
	if _, ok := Soft(&song, s, 8); ok {
		t.Error("it is told again")
	}
	hard, song2, w2 := kicks(t, -6, -6, -6)
	k, _ := Of(song2, Kick)
	if s, err := Shape(ctx, hard, song2, k, nil, w2, 1); err != nil || s == nil {
		t.Fatal(err)
	} else if _, ok := Soft(song2, s, 1); ok {
		t.Error("a hard hit is told soft")
	}
}

// Measure weighs the items of a mono sound by itself.
func Measure(x []float32, rate int, p Part, items []Item) (*Weights, error) {
	return weigh(x, rate, 0, p, items)
}
