package bench_test

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/bench"
	"mellowthump/core/duck"
	"mellowthump/core/facts"
	"mellowthump/core/find"
	"mellowthump/core/intake"
	"mellowthump/core/levels"
	"mellowthump/core/mix"
	"mellowthump/core/pair"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
	"mellowthump/internal/songs"
)

const rate = 44100

// A loop that was chosen in a longer song and now ends beyond the sound is cut to it; one that begins beyond it is found
// anew.
func TestLoop(t *testing.T) {
	b := songs.Beat(t)
	for _, c := range []struct {
		span *session.Span
		want mix.Window
		auto bool
	}{{nil, mix.Window{To: 8 * rate}, true}, {&session.Span{From: 2, To: 100}, mix.Window{From: 2 * rate, To: 8 * rate}, false}, {&session.Span{From: 50,
		To: 100}, mix.Window{To: 8 * rate}, true}} {
		b.Song.Loop = c.span
		b := bench.New(b.Renderer, b.Song, b.Facts)
		if w, auto := b.Loop, b.Auto; w != c.want || auto != c.auto {
			t.Errorf("%+v gives %v, %t", c.span, w, auto)
		}
	}
}

// What is asked twice is worked out once; what its asker gave up is worked out for the next; and nothing is worked out
// that nobody asks for.
func TestOnce(t *testing.T) {
	b := songs.Beat(t)
	if b.Renderer.Cache.Made() != 0 {
		t.Error("a bench measures before it is asked")
	}
	gone, cancel := context.WithCancel(context.Background())
	cancel()
	if _, err := pair.On(gone, b); !errors.Is(err, context.Canceled) {
		t.Errorf("an asker that went away gets %v", err)
	}
	first, err := pair.On(context.Background(), b)
	if err != nil {
		t.Fatal(err)
	}
	made := b.Renderer.Cache.Made()
	if again, _ := pair.On(context.Background(), b); again != first || b.Renderer.Cache.Made() != made {
		t.Error("it is worked out twice")
	}
}

// Findings have ids that stay while their numbers move; put aside they are not told, with their reason, until they are
// taken back.
func TestFindings(t *testing.T) {
	b := songs.Beat(t)
	ctx := context.Background()
	under := func(all []find.Finding) (f find.Finding) {
		f, _ = find.Of(all, "under")
		return f
	}
	all, err := pocket.Stage.Findings(ctx, b, b.Loop)
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
	next := bench.New(b.Renderer, &song, b.Facts)
	all, err = pocket.Stage.Findings(ctx, next, next.Loop)
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
	judged, err := duck.Stage.Findings(ctx, b, b.Loop)
	if err != nil || len(judged) == 0 || judged[0].Stage != "duck" {
		t.Errorf("on Duck: %+v, %v", judged, err)
	}
	levels, err := levels.Stage.Findings(ctx, b, b.Loop)
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
	b := songs.Beat(t)
	for i := range 2 {
		st := b.Song.Stems[1]
		st.ID, st.Name = st.ID+strings.Repeat("x", i+1), "copy"
		b.Song.Stems = append(b.Song.Stems, st)
	}
	var told []string
	for _, f := range intake.FindingsOn(b) {
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
	known := map[string]*facts.Analysis{}
	song := session.New("Test", 120)
	r := rand.New(rand.NewPCG(1, 2))
	for i := range session.MaxStems {
		a := &facts.Analysis{Portrait: &facts.Portrait{Signature: make([]float32, 512)}}
		a.DurationS = 180
		for k := range a.Portrait.Signature {
			a.Portrait.Signature[k] = float32(r.NormFloat64())
		}
		sha := fmt.Sprintf("%064x", i)
		known[sha] = a
		song.Stems = append(song.Stems, session.Stem{ID: fmt.Sprint("s", i), Audio: sha, Role: session.Other})
	}
	for b.Loop() {
		intake.FindingsOn(bench.New(mix.New(&mix.Memory{}, 1<<24), &song, known))
	}
}
