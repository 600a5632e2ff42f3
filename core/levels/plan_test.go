package levels

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

func duck() *move.Duck {
	return &move.Duck{School: "curve", Trigger: session.KickTrigger, Points: []move.Point{{MS: -5}, {MS: 0, DB: -6}, {MS: 80, DB: -6}, {MS: 160}}}
}

// randomSong makes a song with random levels, nested buses, sends, pans and locks.
func randomSong(r *rand.Rand) *desk {
	b := newBench(0.5)
	for i := range r.IntN(5) {
		bus := session.Bus{ID: fmt.Sprint("bus", i), Name: fmt.Sprint("Bus ", i), Fader: figure.Tenth(6 * r.NormFloat64())}
		if i > 0 && r.IntN(3) == 0 {
			bus.Bus = fmt.Sprint("bus", r.IntN(i))
		}
		if r.IntN(5) == 0 {
			bus.Locks = []session.Step{session.BusStep}
		}
		b.song.Buses = append(b.song.Buses, bus)
	}
	pick := func() string {
		if len(b.song.Buses) == 0 || r.IntN(4) == 0 {
			return ""
		}
		return b.song.Buses[r.IntN(len(b.song.Buses))].ID
	}
	roles := []session.Role{session.Kick, session.Bass, session.Snare, session.Hats, session.Melodic, session.Texture, session.Other, session.Kick}
	for i := range 2 + r.IntN(len(roles)-1) {
		sound := sine(0.5, 40+300*r.Float64(), -6-20*r.Float64())
		if r.IntN(2) == 0 {
			sound = noise(r, 0.5, -20-20*r.Float64(), 1+r.IntN(2))
		}
		st := b.add(fmt.Sprint("stem", i), roles[i], pick(), sound)
		st.Source, st.Clip, st.Fader = figure.Tenth(3*r.NormFloat64()), figure.Tenth(3*r.NormFloat64()), figure.Tenth(3*r.NormFloat64())
		st.Mute = r.IntN(9) == 0 && i > 0
		for _, step := range session.StemSteps {
			if r.IntN(4) == 0 {
				st.Locks = append(st.Locks, step)
			}
		}
		if bus := pick(); bus != "" && bus != st.Bus && r.IntN(4) == 0 {
			st.Sends = []session.Send{{Bus: bus, Level: -12, Pre: r.IntN(2) == 0}}
		}
	}
	if r.IntN(5) == 0 {
		b.song.Master.Locks = []session.Step{session.MasterStep}
	}
	b.song.Master.Fader = figure.Tenth(3 * r.NormFloat64())
	return b
}

// Over random songs, locks and routings: a plan reaches its targets or names what prevents it,
// never changes a locked step, and a second plan changes nothing.
func TestPlanHolds(t *testing.T) {
	outside.Slow(t)
	const songs = 500
	free, blocked := 0, 0
	for seed := range uint64(songs) {
		b := randomSong(rand.New(rand.NewPCG(seed, 99)))
		if err := b.song.Validate(); err != nil {
			t.Fatalf("song %d: %v", seed, err)
		}
		p, err := Solve(ctx, b.r, &b.song, b.w, Options{Anchor: KickPeak})
		if errors.Is(err, ErrNoKick) || errors.Is(err, ErrNothing) {
			continue
		}
		if err != nil {
			t.Fatalf("song %d: %v", seed, err)
		}
		for i := range b.song.Stems {
			was, now := &b.song.Stems[i], &p.Song.Stems[i]
			for _, step := range session.StemSteps {
				if was.Locked(step) && was.Gain(step) != now.Gain(step) {
					t.Errorf("song %d: the locked %s of %s went from %g to %g", seed, step, was.Name, was.Gain(step), now.Gain(step))
				}
			}
		}
		for i := range b.song.Buses {
			if was, now := &b.song.Buses[i], &p.Song.Buses[i]; was.Locked() && was.Fader != now.Fader {
				t.Errorf("song %d: the locked bus %s moved", seed, was.Name)
			}
		}
		if b.song.Master.Locked() && b.song.Master.Fader != p.Song.Master.Fader {
			t.Errorf("song %d: the locked master moved", seed)
		}
		if len(p.Blocked) == 0 {
			free++
			rules := b.song.LevelRules()
			for _, bus := range p.After.Buses {
				if float64(bus.Out.Peak) > rules.Bus+0.051 {
					t.Errorf("song %d: %s ends at %.2f dBFS and nobody says why", seed, bus.Bus.Name, float64(bus.Out.Peak))
				}
			}
			if got := float64(p.After.Master.Out.Peak); math.Abs(got-rules.Premaster) > 0.151 {
				t.Errorf("song %d: the premaster ends at %.2f dBFS and nobody says why", seed, got)
			}
		} else {
			blocked++
		}
		again, err := Solve(ctx, b.r, &p.Song, b.w, Options{Anchor: KickPeak})
		if err != nil {
			t.Fatal(err)
		}
		if len(again.Changes) > 0 {
			t.Errorf("song %d: a second plan changes %+v (first blocked by %q)", seed, again.Changes, p.Blocked)
		}
	}
	if free < songs/3 || blocked < songs/20 {
		t.Errorf("%d songs planned, %d blocked: the set tests too little", free, blocked)
	}
}

// With buses for all and nothing locked, the balance of the windows holds at the master.
func TestPlanKeepsTheBalance(t *testing.T) {
	b := newBench(1)
	b.song.Buses = []session.Bus{{ID: "drums", Name: "Drums"}, {ID: "low", Name: "Low"}, {ID: "music", Name: "Music"}}
	b.add("kick", session.Kick, "drums", sine(1, 52, -3))
	b.add("snare", session.Snare, "drums", sine(1, 190, -3))
	b.add("808", session.Bass, "low", sine(1, 43, -1))
	b.add("pad", session.Melodic, "music", sine(1, 300, -6))
	locked := &b.song.Stems[1]
	locked.Locks = []session.Step{session.TrackStep}
	p, err := Solve(ctx, b.r, &b.song, b.w, Options{Anchor: KickPeak})
	if err != nil || len(p.Blocked) > 0 {
		t.Fatalf("%v, %q", err, p.Blocked)
	}
	near(t, "the kick", p.After.Row("kick").Peak(), -7, 0.05)
	near(t, "the snare", p.After.Row("snare").Peak(), -7, 0.1)
	near(t, "the 808", p.After.Row("808").Peak(), -8, 0.1)
	near(t, "the pad", p.After.Row("pad").Peak(), -12, 0.1)
	near(t, "the premaster", p.After.Master.Out.Peak, -6, 0.11)
	if a, c, d := p.Song.Buses[0].Fader, p.Song.Buses[1].Fader, p.Song.Buses[2].Fader; a != c || a != d || a >= 0 {
		t.Errorf("the buses come down by %g, %g and %g", a, c, d)
	}
	for _, c := range p.Changes {
		if c.Stem != "" && c.Step != session.SourceStep {
			t.Errorf("%s is trimmed at the %s step, and its source is free", c.Name, c.Step)
		}
	}
	if f := Judge(p.After, nil, frames); len(f) > 0 {
		t.Errorf("after the plan: %+v", f)
	}
}

// A blocker is named.
func TestPlanNamesWhatPreventsIt(t *testing.T) {
	every := []session.Step{session.SourceStep, session.ClipStep, session.TrackStep}
	b := newBench(1)
	b.song.Buses = []session.Bus{{ID: "drums", Name: "Drums", Locks: []session.Step{session.BusStep}}}
	b.add("kick", session.Kick, "drums", sine(1, 52, -1)).Locks = every
	b.add("snare", session.Snare, "drums", sine(1, 190, -1))
	p, err := Solve(ctx, b.r, &b.song, b.w, Options{Anchor: KickPeak})
	if err != nil {
		t.Fatal(err)
	}
	all := strings.Join(p.Blocked, "; ")
	for _, want := range []string{"kick is locked at every step", "Drums"} {
		if !strings.Contains(all, want) {
			t.Errorf("%q is not among %q", want, all)
		}
	}
	near(t, "the kick", p.After.Row("kick").Peak(), -1, 0.01)
}

// The click: the melody stands well below full scale, all else in its relation to it.
func TestClickAnchor(t *testing.T) {
	b := newBench(1)
	b.add("kick", session.Kick, "", sine(1, 52, -3))
	b.add("keys", session.Melodic, "", sine(1, 300, -20))
	b.add("bell", session.Melodic, "", sine(1, 700, -6))
	p, err := Solve(ctx, b.r, &b.song, b.w, Options{Anchor: Click, Under: 20, Melody: "keys"})
	if err != nil {
		t.Fatal(err)
	}
	near(t, "the melody", p.After.Row("keys").Peak(), -20, 0.06)
	near(t, "the kick", p.After.Row("kick").Peak(), -20+6.5, 0.06) // -7 against the middle of -15 to -12
	near(t, "the premaster", p.After.Master.Out.Peak, -6, 0.11)
	p, err = Solve(ctx, b.r, &b.song, b.w, Options{Anchor: Click})
	if err != nil {
		t.Fatal(err)
	}
	near(t, "the loudest melody, by itself,", p.After.Row("bell").Peak(), -DefaultUnder, 0.06)
	b.song.Stems = b.song.Stems[:1]
	if _, err := Solve(ctx, b.r, &b.song, b.w, Options{Anchor: Click}); !errors.Is(err, ErrNoMelody) {
		t.Errorf("without a melody: %v", err)
	}
}

// Over pink noise: tones raised to the same margin over the noise in their critical bands. For a
// tone of mean square A in a band with a share S of the noise's power, the margin is
// 10 log10(A / S) (closed form).
func TestPinkNoiseAnchor(t *testing.T) {
	b := newBench(2)
	kick := b.add("kick", session.Kick, "", sine(2, 100, -10))
	b.add("high", session.Melodic, "", sine(2, 2000, -30))
	p, err := Solve(ctx, b.r, &b.song, b.w, Options{Anchor: PinkNoise})
	if err != nil {
		t.Fatal(err)
	}
	near(t, "the kick", p.After.Row("kick").Peak(), -7, 0.06)
	share := func(hz float64) float64 {
		for _, c := range meter.CriticalBands(3600) {
			if hz >= c.Lo && hz < c.Hi {
				return 10 * math.Log10(dsp.PinkShare(c.Lo, c.Hi, rate))
			}
		}
		t.Fatalf("no band holds %g Hz", hz)
		return 0
	}
	want := -7 + share(2000) - share(100)
	near(t, "the high tone", p.After.Row("high").Peak(), want, 0.4) // a tone leaks some of its power over the edge of its band
	near(t, "the noise", p.Noise, -7-3.01-share(100), 0.4)
	_ = kick
}

// The reference: stems in bands of their own take the levels of the finished track, 10 dB down.
func TestReferenceAnchor(t *testing.T) {
	b := newBench(2)
	b.add("kick", session.Kick, "", sine(2, 63, -12))
	b.add("pad", session.Melodic, "", sine(2, 1000, -12))
	sounds := map[string]Sound{}
	measure := func(sha string) meter.Spectrum {
		src, closeFile, err := b.lib.Open(sha)
		if err != nil {
			t.Fatal(err)
		}
		defer closeFile()
		s, err := meter.MeasureSpectrum(src)
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	for _, st := range b.song.Stems {
		sounds[st.Audio] = Sound{measure(st.Audio), 1}
	}
	done := sine(2, 63, -4)
	for i, v := range sine(2, 1000, -14).Ch[0] {
		done.Ch[0][i] += v
	}
	b.lib.Put("finished", done)
	finished := measure("finished")
	p, err := Solve(ctx, b.r, &b.song, b.w, Options{Anchor: Reference, Sounds: sounds, Finished: &finished})
	if err != nil {
		t.Fatal(err)
	}
	// the finished track has its tones 10 dB apart
	near(t, "the distance", p.After.Row("kick").Peak()-p.After.Row("pad").Peak(), 10, 0.8)
	if _, err := Solve(ctx, b.r, &b.song, b.w, Options{Anchor: Reference, Sounds: sounds}); !errors.Is(err, ErrNoReference) {
		t.Errorf("without a finished track: %v", err)
	}
}

// A stem bounced anew with its trim comes back as landed; another gain, or another sound, not.
func TestLanded(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 10))
	b := newBench(1)
	old := noise(r, 1, -20, 1)
	st := b.add("a", session.Other, "", old)
	b.song.Plan = &session.Plan{Trims: []session.Trim{{Stem: "a", Audio: st.Audio, DB: -3.2}}}
	landing := func() Landing {
		t.Helper()
		l, err := Landings(ctx, b.r, &b.song)
		if err != nil || len(l) != 1 {
			t.Fatalf("%+v, %v", l, err)
		}
		return l[0]
	}
	if l := landing(); l.Back() || l.Landed() {
		t.Errorf("before the bounce: %+v", l)
	}
	for i, c := range []struct {
		db   float64
		want bool
	}{{-3.2, true}, {-3.45, true}, {-2.8, false}, {0, false}} {
		next := noise(r, 1, -120, 1)
		for k, v := range old.Ch[0] {
			next.Ch[0][k] += v * float32(dsp.Gain(c.db))
		}
		st.Audio = fmt.Sprintf("%064x", 100+i)
		b.lib.Put(st.Audio, next)
		l := landing()
		if l.Landed() != c.want || math.Abs(float64(l.Got)-c.db) > 0.01 || l.Alike < 0.99 {
			t.Errorf("%+.2f dB: %+v", c.db, l)
		}
	}
}
