package bench

import (
	"context"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/find"
	"mellowthump/core/intake"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

const rate = 44100

// beat is a kick over a bass that is in its way, eight seconds long, on the bench.
func beat(t *testing.T) *Bench {
	t.Helper()
	kick, bass := audio.New(rate, 1, 8*rate), audio.New(rate, 1, 8*rate)
	for h := 0; h < 16; h++ {
		for i := range rate / 4 {
			s := float64(i) / rate
			kick.Ch[0][h*rate/2+i] += float32(0.7 * math.Sin(2*math.Pi*(52*s+1.5*(1-math.Exp(-s/0.01)))) * math.Exp(-s/0.08))
		}
	}
	for i := range bass.Ch[0] {
		bass.Ch[0][i] = float32(0.4 * math.Sin(2*math.Pi*46*float64(i)/rate))
	}
	return withParts(t, part{"k", session.Kick, kick}, part{"b", session.Bass, bass})
}

// part is a stem of a song on the bench; its file is its id, 64 times.
type part struct {
	id   string
	role session.Role
	b    audio.Buffer
}

// withParts is a song of some parts on the bench.
func withParts(t *testing.T, parts ...part) *Bench {
	t.Helper()
	lib := &mix.Memory{}
	song := session.New("Test", 120)
	song.Rate = rate
	facts := map[string]*intake.Analysis{}
	for _, s := range parts {
		sha := strings.Repeat(s.id, 64)
		lib.Put(sha, s.b)
		a, err := intake.Analyse(context.Background(), audio.Memory{Buffer: s.b}, s.id, nil)
		if err == nil {
			err = intake.Describe(context.Background(), audio.Memory{Buffer: s.b}, a)
		}
		if err != nil {
			t.Fatal(err)
		}
		facts[sha] = a
		song.Stems = append(song.Stems, session.Stem{ID: s.id, Name: s.id, Role: s.role, Audio: sha})
	}
	song.Settle()
	return New(mix.New(lib, 1<<28), &song, facts)
}

// A loop that was chosen in a longer song and now ends beyond the sound is cut to it; one that begins beyond it is found
// anew.
func TestLoop(t *testing.T) {
	b := beat(t)
	for _, c := range []struct {
		span *session.Span
		want mix.Window
		auto bool
	}{{nil, mix.Window{To: 8 * rate}, true}, {&session.Span{From: 2, To: 100}, mix.Window{From: 2 * rate, To: 8 * rate}, false}, {&session.Span{From: 50, To: 100}, mix.Window{To: 8 * rate}, true}} {
		b.Song.Loop = c.span
		if w, auto := b.loop(); w != c.want || auto != c.auto {
			t.Errorf("%+v gives %v, %t", c.span, w, auto)
		}
	}
}

// What is asked twice is worked out once; what its asker gave up is worked out for the next; and nothing is worked out
// that nobody asks for.
func TestOnce(t *testing.T) {
	b := beat(t)
	if b.Renderer.Cache.Made() != 0 {
		t.Error("a bench measures before it is asked")
	}
	gone, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := b.Pair(gone); !errors.Is(err, context.Canceled) {
		t.Errorf("an asker that went away gets %v", err)
	}
	first, err := b.Pair(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	made := b.Renderer.Cache.Made()
	if again, _ := b.Pair(context.Background()); again != first || b.Renderer.Cache.Made() != made {
		t.Error("it is worked out twice")
	}
	if b.agree.done {
		t.Error("judging the pair has worked the agreement out")
	}
}

// Findings have ids that stay while their numbers move; put aside they are not told, with their reason, until they are
// taken back.
func TestFindings(t *testing.T) {
	b := beat(t)
	ctx := context.Background()
	under := func(all []find.Finding) (f find.Finding) {
		f, _ = find.Of(all, "under")
		return f
	}
	all, err := b.Pocket(ctx)
	if err != nil {
		t.Fatal(err)
	}
	f := under(all)
	if f.Stage != "pocket" || f.Other != "duck" {
		t.Fatalf("found %+v", all)
	}
	song := *b.Song
	if _, err := (session.Dismiss{Dismissal: session.Dismissal{Stage: f.Stage, Finding: f.ID, What: f.What, Why: "it is meant so"}}).Apply(&song); err != nil {
		t.Fatal(err)
	}
	song.Targets.Clearance = 7 // the number moves
	next := New(b.Renderer, &song, b.Facts)
	all, err = next.Pocket(ctx)
	if err != nil {
		t.Fatal(err)
	}
	open, aside := find.Open(&song, all)
	if under(open).ID != "" || len(aside) != 1 || aside[0].Reason != "it is meant so" || aside[0].What == f.What {
		t.Errorf("put aside, %+v are open and %+v aside", open, aside)
	}
	if said, err := (session.Reopen{Stage: "pocket", Finding: "under"}).Apply(&song); err != nil || !strings.Contains(said, f.What) {
		t.Errorf("taken back it says %q, %v", said, err)
	}
	if open, aside = find.Open(&song, all); under(open).ID == "" || len(aside) != 0 {
		t.Error("taken back it is not told")
	}
	if _, err := (session.Reopen{Stage: "pocket", Finding: "under"}).Apply(&song); err == nil {
		t.Error("it is taken back twice")
	}
	judged, err := b.Duck(ctx)
	if err != nil || len(judged) == 0 || judged[0].Stage != "duck" {
		t.Errorf("on Duck: %+v, %v", judged, err)
	}
	levels, err := b.Levels(ctx, b.Loop)
	if err != nil || len(levels) == 0 {
		t.Fatalf("on Levels: %+v, %v", levels, err)
	}
	for _, l := range levels {
		if l.Stage != "levels" || l.ID == "" {
			t.Errorf("%+v", l)
		}
	}
}

// Twins are told once each, by the first stem that they are like.
func TestTwins(t *testing.T) {
	outside.Slow(t)
	b := beat(t)
	for i := range 2 {
		st := b.Song.Stems[1]
		st.ID, st.Name = st.ID+strings.Repeat("x", i+1), "copy"
		b.Song.Stems = append(b.Song.Stems, st)
	}
	var told []string
	for _, f := range b.Intake() {
		if strings.HasPrefix(f.ID, "twin.") {
			told = append(told, f.ID+": "+f.What)
		}
	}
	if want := []string{"twin.bx: the same sound as b", "twin.bxx: the same sound as b"}; !slices.Equal(told, want) {
		t.Errorf("told %q", told)
	}
}

// BenchmarkTwins compares the files of two hundred stems, all different, for the first time.
func BenchmarkTwins(b *testing.B) {
	facts := map[string]*intake.Analysis{}
	song := session.New("Test", 120)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range session.MaxStems {
		a := &intake.Analysis{Portrait: &intake.Portrait{Signature: make([]float32, 512)}}
		a.DurationS = 180
		for k := range a.Portrait.Signature {
			a.Portrait.Signature[k] = float32(r.NormFloat64())
		}
		sha := fmt.Sprintf("%064x", i)
		facts[sha] = a
		song.Stems = append(song.Stems, session.Stem{ID: fmt.Sprint("s", i), Audio: sha, Role: session.Other})
	}
	for b.Loop() {
		New(mix.New(&mix.Memory{}, 1<<24), &song, facts).twins()
	}
}
