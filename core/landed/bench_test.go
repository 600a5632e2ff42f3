package landed_test

import (
	"context"
	"math"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/dsp"
	"mellowthump/core/landed"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
	"mellowthump/internal/songs"
)

const rate = 44100

// recordedPair is a recorded kick over a recorded bass, sixteen seconds, on the bench.
func recordedPair(t *testing.T) *bench.Bench {
	t.Helper()
	var kick, bass []sampled.Note
	for i := range 16 {
		at := float64(i)
		kick = append(kick, sampled.Note{At: at, End: at + 0.2, Key: 36, Velocity: 110, Channel: sampled.Drums})
		bass = append(bass, sampled.Note{At: at, End: at + 0.9, Key: []int{29, 32, 27, 34}[i%4], Velocity: 100})
	}
	return songs.OnBench(
		t,
		songs.Part{ID: "c", Role: session.Kick, Sound: audio.Buffer{Rate: rate, Ch: [][]float32{sampled.Play(t, map[int]int{sampled.Drums: 24}, kick, 17).Mono()}}},
		songs.Part{ID: "b", Role: session.Bass, Sound: audio.Buffer{Rate: rate, Ch: [][]float32{sampled.Play(t, map[int]int{0: 33}, bass, 17).Mono()}}},
	)
}

// bounced renders a stem as another program would that was set like a song, and puts the file in the library.
func bounced(t *testing.T, b *bench.Bench, song session.Song, id, sha string) {
	t.Helper()
	for i := range song.Stems {
		song.Stems[i].Mute = song.Stems[i].ID != id
	}
	x, _, err := b.Renderer.Solo(context.Background(), &song, mix.SoloAll, mix.Window{To: 17 * rate})
	if err != nil {
		t.Fatal(err)
	}
	b.Renderer.Library.(*mix.Memory).Put(sha, audio.Buffer{Rate: rate, Ch: [][]float32{x.Mono()}})
}

// A bounce is compared with what was planned for the file before it: ducks of all schools, filters, time and gain; what it holds is
// off from then on and the sum of it stays as it was planned; the next bounce is compared with the same plan until all of it has
// landed.
func TestLanded(t *testing.T) {
	outside.Slow(t)
	ctx := context.Background()
	comp := &move.Compressor{}
	*comp = move.Compressor{Threshold: -30, Ratio: 6, Attack: 1, Release: 90, Knee: 6}
	for school, duck := range map[string]*move.Duck{
		"curve":      {School: move.CurveSchool, Trigger: session.KickTrigger, Points: []move.Point{{MS: -4}, {MS: 0, DB: -9}, {MS: 60, DB: -9}, {MS: 150}}},
		"compressor": {School: move.CompressorSchool, Trigger: session.KickTrigger, Comp: comp},
	} {
		b := recordedPair(t)
		st := b.Song.Stem("b")
		st.Clip, st.Fader = -2, -1.5
		st.Moves = move.Chain{
			{ID: "high", Params: &move.Filter{Shape: dsp.Highpass, Hz: 45, Slope: 24, Q: 1}},
			{ID: "bell", Params: &move.Filter{Shape: dsp.Bell, Hz: 300, Q: 1, DB: -4}},
			{ID: "nudge", Params: &move.Nudge{MS: 2}},
			{ID: "duck-b", Params: duck},
		}
		if err := b.Song.Validate(); err != nil {
			t.Fatalf("%s: %v", school, err)
		}
		whole := strings.Repeat("d", 64)
		bounced(t, b, b.Song.Clone(), "b", whole)
		l, err := landed.On(ctx, b, "b", whole)
		if err != nil {
			t.Fatal(err)
		}
		if l.State() != landed.Yes || len(l.Other) > 0 {
			t.Errorf("%s: %s %+v %+v", school, l.Says(), l.Items, l.Found)
		}
		song := b.Song.Clone()
		if said, err := l.Edit(st, whole).Apply(&song); err != nil || said != "Bounce of b: landed" {
			t.Fatal(said, err)
		}
		now := song.Stem("b")
		if now.Clip != 0 || now.Fader != 0 || len(now.Moves.Active()) != 0 || now.Back == nil || !now.Back.All || now.Was != st.Audio {
			t.Errorf("%s: %+v", school, now)
		}
		if of, planned := now.PlannedFor(); of != whole || len(planned.Moves.Active()) != 0 {
			t.Errorf("the next bounce is planned for %s", of[:3])
		}

		// before its fader, the bell half, the corner elsewhere, no duck
		other := b.Song.Clone()
		o := other.Stem("b")
		o.Fader = 0
		o.Moves[0].Params = &move.Filter{Shape: dsp.Highpass, Hz: 60, Slope: 24, Q: 1}
		o.Moves[1].Params = &move.Filter{Shape: dsp.Bell, Hz: 300, Q: 1, DB: -2}
		o.Moves = slices.Delete(o.Moves, 3, 4)
		half := strings.Repeat("e", 64)
		bounced(t, b, other, "b", half)
		l, err = landed.On(ctx, b, "b", half)
		if err != nil {
			t.Fatal(err)
		}
		want := map[string]landed.State{"": landed.Yes, "high": landed.Partly, "bell": landed.Partly, "nudge": landed.Yes, "duck-b": landed.No}
		for _, i := range l.Items {
			if i.State != want[i.ID] {
				t.Errorf("%s: %+v, not %s", school, i, want[i.ID])
			}
		}
		if f := l.Found; math.Abs(f.Gain+2) > 0.1 || math.Abs(math.Log2(f.Filters[0].Hz/60)) > 1.0/6 || math.Abs(f.Filters[1].DB+2) > 1 ||
			math.Abs(f.Delay-2) > 0.1 ||
			l.State() != landed.Partly {
			t.Errorf("%s: %s %+v", school, l.Says(), f)
		}
		song = b.Song.Clone()
		if _, err := l.Edit(st, half).Apply(&song); err != nil {
			t.Fatal(err)
		}
		now = song.Stem("b")
		if now.Clip != 0 || now.Fader != -1.5 || len(now.Moves.Active()) != 1 || now.Back.Of != st.Audio || now.Back.All {
			t.Errorf("%s: %+v %+v", school, now, now.Back)
		}
		// the next is compared with the same plan, and then all of it has landed
		c := bench.New(b.Renderer, &song, b.Facts)
		l, err = landed.On(ctx, c, "b", whole)
		if err != nil {
			t.Fatal(err)
		}
		if l.State() != landed.Yes || l.Of != st.Audio {
			t.Errorf("%s, the second: %s %+v", school, l.Says(), l.Items)
		}
		if _, err := l.Edit(now, whole).Apply(&song); err != nil {
			t.Fatal(err)
		}
		if now = song.Stem("b"); now.Fader != 0 || len(now.Moves.Active()) != 0 || !now.Back.All {
			t.Errorf("%s: %+v", school, now)
		}
		// and what came last can be looked at again
		again, err := landed.On(ctx, bench.New(b.Renderer, &song, b.Facts), "b", whole)
		if err != nil || again.State() != landed.Yes || len(again.Items) != len(l.Items) {
			t.Errorf("%v %+v", err, again)
		}
	}
}

// A duck that is done exactly as planned has landed, also where the kick's own bounce came back late before it: it went
// by the hits as they were planned. One that was done by the late kick has landed too.
func TestLandedBesideALateKick(t *testing.T) {
	outside.Slow(t)
	b := recordedPair(t)
	st := b.Song.Stem("b")
	st.Clip = -2
	st.Moves = move.Chain{
		{
			ID:     "duck-b",
			Params: &move.Duck{School: move.CurveSchool, Trigger: session.KickTrigger, Points: []move.Point{{MS: -4}, {MS: 0, DB: -9}, {MS: 60, DB: -9}, {MS: 150}}},
		},
	}
	byPlan := strings.Repeat("d", 64)
	bounced(t, b, b.Song.Clone(), "b", byPlan)

	late := b.Song.Clone()
	late.Stem("c").Moves = move.Chain{{ID: "late", Params: &move.Nudge{MS: 3}}}
	lateKick := strings.Repeat("e", 64)
	bounced(t, b, late, "c", lateKick)
	k, err := landed.On(t.Context(), b, "c", lateKick)
	if err != nil {
		t.Fatal(err)
	}
	song := b.Song.Clone()
	if _, err := k.Edit(song.Stem("c"), lateKick).Apply(&song); err != nil {
		t.Fatal(err)
	}
	now := bench.New(b.Renderer, &song, b.Facts)
	byLate := strings.Repeat("f", 64)
	bounced(t, now, song.Clone(), "b", byLate)
	for what, file := range map[string]string{"by the plan": byPlan, "by the late kick": byLate} {
		l, err := landed.On(t.Context(), now, "b", file)
		if err != nil {
			t.Fatal(err)
		}
		if l.State() != landed.Yes || len(l.Other) > 0 {
			t.Errorf("ducked %s: %s; %+v", what, l.Says(), l.Found.Duck)
		}
	}
}

// What had landed and is not in the next bounce is told, and is on again; what was changed on purpose is not.
func TestLandedAndLost(t *testing.T) {
	outside.Slow(t)
	b := recordedPair(t)
	st := b.Song.Stem("b")
	st.Clip = -3
	st.Moves = move.Chain{{ID: "bell", Params: &move.Filter{Shape: dsp.Bell, Hz: 300, Q: 1, DB: -4}}}
	files := map[string]string{}
	for name, change := range map[string]func(*session.Stem){
		"whole":      func(*session.Stem) {},
		"no gain":    func(s *session.Stem) { s.Clip = 0 },
		"no bell":    func(s *session.Stem) { s.Moves = nil },
		"1 dB more":  func(s *session.Stem) { s.Clip = -2 },
		"as it came": func(s *session.Stem) { s.Clip, s.Moves = 0, nil },
	} {
		song := b.Song.Clone()
		change(song.Stem("b"))
		files[name] = strings.Repeat(string(rune('1'+len(files))), 64)
		bounced(t, b, song, "b", files[name])
	}
	l, err := landed.On(t.Context(), b, "b", files["whole"])
	if err != nil {
		t.Fatal(err)
	}
	song := b.Song.Clone()
	if _, err := l.Edit(st, files["whole"]).Apply(&song); err != nil || song.Stem("b").Clip != 0 || !song.Stem("b").Back.All {
		t.Fatalf("%v %+v", err, song.Stem("b"))
	}
	for name, want := range map[string]struct {
		lost  []string
		clip  float64
		bells int
	}{
		"no gain":    {[]string{"gain"}, -3, 0},
		"no bell":    {[]string{"filter"}, 0, 1},
		"as it came": {[]string{"gain", "filter"}, -3, 1},
		"1 dB more":  {nil, 0, 0},
	} {
		now := song.Clone()
		l, err := landed.On(t.Context(), bench.New(b.Renderer, &now, b.Facts), "b", files[name])
		if err != nil {
			t.Fatal(err)
		}
		if _, err := l.Edit(now.Stem("b"), files[name]).Apply(&now); err != nil {
			t.Fatal(err)
		}
		is := now.Stem("b")
		if !slices.Equal(l.Lost, want.lost) || math.Abs(is.Clip-want.clip) > 0.05 || len(is.Moves.Active()) != want.bells ||
			(want.lost != nil) != strings.Contains(l.Says(), "on again here") {
			t.Errorf("%s: lost %v, clip %g, %d moves on; %s", name, l.Lost, is.Clip, len(is.Moves.Active()), l.Says())
		}
	}
}
