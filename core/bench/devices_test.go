package bench

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/compare"
	"mellowthump/core/demo"
	"mellowthump/core/intake"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// onBench puts a demo song on the bench, with its finished tracks.
func onBench(t *testing.T, d demo.Song) *Bench {
	t.Helper()
	lib, song := &mix.Memory{}, d.Song
	facts := map[string]*intake.Analysis{}
	for i, s := range d.Stems {
		s.Audio = fmt.Sprintf("%064x", i+1)
		lib.Put(s.Audio, s.Sound)
		song.Stems = append(song.Stems, s.Stem)
		a, err := intake.Analyse(context.Background(), audio.Memory{Buffer: s.Sound}, s.Name, nil)
		if err != nil {
			t.Fatal(err)
		}
		facts[s.Audio] = a
	}
	for i, f := range d.Finished {
		sha := fmt.Sprintf("%064x", 1000+i)
		lib.Put(sha, f.Sound)
		song.References = append(song.References, session.Reference{ID: fmt.Sprintf("r%d", i+1), Name: f.Name, Audio: sha})
	}
	return New(mix.New(lib, 1<<30), &song, facts)
}

// Of the beat's pure bass and thump nothing is heard on the phone: no note, no hit; in a club all of it is.
func TestDevices(t *testing.T) {
	b := beat(t)
	all, err := b.Devices(context.Background())
	if err != nil || len(all) != 6 {
		t.Fatalf("%d %v", len(all), err)
	}
	for _, v := range all {
		if v.ID == "phone" && (len(v.Vanished.Unheard) != v.Hits || v.Hits < 10 || v.Lost < 10) {
			t.Errorf("phone: %d of %d hits, %.1f dB", len(v.Vanished.Unheard), v.Hits, float64(v.Lost))
		}
		if v.ID == "club" && (len(v.Vanished.Unheard) != 0 || v.Lost > 0) {
			t.Errorf("club: %d hits unheard, %.1f dB", len(v.Vanished.Unheard), float64(v.Lost))
		}
	}
}

// The demo Tidal Glass against its finished track: the sub is named, turning it by what is said brings its octave to what is
// said, as rendered anew, and all bands nearer; the kick of the finished track stands free; without a track, and against
// itself, nothing is told.
func TestTidalGlass(t *testing.T) {
	outside.Slow(t)
	ctx := context.Background()
	b := onBench(t, demo.TidalGlass())
	found, err := b.Compare(ctx)
	if err != nil || len(found) == 0 {
		t.Fatalf("%+v %v", found, err)
	}
	ref := b.Song.References[0]
	turns, err := b.Turns(ctx, ref)
	if err != nil {
		t.Fatal(err)
	}
	sub := false
	for _, turn := range turns {
		if turn.Edit == nil {
			continue
		}
		sub = sub || turn.Stem.ID == "sub" && turn.DB < 0
		song := b.Song.Clone()
		if _, err := turn.Edit.Apply(&song); err != nil {
			t.Fatal(err)
		}
		again := New(b.Renderer, &song, b.Facts)
		again.Loop = b.Loop
		_, _, err := again.MixSound(ctx)
		if err != nil {
			t.Fatal(err)
		}
		left := math.NaN()
		others, err := again.Turns(ctx, ref)
		if err != nil {
			t.Fatal(err)
		}
		for _, o := range others {
			if o.Hz == turn.Hz {
				left = o.Off
			}
		}
		if !math.IsNaN(left) && math.Abs(left-float64(turn.Left)) > 0.05 || math.IsNaN(left) && math.Abs(float64(turn.Left)) > 3+0.05 && len(others) < 3 {
			t.Errorf("%.0f Hz: off by %.2f after, said %.2f", turn.Hz, left, float64(turn.Left))
		}
		if !(turn.All[1] < turn.All[0]+0.5) {
			t.Errorf("%.0f Hz: all bands go from %.2f to %.2f", turn.Hz, turn.All[0], turn.All[1])
		}
	}
	if !sub {
		t.Errorf("the sub is not told: %+v", turns)
	}
	own, free, err := b.Kicks(ctx, ref)
	if err != nil || own.Count < 10 || free.Count < 8 || math.Abs(float64(free.Hz)-52) > 5 {
		t.Errorf("%+v %+v %v", own, free, err)
	}
	if span, err := b.LoudestOf(ctx, ref, 15); err != nil || span.To-span.From != 15 || span.From < 7 {
		t.Errorf("%+v %v", span, err) // past the bars of kick and hats alone
	}
	loop, err := b.ReferenceLoop(ctx, ref, mix.Window{To: 60 * 44100})
	if err != nil || loop.Frames() != 60*44100 { // it is shorter: it begins again
		t.Errorf("%d frames, %v", loop.Frames(), err)
	}
	b.Song.References = nil
	if found, err := b.Compare(ctx); found != nil || err != nil {
		t.Errorf("%+v %v", found, err)
	}
	if !strings.Contains(ref.Name, "Harbour") {
		t.Error(ref.Name)
	}
}

// BenchmarkListening switches what the deck's loop is heard on: eight bars of the demo; 150 ms are asked for both sides.
func BenchmarkListening(b *testing.B) {
	r, song, w := ferryLoop()
	x, err := r.Looped(context.Background(), song, mix.SoloAll, w)
	if err != nil {
		b.Fatal(err)
	}
	for _, through := range listened() {
		b.Run(through.ID, func(b *testing.B) {
			for b.Loop() {
				if _, err := through.Listen(x, 83); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// listened are the ways of listening that cost something.
func listened() []compare.Through { return compare.Throughs[3:] }
