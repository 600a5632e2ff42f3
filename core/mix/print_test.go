package mix

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"runtime"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// near is how far a window may lie from the whole: 100 dB under full scale.
const near = 1e-5

// moves are settings of every kind that remember much, or come late.
func moves() []move.Params {
	key := session.KickTrigger
	comp := &move.Compressor{Threshold: -30, Ratio: 4, Knee: 6, Attack: 5, Hold: 20, Release: 200, Lookahead: 5}
	return []move.Params{
		&move.Part{Keep: move.Tail, Trigger: key, At: 60, Fade: 20}, &move.Polarity{}, &move.Tune{Cents: 300, Trigger: key},
		&move.Tune{Cents: -17, Notes: []move.NoteTune{{At: 0.1}, {At: 1.2, Cents: 40}, {At: 2.2}}},
		&move.Filter{Shape: dsp.Bell, Hz: 20, Q: 5, DB: 6}, &move.MidSide{Channels: "side", Shape: dsp.LowShelf, Hz: 60, Q: 2, DB: -12},
		&move.Fade{Trigger: key, From: 50, To: 120}, &move.Nudge{MS: 20}, &move.Nudge{MS: -60}, &move.SoftClip{Threshold: -12, Knee: 6},
		&move.Duck{School: move.CurveSchool, Trigger: key, Points: []move.Point{{MS: -50}, {DB: -9}, {MS: 100, DB: -9}, {MS: 380}}},
		&move.Duck{School: move.CompressorSchool, Trigger: key, Comp: &move.Compressor{Threshold: -40, Ratio: 20, Attack: 1, Release: 3000}},
		&move.Duck{
			School:  move.BandSchool,
			Trigger: key,
			Comp:    comp,
			Key:     &move.KeyFilter{Low: 120, Slope: 48},
			Band:    &move.Band{Shape: "bell", Hz: 50, Q: 6, Range: 12, Channels: "mid"},
		},
		&move.Duck{School: move.BandSchool, Trigger: "every", Comp: comp, Band: &move.Band{Shape: "below", Hz: 90, Range: 12, Channels: "stereo"}},
	}
}

// routed is the beat with noise in the pad, nested buses, a return and a second trigger.
func routed() (*counting, session.Song) {
	lib, s := beat()
	pad := lib.sounds["pad"]
	r := rand.New(rand.NewPCG(3, 4))
	for c := range pad.Ch {
		for i := range pad.Ch[c] {
			pad.Ch[c][i] += float32(0.05 * r.NormFloat64())
		}
	}
	lib.Put("pad", pad)
	s.Buses = append(s.Buses, session.Bus{ID: "room", Name: "Room", Fader: -6}, session.Bus{ID: "all", Name: "All", Fader: 1})
	s.Buses[0].Bus = "all"
	s.Stems[1].Sends = []session.Send{{Bus: "room", Level: -6}}
	s.Stems[2].Pan, s.Stems[2].Sends = 0.3, []session.Send{{Bus: "room", Level: -3, Pre: true}}
	s.Master.Fader = -1
	s.Triggers = append(s.Triggers, session.Trigger{ID: "every", Name: "every 1/2", Grid: "1/2"})
	return lib, s
}

var places = []session.At{{Stem: "b"}, {Stem: "p"}, {Bus: "low"}, {Bus: "room"}, {Bus: "all"}, {}}

// whole prints every tap of a song over a window.
func whole(t *testing.T, r *Renderer, s *session.Song, taps []Tap, w Window) []audio.Buffer {
	t.Helper()
	out := make([]audio.Buffer, len(taps))
	err := r.Print(context.Background(), s, taps, w, func(blocks []audio.Buffer) error {
		for i, b := range blocks {
			if out[i].Ch == nil {
				out[i] = audio.New(b.Rate, len(b.Ch), 0)
			}
			for c, ch := range b.Ch {
				out[i].Ch[c] = append(out[i].Ch[c], ch...)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// readTap renders a tap over a window by reading.
func readTap(t *testing.T, r *Renderer, s *session.Song, tap Tap, w Window) audio.Buffer {
	t.Helper()
	in, err := r.graph(s).tap(tap)
	if err != nil {
		t.Fatal(err)
	}
	x, err := r.sum(context.Background(), []input{in}, s.Rate, w, 1)
	if err != nil {
		t.Fatal(err)
	}
	return x.buf
}

func apart(a, b audio.Buffer) float64 {
	if len(a.Ch) != len(b.Ch) || a.Frames() != b.Frames() {
		return math.Inf(1)
	}
	worst := 0.0
	for c := range a.Ch {
		for i, v := range a.Ch[c] {
			worst = max(worst, math.Abs(float64(v-b.Ch[c][i])))
		}
	}
	return worst
}

// agree checks that windows that are read, and what is printed from some frame on, are the whole print there.
func agree(t *testing.T, name string, lib Library, s *session.Song) {
	t.Helper()
	taps := []Tap{{Stem: "b"}, {Stem: "p"}, {Bus: "low"}, {Bus: "room"}, {Bus: "all"}, {}}
	const end = 4 * rate
	all := whole(t, New(lib, 1<<28), s, taps, Window{0, end})
	for i, tap := range taps {
		for _, w := range []Window{{0, end}, {rate - 77, rate + 9000}, {2*rate + 12345, 2*rate + 22345}, {3*rate + rate/2, end}} {
			got := readTap(t, New(lib, 1<<28), s, tap, w)
			if d := apart(got, all[i].Slice(w.From, w.To)); d > near {
				t.Errorf("%s: %+v, frames %d to %d, is %.1f dBFS off what is printed", name, tap, w.From, w.To, dsp.DB(d))
			}
		}
	}
	late := New(lib, 1<<28)
	late.block = 1000
	for i, b := range whole(t, late, s, taps, Window{3 * rate, end}) {
		if d := apart(b, all[i].Slice(3*rate, end)); d > near {
			t.Errorf("%s: %+v, printed from 3 s on, is %.1f dBFS off", name, taps[i], dsp.DB(d))
		}
	}
}

// For every kind at every place where it may stand: a window is that window of the whole, and what is printed is what is
// read.
func TestPrintIsRead(t *testing.T) {
	for _, p := range moves() {
		t.Run(p.Kind().Name, func(t *testing.T) {
			t.Parallel()
			if p.Kind().Name != "nudge" {
				outside.Slow(t)
			}
			for _, at := range places {
				if p.Kind().Where&at.Where() == 0 {
					continue
				}
				lib, s := routed()
				chain, name := s.Chain(at)
				*chain = chain.With(move.Move{ID: "m", Params: p})
				agree(t, move.Words(p)+" on "+name, lib, &s)
			}
		})
	}
}

// Everything at once: memories and latencies add up, keys stay in time, and a stem that is heard by several is late for
// each by its own.
func TestPrintOfFullChains(t *testing.T) {
	outside.Slow(t)
	lib, s := routed()
	for _, at := range places {
		chain, _ := s.Chain(at)
		for i, p := range moves() {
			if part, ok := p.(*move.Part); ok && part != nil || p.Kind().Where&at.Where() == 0 {
				continue
			}
			if d, ok := p.(*move.Duck); ok && at == (session.At{Stem: "p"}) {
				c := *d
				c.Trigger = "every"
				p = &c
			}
			*chain = chain.With(move.Move{ID: string(rune('a' + i)), Params: p})
		}
	}
	agree(t, "all chains full", lib, &s)
}

// A kick nudged by 60 ms is as loud as it was, in the window that follows it (Levels read it too quiet while windows began
// with silence).
func TestNudgedIsAsLoud(t *testing.T) {
	lib, s := beat()
	r := New(lib, 1<<28)
	const by = 60 * rate / 1000
	w := Window{rate - rate/50, rate + rate/2} // the hit at 1 s and what rings on
	level := func(w Window) float64 {
		l, err := r.StemLevels(context.Background(), &s, s.Stem("k"), w)
		if err != nil {
			t.Fatal(err)
		}
		return float64(l.Steps[session.TrackStep].Integrated())
	}
	before := level(w)
	s.Stem("k").SetMove(move.Move{ID: "n", Params: &move.Nudge{MS: 60}})
	if d := level(Window{w.From + by, w.To + by}) - before; math.Abs(d) > 0.05 {
		t.Errorf("a nudge changes the loudness by %.2f LU", d)
	}
}

// Where a bus or the master bends the sound, sums, shares and loudness are those of what is rendered.
func TestBentBuses(t *testing.T) {
	outside.Slow(t)
	for _, at := range []session.At{{}, {Bus: "low"}, {Bus: "all"}} {
		lib, s := routed()
		chain, name := s.Chain(at)
		*chain = chain.With(move.Move{ID: "clip", Params: &move.SoftClip{Threshold: -12, Knee: 3}})
		w := Window{rate / 2, 3 * rate}
		r := New(lib, 1<<28)
		ctx := context.Background()
		var groups [][]*session.Stem
		for i := range s.Stems {
			groups = append(groups, []*session.Stem{&s.Stems[i]})
		}
		sums, err := r.RunningSum(ctx, &s, groups, w)
		if err != nil {
			t.Fatal(err)
		}
		all, err := r.GroupLevel(ctx, &s, "", w)
		if err != nil {
			t.Fatal(err)
		}
		if got, want := sums[len(sums)-1].Peak, all.Turned(s.Master.Fader).Peak; math.Abs(float64(got-want)) > 1e-3 {
			t.Errorf("%s: the running sum ends at %.3f dBFS, the master is at %.3f", name, float64(got), float64(want))
		}
		if first, want := sums[0].Peak, float64(meter.PeakDB(solo(t, r, s, SoloKick, w).Ch...)); math.Abs(float64(first)-want) > 1e-3 {
			t.Errorf("%s: the kick alone makes %.3f dBFS of the sum, alone it is %.3f", name, float64(first), want)
		}
		shares, err := r.Shares(ctx, &s, "", all)
		if err != nil {
			t.Fatal(err)
		}
		total := 0.0
		for _, sh := range shares {
			total += sh.Share
		}
		if len(shares) != 3 || math.Abs(total-1) > 1e-9 {
			t.Errorf("%s: the shares are %+v", name, shares)
		}
		loud, err := r.Loudness(ctx, &s, SoloAll, w)
		if err != nil {
			t.Fatal(err)
		}
		want := meter.IntegratedLoudness(solo(t, r, s, SoloAll, Window{w.From - rate/2, w.To + rate/2}).Slice(rate/2, rate/2+w.Frames()))
		if math.Abs(float64(loud.Integrated-want)) > 1e-3 {
			t.Errorf("%s: %.4f LUFS, what is rendered has %.4f", name, float64(loud.Integrated), float64(want))
		}
	}
}

// Linear moves on buses and master: the sum taken apart into stems is the sum.
func TestLinearBuses(t *testing.T) {
	lib, s := routed()
	set := func(at session.At, p move.Params) {
		chain, _ := s.Chain(at)
		*chain = chain.With(move.Move{ID: p.Kind().Name, Params: p})
	}
	set(session.At{Bus: "all"}, &move.Filter{Shape: dsp.Highpass, Hz: 40, Slope: 24})
	set(session.At{Bus: "music"}, &move.MidSide{Channels: "mid", Shape: dsp.Bell, Hz: 300, Q: 1, DB: -9})
	set(
		session.At{Bus: "room"},
		&move.Duck{School: move.CurveSchool, Trigger: session.KickTrigger, Points: []move.Point{{MS: -5}, {DB: -9}, {MS: 100, DB: -9}, {MS: 180}}},
	)
	set(session.At{}, &move.MidSide{Channels: "side", Shape: dsp.LowShelf, Hz: 200, Q: 0.7, DB: -12})
	w := Window{rate, 3 * rate}
	r := New(lib, 1<<28)
	g := r.graph(&s)
	want := solo(t, r, s, SoloAll, w)
	got := audio.New(rate, 2, w.Frames())
	for i := range s.Stems {
		ins, err := g.contributions(&s.Stems[i], "")
		if err != nil {
			t.Fatal(err)
		}
		for _, in := range ins {
			x, err := r.read(context.Background(), in.node, w, 1)
			if err != nil {
				t.Fatal(err)
			}
			in.at.addTo(got, x.buf, false)
		}
	}
	if d := apart(got, want); d > near {
		t.Errorf("taken apart it is %.1f dBFS off", dsp.DB(d))
	}
	loud, err := r.Loudness(context.Background(), &s, SoloAll, w)
	if err != nil {
		t.Fatal(err)
	}
	if all := meter.IntegratedLoudness(want); math.Abs(float64(loud.Integrated-all)) > 0.02 {
		t.Errorf("%.3f LUFS from parts, %.3f of the whole", float64(loud.Integrated), float64(all))
	}
}

// endless is a sound of any length that takes no memory.
type endless struct{ frames int64 }

func (e endless) Format() audio.Format {
	return audio.Format{Container: "wav", Rate: rate, Channels: 2, Frames: e.frames}
}

func (e endless) ReadAt(b audio.Buffer, from int64) error {
	for c := range b.Ch {
		for i := range b.Ch[c] {
			b.Ch[c][i] = float32((from+int64(i))%441)/882 - 0.25
		}
	}
	return nil
}

type endlessLibrary struct{ frames int64 }

func (l endlessLibrary) Open(string) (audio.Source, func() error, error) {
	return endless(l), func() error { return nil }, nil
}
func (endlessLibrary) Onsets(string) ([]meter.Onset, error) { return nil, nil }
func (endlessLibrary) KickPitch(string) (meter.Pitch, error) {
	return meter.Pitch{Hz: 50, Settled: true}, nil
}

// What a print holds does not grow with the song, it stops when it is cancelled, and a failing writer ends it.
func TestPrintHoldsLittle(t *testing.T) {
	outside.Slow(t)
	_, s := routed()
	chain, _ := s.Chain(session.At{})
	*chain = chain.With(move.Move{ID: "c", Params: &move.SoftClip{Threshold: -12, Knee: 6}})
	s.Stem("b").SetMove(move.Move{ID: "d", Params: moves()[12]})
	held := func(seconds int) uint64 {
		r := New(endlessLibrary{int64(seconds) * rate}, 1<<28)
		most := uint64(0)
		blocks := 0
		err := r.Print(context.Background(), &s, []Tap{{}, {Stem: "b"}}, Window{0, seconds * rate}, func([]audio.Buffer) error {
			if blocks++; blocks%100 == 0 {
				var m runtime.MemStats
				runtime.GC()
				runtime.ReadMemStats(&m)
				most = max(most, m.HeapAlloc)
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		return most
	}
	short, long := held(20), held(180)
	if long > short+4<<20 {
		t.Errorf("20 s hold %d kB, 180 s %d kB", short>>10, long>>10)
	}
	r := New(endlessLibrary{1 << 40}, 1<<28)
	ctx, cancel := context.WithCancel(context.Background())
	n := 0
	err := r.Print(ctx, &s, []Tap{{}}, Window{0, 1 << 40}, func([]audio.Buffer) error {
		if n++; n == 3 {
			cancel()
		}
		return nil
	})
	if !errors.Is(err, context.Canceled) || n != 3 {
		t.Errorf("cancelled at block 3 it ends at block %d with %v", n, err)
	}
	full := errors.New("no room left")
	if err := r.Print(context.Background(), &s, []Tap{{}}, Window{0, rate}, func([]audio.Buffer) error { return full }); !errors.Is(err, full) {
		t.Errorf("a full disk gives %v", err)
	}
	if err := r.Print(context.Background(), &s, []Tap{{Stem: "gone"}}, Window{0, rate}, func([]audio.Buffer) error { return nil }); err == nil {
		t.Error("a stem that is not there is printed")
	}
}

// A pass over the whole song does not push out what the loop is made of.
func TestWholeSongLeavesTheLoop(t *testing.T) {
	_, s := routed()
	for i := range s.Stems {
		s.Stems[i].Clip = -1
	}
	r := New(endlessLibrary{600 * rate}, 30<<20)
	loop := Window{rate, 3 * rate}
	ctx := context.Background()
	if _, err := r.GroupLevel(ctx, &s, "", loop); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Loudness(ctx, &s, SoloAll, loop); err != nil {
		t.Fatal(err)
	}
	made := r.Cache.Made()
	if _, err := r.GroupLevel(ctx, &s, "", Window{0, 300 * rate}); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Loudness(ctx, &s, SoloAll, loop); err != nil {
		t.Fatal(err)
	}
	s.Stems[0].Fader = -2
	if _, err := r.Loudness(ctx, &s, SoloAll, loop); err != nil {
		t.Fatal(err)
	}
	if n := r.Cache.Made() - made; n > 6 { // the level of the song, and what follows from the fader
		t.Errorf("after a pass over the song %d results were made anew", n)
	}
}
