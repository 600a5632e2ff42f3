package compare_test

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/compare"
	"mellowthump/core/demo"
	"mellowthump/core/facts"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
	"mellowthump/internal/songs"
)

// onBench puts a demo song on the bench, with its finished tracks.
func onBench(t *testing.T, d demo.Song) *bench.Bench {
	t.Helper()
	lib, song := &mix.Memory{}, d.Song
	known := map[string]*facts.Analysis{}
	for i, s := range d.Stems {
		s.Audio = fmt.Sprintf("%064x", i+1)
		lib.Put(s.Audio, s.Sound)
		song.Stems = append(song.Stems, s.Stem)
		a, err := facts.Analyse(context.Background(), audio.Memory{Buffer: s.Sound}, s.Name, nil)
		if err != nil {
			t.Fatal(err)
		}
		known[s.Audio] = a
	}
	for i, f := range d.Finished {
		sha := fmt.Sprintf("%064x", 1000+i)
		lib.Put(sha, f.Sound)
		song.References = append(song.References, session.Reference{ID: fmt.Sprintf("r%d", i+1), Name: f.Name, Audio: sha})
	}
	return bench.New(mix.New(lib, 1<<30), &song, known)
}

// Of the beat's pure bass and thump nothing is heard on the phone: no note, no hit; in a club all of it is.
func TestDevices(t *testing.T) {
	b := songs.Beat(t)
	all, err := compare.DevicesOn(context.Background(), b)
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
	found, err := compare.Findings(ctx, b)
	if err != nil || len(found) == 0 {
		t.Fatalf("%+v %v", found, err)
	}
	ref := b.Song.References[0]
	turns, err := compare.TurnsOn(ctx, b, ref)
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
		again := bench.New(b.Renderer, &song, b.Facts)
		again.Loop = b.Loop
		_, _, err := compare.MixSound(ctx, again)
		if err != nil {
			t.Fatal(err)
		}
		left := math.NaN()
		others, err := compare.TurnsOn(ctx, again, ref)
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
	own, free, err := compare.KicksOn(ctx, b, ref)
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
	if found, err := compare.Findings(ctx, b); found != nil || err != nil {
		t.Errorf("%+v %v", found, err)
	}
	if !strings.Contains(ref.Name, "Harbour") {
		t.Error(ref.Name)
	}
}

// BenchmarkListening switches what the deck's loop is heard on: eight bars of the demo; 150 ms are asked for both sides.
func BenchmarkListening(b *testing.B) {
	r, song, w := songs.FerryLoop()
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
