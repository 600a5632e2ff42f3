package body_test

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/body"
	"mellowthump/core/demo"
	"mellowthump/core/facts"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// kettle is Copper Kettle on the bench with its break taken apart.
func kettle(t *testing.T) *bench.Bench {
	t.Helper()
	d := demo.CopperKettle()
	lib, known := &mix.Memory{}, map[string]*facts.Analysis{}
	put := func(sha string, x audio.Buffer) {
		lib.Put(sha, x)
		a, err := facts.Analyse(context.Background(), audio.Memory{Buffer: x}, sha, nil)
		if err == nil {
			err = facts.Describe(context.Background(), audio.Memory{Buffer: x}, a)
		}
		if err != nil {
			t.Fatal(err)
		}
		known[sha] = a
	}
	song := d.Song
	for i, s := range d.Stems {
		s.Audio = fmt.Sprintf("%064x", i+1)
		lib.Put(s.Audio, s.Sound)
		song.Stems = append(song.Stems, s.Stem)
		if s.ID != "break" {
			continue
		}
		parts, err := body.SplitWhole(context.Background(), audio.Memory{Buffer: s.Sound})
		if err != nil {
			t.Fatal(err)
		}
		for k, x := range []audio.Buffer{parts.Struck, parts.Sustained, parts.Rest} {
			put(fmt.Sprintf("%064x", 100+k), x)
		}
	}
	said, err := session.TakeApart{Stem: "break", Audio: song.Stem("break").Audio, Parts: map[session.PartKind]string{
		session.Struck: fmt.Sprintf("%064x", 100), session.Sustained: fmt.Sprintf("%064x", 101), session.Rest: fmt.Sprintf("%064x", 102)}}.Apply(&song)
	if err != nil || said != "Take Bounced break apart" {
		t.Fatalf("%q, %v", said, err)
	}
	return bench.New(mix.New(lib, 1<<29), &song, known)
}

// The demo's break, taken apart, is the break until something is done to a part; lowering what lasts brings its kick's clearance up by
// at least 4 dB while the break's loudness falls less than 1.5 LU; what was said is what is measured once it is done.
func TestCopperKettle(t *testing.T) {
	outside.Slow(t)
	ctx := context.Background()
	b := kettle(t)
	whole := b.Song.Clone()
	if _, err := (session.PutTogether{Stem: "break"}).Apply(&whole); err != nil {
		t.Fatal(err)
	}
	if len(whole.Stems) != 6 || whole.Stem("break").Mute {
		t.Errorf("put together: %d stems, muted %v", len(whole.Stems), whole.Stem("break").Mute)
	}
	apart, _, err := b.Renderer.Solo(ctx, b.Song, mix.SoloAll, b.Loop)
	if err != nil {
		t.Fatal(err)
	}
	one, _, err := b.Renderer.Solo(ctx, &whole, mix.SoloAll, b.Loop)
	if err != nil {
		t.Fatal(err)
	}
	for c := range one.Ch {
		for i, v := range one.Ch[c] {
			if d := math.Abs(float64(v - apart.Ch[c][i])); d > 1e-5 {
				t.Fatalf("the parts miss the break by %.1f dBFS", 20*math.Log10(d))
			}
		}
	}
	a, err := body.ApartOn(ctx, b, "break")
	if err != nil || a.Trouble != "" || a.Lowered == nil {
		t.Fatalf("%+v, %v", a, err)
	}
	l := a.Lowered
	t.Log(l.Says())
	if l.After.Clearance < l.Before.Clearance+4 || l.Before.Loudness-l.After.Loudness >= 1.5 {
		t.Errorf("%s (reached %v)", l.Says(), l.Reached)
	}
	if r := len(a.Now.Hits.Hits); r < 20 {
		t.Errorf("%d hits are judged", r)
	}
	found, err := body.BuriedOn(ctx, b)
	if err != nil || len(found) != 1 {
		t.Fatalf("%v, %v", found, err)
	}
	done := b.Song.Clone()
	for _, e := range found[0].Fix {
		if _, err := e.Apply(&done); err != nil {
			t.Fatal(err)
		}
	}
	after, err := body.ApartOn(ctx, bench.New(b.Renderer, &done, b.Facts), "break")
	if err != nil || math.Abs(float64(after.Now.Clearance-l.After.Clearance)) > 0.01 || math.Abs(float64(after.Before.Clearance-l.Before.Clearance)) > 0.01 {
		t.Errorf("said %.2f, is %.2f (%v)", float64(l.After.Clearance), float64(after.Now.Clearance), err)
	}
	if again, err := body.BuriedOn(ctx, bench.New(b.Renderer, &done, b.Facts)); err != nil || len(again) > 0 {
		t.Errorf("still told: %v, %v", again, err)
	}
}

// What cannot be taken apart is refused in a sentence, and changes nothing.
func TestTakeApartRefused(t *testing.T) {
	outside.Slow(t)
	b := kettle(t)
	for say, e := range map[string]session.TakeApart{
		"no longer there":      {Stem: "none"},
		"has another file now": {Stem: "keys", Audio: "x"},
		"is apart already":     {Stem: "break", Audio: b.Song.Stem("break").Audio},
		"is a part itself":     {Stem: b.Song.Parts("break")[0].ID, Audio: b.Song.Parts("break")[0].Audio},
	} {
		s := b.Song.Clone()
		if _, err := e.Apply(&s); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%q: %v", say, err)
		}
	}
}
