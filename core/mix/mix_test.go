package mix

import (
	"context"
	"errors"
	"fmt"
	"math"
	"sync"
	"sync/atomic"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// counting counts how often audio is opened.
type counting struct {
	Memory
	opened atomic.Int64
}

func (c *counting) Open(name string) (audio.Source, func() error, error) {
	c.opened.Add(1)
	return c.Memory.Open(name)
}

const rate = 44100

// beat makes a song of a kick, a bass and a stereo pad, four seconds long.
func beat() (*counting, session.Song) {
	lib := &counting{}
	kick := audio.New(rate, 1, 4*rate)
	for _, h := range []float64{0.25, 1, 1.75, 2.5, 3.25} {
		from := int(h * rate)
		for i := range rate / 3 {
			t := float64(i) / rate
			kick.Ch[0][from+i] += float32(0.7 * math.Sin(2*math.Pi*(52*t+1.5*(1-math.Exp(-t/0.01)))) * math.Exp(-t/0.08))
		}
	}
	pad := outside.Sine(rate, 2, 330, 0.1, 4, 0)
	for i := range pad.Ch[1] {
		pad.Ch[1][i] *= -0.5
	}
	lib.Put("kick", kick)
	lib.Put("bass", outside.Sine(rate, 1, 46, 0.4, 4, 0))
	lib.Put("pad", pad)
	s := session.New("Test", 120)
	s.Rate = rate
	s.Buses = []session.Bus{{ID: "low", Name: "Low"}, {ID: "music", Name: "Music"}}
	s.Stems = []session.Stem{
		{ID: "k", Name: "Kick", Role: session.Kick, Audio: "kick", Bus: "low"},
		{ID: "b", Name: "Bass", Role: session.Bass, Audio: "bass", Bus: "low"},
		{ID: "p", Name: "Pad", Role: session.Melodic, Audio: "pad", Bus: "music"},
	}
	s.Settle()
	return lib, s
}

func withDuck(s session.Song, depth float64) session.Song {
	c := s.Bypassed()
	c.SetDuck(&move.Duck{School: "curve", Trigger: session.KickTrigger, Points: []move.Point{{MS: -5}, {DB: -depth}, {MS: 100, DB: -depth}, {MS: 180}}}, false, "")
	return c
}

func solo(t *testing.T, r *Renderer, s session.Song, which Solo, w Window) audio.Buffer {
	t.Helper()
	b, _, err := r.Solo(context.Background(), &s, which, w)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// An untouched session renders its sources' sum: the null test, under -120 dBFS.
func TestNull(t *testing.T) {
	lib, s := beat()
	got := solo(t, New(lib, 1<<28), s, SoloAll, Window{0, 4 * rate})
	k, b, p := lib.sounds["kick"], lib.sounds["bass"], lib.sounds["pad"]
	worst := 0.0
	for c := range got.Ch {
		for i, v := range got.Ch[c] {
			worst = math.Max(worst, math.Abs(float64(v)-float64(k.Ch[0][i])-float64(b.Ch[0][i])-float64(p.Ch[c][i])))
		}
	}
	if db := 20 * math.Log10(worst+1e-30); db > -120 {
		t.Errorf("the null leaves %.1f dBFS", db)
	}
}

// A render of a window is that window of the whole render, and the block size does not matter.
func TestWindowsAndBlocks(t *testing.T) {
	lib, s := beat()
	s = withDuck(s, 9)
	whole := solo(t, New(lib, 1<<28), s, SoloAll, Window{0, 4 * rate})
	for _, block := range []int{64, 1000, Block} {
		for _, w := range []Window{{0, 1000}, {12345, 54321}, {rate - 100, rate + 100}, {3 * rate, 4 * rate}} {
			r := New(lib, 1<<28)
			r.block = block
			part := solo(t, r, s, SoloAll, w)
			for c := range part.Ch {
				for i, v := range part.Ch[c] {
					if v != whole.Ch[c][w.From+i] {
						t.Fatalf("block %d, window %v: frame %d is %g, of the whole %g", block, w, i, v, whole.Ch[c][w.From+i])
					}
				}
			}
		}
	}
	before := solo(t, New(lib, 1<<28), s, SoloAll, Window{-100, 50})
	for i := range 100 {
		if before.Ch[0][i] != 0 {
			t.Fatal("there is sound before the song")
		}
	}
}

// Linear where nothing is bent: gains in dB scale, and clip and fader are the same.
func TestGains(t *testing.T) {
	lib, s := beat()
	r := New(lib, 1<<28)
	plain := solo(t, r, s, SoloBass, Window{0, rate})
	for _, set := range []func(*session.Song){
		func(s *session.Song) { s.Stems[1].Clip = -6 },
		func(s *session.Song) { s.Stems[1].Fader = -6 },
		func(s *session.Song) { s.Buses[0].Fader = -6 },
	} {
		c := copyOf(s)
		set(&c)
		got := solo(t, r, c, SoloBass, Window{0, rate})
		near := math.Pow(10, -6.0/20)
		for i, v := range got.Ch[0] {
			if math.Abs(float64(v)-near*float64(plain.Ch[0][i])) > 1e-6 {
				t.Fatalf("frame %d: %g, want %g", i, v, near*float64(plain.Ch[0][i]))
			}
		}
	}
	s.Stems[1].Mute = true
	if p := meter.PeakDB(solo(t, r, s, SoloBass, Window{0, rate}).Ch...); p.Valid() {
		t.Errorf("a muted bass peaks at %g", p)
	}
}

// Changing a duck point re-reads nothing and renders anew only what follows from it.
func TestOneChangeRendersOnlyWhatFollows(t *testing.T) {
	lib, s := beat()
	r := New(lib, 1<<28)
	w := Window{rate / 2, 3 * rate}
	measure := func(s session.Song) {
		t.Helper()
		p, err := r.Pair(context.Background(), &s, w)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := r.Figures(t.Context(), p); err != nil {
			t.Fatal(err)
		}
		if _, err := r.Loudness(context.Background(), &s, SoloAll, w); err != nil {
			t.Fatal(err)
		}
	}
	measure(withDuck(s, 6))
	opened, made := lib.opened.Load(), r.Cache.Made()
	measure(withDuck(s, 6))
	if r.Cache.Made() != made {
		t.Errorf("the same song was rendered again: %d results", r.Cache.Made()-made)
	}
	measure(withDuck(s, 7))
	if n := lib.opened.Load() - opened; n != 0 {
		t.Errorf("a duck point re-read %d files", n)
	}
	// the bass's chain, its bus alone, its sum alone, mono of it, figures; the bus with the
	// kick, everything, levels: never the kick's meter
	if n := r.Cache.Made() - made; n > 8 {
		t.Errorf("a duck point made %d results, want 8 at most", n)
	}
}

func TestPairErrors(t *testing.T) {
	lib, s := beat()
	lib.Put("silence", audio.New(rate, 1, 4*rate))
	drone := outside.Sine(rate, 1, 60, 0.3, 4, 0) // swells in and never hits
	for i := range drone.Ch[0] {
		drone.Ch[0][i] *= float32(i) / float32(4*rate)
	}
	lib.Put("drone", drone)
	w := Window{0, 4 * rate}
	for _, c := range []struct {
		change func(*session.Song)
		want   error
	}{
		{func(s *session.Song) { s.Stems[0].Role = session.Other }, ErrNoKick},
		{func(s *session.Song) { s.Stems[1].Role = session.Other }, ErrNoBass},
		{func(s *session.Song) { s.Stems[0].Audio = "silence" }, ErrSilent},
		{func(s *session.Song) { s.Stems[0].Audio = "drone" }, meter.ErrNoHits},
	} {
		c2 := copyOf(s)
		c.change(&c2)
		if _, err := New(lib, 1<<28).Pair(context.Background(), &c2, w); !errors.Is(err, c.want) {
			t.Errorf("says %v, want %v", err, c.want)
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := New(lib, 1<<28).Pair(ctx, &s, w); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled, it says %v", err)
	}
}

// The figures of a loop are those of the same hits in the whole song.
func TestLoopAgreesWithSong(t *testing.T) {
	lib, s := beat()
	r := New(lib, 1<<28)
	figures := func(w Window) meter.HitFigures {
		p, err := r.Pair(context.Background(), &s, w)
		if err != nil {
			t.Fatal(err)
		}
		f, err := r.Figures(t.Context(), p)
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	whole, loop := figures(Window{0, 4 * rate}), figures(Window{rate * 3 / 4, rate * 9 / 4})
	if len(whole.Hits) != 5 || len(loop.Hits) != 2 {
		t.Fatalf("%d hits in all, %d in the loop", len(whole.Hits), len(loop.Hits))
	}
	for i, h := range loop.Hits {
		w := whole.Hits[i+1]
		if math.Abs(h.At-w.At) > 1e-9 || math.Abs(float64(h.Clearance-w.Clearance)) > 0.01 || math.Abs(h.Gap-w.Gap) > 1e-6 ||
			math.Abs(float64(h.Overlap-w.Overlap)) > 0.1 {
			t.Errorf("hit %d: loop %+v, song %+v", i, h, w)
		}
	}
}

// Stems of other rates come in at the song's.
func TestOtherRate(t *testing.T) {
	lib, s := beat()
	lib.Put("bass48", outside.Sine(48000, 1, 46, 0.4, 4, 0))
	r := New(lib, 1<<28)
	at441 := solo(t, r, s, SoloBass, Window{rate, 2 * rate})
	s.Stems[1].Audio = "bass48"
	at48 := solo(t, r, s, SoloBass, Window{rate, 2 * rate})
	for i, v := range at48.Ch[0] {
		if math.Abs(float64(v-at441.Ch[0][i])) > 1e-4 {
			t.Fatalf("frame %d: %g and %g", i, v, at441.Ch[0][i])
		}
	}
}

func TestCache(t *testing.T) {
	const mb = 1 << 20
	c := NewCache(100 * mb)
	build := func(v, bytes int) func() (int, int, error) {
		return func() (int, int, error) { return v, bytes, nil }
	}
	for i := range 5 {
		if v, err := Cached(t.Context(), c, string(rune('a'+i)), build(i, 40*mb)); v != i || err != nil {
			t.Fatal(v, err)
		}
		if v, err := Cached(t.Context(), c, "figures", build(11, 300)); v != 11 || err != nil {
			t.Fatal(v, err)
		}
	}
	if c.large.used > 100*mb || c.large.order.Len() != 2 {
		t.Errorf("%d bytes in %d entries", c.large.used, c.large.order.Len())
	}
	if c.Made() != 6 {
		t.Errorf("%d made: what is small was pushed out by what is large", c.Made())
	}
	for i := range 30000 { // small ones are bounded, too
		_, _ = Cached(t.Context(), c, fmt.Sprint("small ", i), build(i, 300))
	}
	if c.small.used > 100*mb/smallPart || c.small.order.Len() > 100*mb/smallPart/300 {
		t.Errorf("%d bytes in %d small entries", c.small.used, c.small.order.Len())
	}
	boom := errors.New("boom")
	if _, err := Cached(t.Context(), c, "x", func() (int, int, error) { return 0, 0, boom }); !errors.Is(err, boom) {
		t.Errorf("says %v", err)
	}
	if v, err := Cached(t.Context(), c, "x", build(7, 1)); v != 7 || err != nil {
		t.Errorf("after an error: %d, %v", v, err)
	}
	func() { // a build that panics must not leave others waiting
		defer func() { _ = recover() }()
		_, _ = Cached(t.Context(), c, "p", func() (int, int, error) { panic("no") })
	}()
	if v, _ := Cached(t.Context(), c, "p", build(3, 1)); v != 3 {
		t.Error("after a panic the key is stuck")
	}
	var wg sync.WaitGroup
	var built atomic.Int64
	for range 20 {
		wg.Go(func() {
			_, _ = Cached(t.Context(), c, "shared", func() (int, int, error) { built.Add(1); return 1, 1, nil })
		})
	}
	wg.Wait()
	if built.Load() != 1 {
		t.Errorf("built %d times at once", built.Load())
	}
	// who waits for one that gives up makes it
	started, give := make(chan bool), make(chan bool)
	wg.Go(func() {
		_, _ = Cached(t.Context(), c, "given up", func() (int, int, error) {
			close(started)
			<-give
			return 0, 0, fmt.Errorf("rendering: %w", context.Canceled)
		})
	})
	<-started
	wg.Go(func() {
		if v, err := Cached(t.Context(), c, "given up", build(5, 1)); v != 5 || err != nil {
			t.Errorf("after one that gave up: %d, %v", v, err)
		}
	})
	// who does not want to wait any longer goes, and the work goes on
	waits, leaves := context.WithCancel(t.Context())
	leaves()
	if _, err := Cached(waits, c, "given up", build(6, 1)); !errors.Is(err, context.Canceled) {
		t.Errorf("who left is answered %v", err)
	}
	close(give)
	wg.Wait()
}

// copyOf copies a song whose audio has plain names, which Clone's reader would refuse.
func copyOf(s session.Song) session.Song {
	s.Stems = append([]session.Stem(nil), s.Stems...)
	s.Buses = append([]session.Bus(nil), s.Buses...)
	return s
}

// The pan law: equal power, the middle as it is; a mono part at a side +3.01 dB there, half way
// cos and sin of 22.5 and 67.5 degrees (closed form). A stereo part keeps its near side.
func TestPanAndWidth(t *testing.T) {
	lib := &Memory{}
	lib.Put("mono", outside.Sine(rate, 1, 997, 0.25, 1, 0))
	wide := outside.Sine(rate, 2, 997, 0.25, 1, 0)
	for i := range wide.Ch[1] {
		wide.Ch[1][i] *= -0.5 // mid 0.25, side 0.75 of the left
	}
	lib.Put("wide", wide)
	s := session.New("Pan", 120)
	s.Rate = rate
	s.Stems = []session.Stem{{ID: "a", Name: "a", Role: session.Other, Audio: "mono"}}
	r := New(lib, 1<<28)
	peaks := func() (float64, float64) {
		b := solo(t, r, s, SoloAll, Window{0, rate})
		return float64(meter.Peak(b.Ch[0])) / 0.25, float64(meter.Peak(b.Ch[1])) / 0.25
	}
	at := func(name string, left, right float64) {
		t.Helper()
		if l, r := peaks(); math.Abs(l-left) > 1e-4 || math.Abs(r-right) > 1e-4 {
			t.Errorf("%s: %.4f left, %.4f right; want %.4f and %.4f", name, l, r, left, right)
		}
	}
	at("the middle", 1, 1)
	s.Stems[0].Pan = -1
	at("left", math.Sqrt2, 0)
	s.Stems[0].Pan = 0.5
	at("half right", math.Sqrt2*math.Sin(math.Pi/8), math.Sqrt2*math.Cos(math.Pi/8))
	if l, r := peaks(); math.Abs(l*l+r*r-2) > 1e-4 {
		t.Errorf("the power at half right is %.4f of that in the middle", (l*l+r*r)/2)
	}
	s.Stems[0] = session.Stem{ID: "a", Name: "a", Role: session.Other, Audio: "wide", Pan: 0.5}
	at("a stereo part half right", math.Sqrt2*math.Sin(math.Pi/8), 0.5)
	s.Stems[0].Pan, s.Stems[0].Width = 0, -1
	at("narrowed to mono", 0.25, 0.25)
	s.Stems[0].Width = 1
	at("twice as wide", 0.25+2*0.75, 2*0.75-0.25)
	s.Stems[0].Width = -0.5
	at("half as wide", 0.25+0.375, 0.375-0.25)
}

// Nested buses, sends and mutes: what arrives is what the gains on the way say.
func TestRouting(t *testing.T) {
	lib := &Memory{}
	lib.Put("tone", outside.Sine(rate, 1, 997, 0.1, 1, 0))
	s := session.New("Routing", 120)
	s.Rate = rate
	s.Buses = []session.Bus{{ID: "in", Name: "In", Bus: "out", Fader: -2}, {ID: "out", Name: "Out", Fader: -3}, {ID: "room", Name: "Room", Fader: -4}}
	s.Master.Fader = -1
	s.Stems = []session.Stem{{ID: "a", Name: "a", Role: session.Other, Audio: "tone", Bus: "in", Fader: -6}}
	r := New(lib, 1<<28)
	level := func(solo Solo) float64 {
		t.Helper()
		b, _, err := r.Solo(context.Background(), &s, solo, Window{0, rate})
		if err != nil {
			t.Fatal(err)
		}
		return float64(meter.PeakDB(b.Ch...)) + 20
	}
	check := func(name string, got, want float64) {
		t.Helper()
		if math.Abs(got-want) > 1e-3 {
			t.Errorf("%s: %.3f dB, want %.3f", name, got, want)
		}
	}
	add := func(dbs ...float64) float64 {
		sum := 0.0
		for _, db := range dbs {
			sum += math.Pow(10, db/20)
		}
		return 20 * math.Log10(sum)
	}
	check("through two buses", level(SoloAll), -6-2-3-1)
	s.Stems[0].Sends = []session.Send{{Bus: "room", Level: -10}}
	check("with a send behind the fader", level(SoloAll), add(-12, -6-10-4-1))
	s.Stems[0].Sends[0].Pre = true
	check("with a send before it", level(SoloAll), add(-12, -10-4-1))
	check("the return alone, without the stem's own way", level(SoloBus("room")), -10-4-1)
	check("a bus within another alone", level(SoloBus("in")), -12)
	s.Buses[0].Mute = true
	check("the bus muted", level(SoloAll), -15)
	s.Buses[0].Mute = false
	s.Buses[1].Bus = "in"
	if err := s.Validate(); err == nil {
		t.Error("buses in a ring are taken")
	}
}

// A trigger that is taken at a bus is lost when its stem goes elsewhere.
func TestTriggerAtABus(t *testing.T) {
	lib, s := beat()
	r := New(lib, 1<<28)
	s = withDuck(s, 12)
	s.Triggers[0].At = "low"
	hits, err := r.Hits(&s, session.KickTrigger)
	if err != nil || len(hits) != 5 {
		t.Fatalf("%d hits, %v", len(hits), err)
	}
	s.Stems[0].Bus = "music"
	if hits, err = r.Hits(&s, session.KickTrigger); err != nil || len(hits) != 0 {
		t.Errorf("%d hits of a kick that goes elsewhere, %v", len(hits), err)
	}
	s.Buses[1].Bus = "low"
	if hits, err = r.Hits(&s, session.KickTrigger); err != nil || len(hits) != 5 {
		t.Errorf("%d hits through a bus within, %v", len(hits), err)
	}
}

// The loudness of a mix with ducks is put together from weighted parts: it is that of the mix as it is
// rendered, whatever the routing.
func TestLoudnessFromParts(t *testing.T) {
	lib, s := beat()
	s = withDuck(s, 9)
	s.Buses = append(s.Buses, session.Bus{ID: "room", Name: "Room", Fader: -7})
	s.Buses[0].Fader, s.Buses[1].Fader, s.Buses[1].Bus, s.Master.Fader = -2, 3, "low", -1.5
	s.Stems[0].Fader, s.Stems[1].Fader, s.Stems[1].Sends = -1, 2, []session.Send{{Bus: "room", Level: -6}}
	s.Stems[2].Pan, s.Stems[2].Width = 0.4, 0.5
	busDuck := func(depth float64) move.Chain {
		return move.Chain{
			{
				ID:     "duck",
				Params: &move.Duck{School: "curve", Trigger: session.KickTrigger, Points: []move.Point{{MS: -5}, {DB: -depth}, {MS: 60, DB: -depth}, {MS: 140}}},
			},
		}
	}
	s.Buses[1].Moves, s.Buses[2].Moves = busDuck(4), busDuck(8)
	w := Window{rate / 4, 4 * rate}
	whole := Window{w.From - rate/2, w.To + rate/2} // as the deck renders it: what the figure is of
	for _, solo := range []Solo{SoloAll, SoloBoth, SoloBass, SoloKick, SoloBus("low"), SoloBus("room")} {
		r := New(lib, 1<<28)
		got, err := r.Loudness(context.Background(), &s, solo, w)
		if err != nil {
			t.Fatal(err)
		}
		b, _, err := r.Solo(context.Background(), &s, solo, whole)
		if err != nil {
			t.Fatal(err)
		}
		want := meter.IntegratedLoudness(b.Slice(rate/2, rate/2+w.Frames()))
		if math.Abs(float64(got.Integrated-want)) > 1e-3 {
			t.Errorf("%s: %.4f LUFS, the render has %.4f", solo, float64(got.Integrated), float64(want))
		}
	}
	off := s.Unducked()
	r := New(lib, 1<<28)
	ducked, _ := r.Loudness(context.Background(), &s, SoloBass, w)
	plain, _ := r.Loudness(context.Background(), &off, SoloBass, w)
	if plain.Integrated-ducked.Integrated < 0.5 {
		t.Errorf("the duck takes %.2f LU", float64(plain.Integrated-ducked.Integrated))
	}
}

// A bus's duck lowers what goes through that bus, and nothing else: a send to a ducked return leaves the
// stem's own way alone, a ducked bus leaves the send. A keyed one does the same.
func TestBusDuck(t *testing.T) {
	lib, s := beat()
	tone := outside.Sine(rate, 1, 997, 0.1, 4, 0)
	lib.Put("tone", tone)
	s.Stems = append(
		s.Stems,
		session.Stem{ID: "t", Name: "Tone", Role: session.Other, Audio: "tone", Bus: "music", Sends: []session.Send{{Bus: "room", Level: 0, Pre: true}}},
	)
	s.Stems[2].Mute = true
	s.Buses = append(s.Buses, session.Bus{ID: "room", Name: "Room"})
	for name, d := range map[string]*move.Duck{
		"curve": {School: "curve", Trigger: session.KickTrigger, Points: []move.Point{{MS: -5}, {DB: -12}, {MS: 120, DB: -12}, {MS: 200}}},
		"keyed": {School: move.CompressorSchool, Trigger: session.KickTrigger, Comp: &move.Compressor{Threshold: -30, Ratio: 20, Knee: 0, Attack: 1, Hold: 60,
			Release: 60, Lookahead: 3}},
	} {
		for _, which := range []string{"room", "music"} {
			c := copyOf(s)
			c.Bus(which).Moves = move.Chain{{ID: "d", Params: d}}
			r := New(lib, 1<<28)
			in, err := r.graph(&c).master(cut{stem: func(st *session.Stem) bool { return st.ID == "t" }})
			if err != nil {
				t.Fatal(err)
			}
			tone, err := r.sum(context.Background(), []input{in}, rate, Window{rate / 2, 2 * rate}, 1)
			if err != nil {
				t.Fatal(err)
			}
			out := tone.buf
			at := func(sec float64) float64 { // of 997 Hz, over 20 ms
				top := float32(0)
				from := int(sec*rate) - rate/2
				for _, v := range out.Ch[0][from : from+rate/50] {
					top = max(top, max(v, -v))
				}
				return float64(top)
			}
			if v := at(0.9); math.Abs(v-0.2) > 0.002 {
				t.Errorf("%s on %s: away from a hit %.4f, want 0.2", name, which, v)
			}
			want := 0.1 + 0.1*math.Pow(10, -12./20)
			if v := at(1.04); name == "curve" && math.Abs(v-want) > 0.002 || v > 0.16 || v < 0.0999 {
				t.Errorf("%s on %s: behind a hit %.4f, want %.4f", name, which, v, want)
			}
			// taken apart into stems it is the same sum
			var groups [][]*session.Stem
			for i := range c.Stems {
				groups = append(groups, []*session.Stem{&c.Stems[i]})
			}
			w := Window{rate / 2, 2 * rate}
			sums, err := r.RunningSum(context.Background(), &c, groups, w)
			if err != nil {
				t.Fatal(err)
			}
			whole, err := r.GroupLevel(context.Background(), &c, "", w)
			if err != nil || math.Abs(float64(sums[len(sums)-1].Peak-whole.Peak)) > 1e-3 {
				t.Errorf("%s on %s: the stems add up to %.3f dBFS, the master has %.3f, %v", name, which, float64(sums[len(sums)-1].Peak), float64(whole.Peak), err)
			}
		}
	}
}

// At rest a renderer keeps the latest of the loop's renders and nothing of whole songs; what it gave back it makes anew.
func TestRest(t *testing.T) {
	lib, s := beat()
	r := New(lib, 1<<28)
	w := Window{0, 2 * rate}
	was := solo(t, r, s, SoloAll, w)
	if freed := r.Rest(1 << 28); freed != 0 {
		t.Errorf("%d bytes given back of what may be kept", freed)
	}
	if freed := r.Rest(1 << 20); freed <= 0 || r.Cache.large.used > 1<<20 {
		t.Errorf("%d bytes given back, %d kept", freed, r.Cache.large.used)
	}
	if freed := r.Rest(0); freed <= 0 || r.Cache.large.used != 0 || r.Cache.large.order.Len() != 0 {
		t.Errorf("%d bytes given back, %d kept", freed, r.Cache.large.used)
	}
	if d := apart(was, solo(t, r, s, SoloAll, w)); d != 0 {
		t.Errorf("made anew it is %g off", d)
	}
}

// A long pair is rendered as it is read, to the bit what is held of a short one, and says how far it is; a panic in a render
// is an error for whoever reads, and so is a context that ends.
func TestLongSound(t *testing.T) {
	lib, s := beat()
	s = withDuck(s, 9)
	r := New(lib, 1<<28)
	w := Window{-rate / 2, 400 * rate} // behind the files there is silence
	var work Work
	ctx, stop := context.WithCancel(Watched(t.Context(), &work))
	Doing(ctx, "Reading")
	long, _, err := r.soundOf(ctx, &s, SoloBass, w)
	if err != nil {
		t.Fatal(err)
	}
	if _, held := long.(meter.Held); held || long.Frames() != w.Frames() {
		t.Fatalf("%T of %d frames", long, long.Frames())
	}
	want := solo(t, r, s, SoloBass, Window{-rate / 2, 5 * rate}).Mono()
	at := 0
	made := r.long.Made()
	err = long.Read(func(x []float32) error {
		for i, v := range x {
			if at+i < len(want) && math.Abs(float64(v-want[at+i])) > near {
				t.Fatalf("frame %d is %g, held %g", at+i, v, want[at+i])
			}
		}
		at += len(x)
		return nil
	})
	if err != nil || at != w.Frames() || r.long.Made() != made {
		t.Errorf("%d frames, %d kept, %v", at, r.long.Made()-made, err)
	}
	if what, part := work.Now(); what != "Reading" || part != 1 {
		t.Errorf("it says %q, %g", what, part)
	}
	if err := long.Read(func([]float32) error { stop(); return nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("a context that ended: %v", err)
	}
	bad := rendered{10, t.Context(), func(context.Context, func([]float32) error) error { panic("no") }}
	if err := bad.Read(func([]float32) error { return nil }); !group.Stopped(err) {
		t.Errorf("a render that panics: %v", err)
	}
}

// The gain of a long sound, of a curve and of a keyed duck, is that of a short one; and so is its loudness.
func TestLongGain(t *testing.T) {
	outside.Slow(t)
	for name, d := range map[string]*move.Duck{
		"curve": {School: "curve", Trigger: session.KickTrigger, Points: []move.Point{{MS: -5}, {DB: -9}, {MS: 100, DB: -9}, {MS: 180}}},
		"keyed": {School: move.CompressorSchool, Trigger: session.KickTrigger, Comp: &move.Compressor{Threshold: -30, Ratio: 4, Knee: 6, Attack: 5, Hold: 20,
			Release: 200, Lookahead: 5}},
	} {
		lib, s := beat()
		s.SetDuck(d, false, "")
		r := New(lib, 1<<28)
		bass := s.Stem("b")
		short, err := r.Gain(t.Context(), &s, bass, Window{-1000, 4 * rate})
		if err != nil {
			t.Fatal(err)
		}
		sound, err := r.GainOf(t.Context(), &s, bass, Window{-1000, 400 * rate})
		if err != nil {
			t.Fatal(err)
		}
		long, err := meter.Samples(sound)
		if err != nil || len(long) != 1000+400*rate {
			t.Fatalf("%s: %d frames, %v", name, len(long), err)
		}
		for i, v := range short {
			if math.Abs(float64(v-long[i])) > near {
				t.Fatalf("%s: frame %d is %g, of a short sound %g", name, i, long[i], v)
			}
		}
		a, err := r.Loudness(t.Context(), &s, SoloBass, Window{0, 360 * rate})
		if err != nil {
			t.Fatal(err)
		}
		b, err := r.Loudness(t.Context(), &s, SoloBass, Window{0, 361 * rate}) // a second of silence more
		if err != nil || math.Abs(float64(a.Integrated-b.Integrated)) > 1e-3 || math.Abs(float64(a.Peak-b.Peak)) > 1e-3 {
			t.Errorf("%s: %+v, of a long sound %+v, %v", name, a, b, err)
		}
	}
}
