package bench_test

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/duck"
	"mellowthump/core/facts"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
	"mellowthump/internal/songs"
)

// The arrangement of an invented song, by the bar in which a part begins and the one before which it ends, at 96 bpm. The
// notes are the truth of who plays where; the sound is recorded instruments that ring on, with a pick-up before the beat sets
// in and a crash where it does.
var arrangement = []struct {
	name    string
	role    session.Role
	program int
	bars    [][2]int
	at      []float64 // beats of a bar
	length  float64   // beats
	keys    []int
	more    []sampled.Note // beats
}{
	{
		"Kick",
		session.Kick,
		sampled.Drums,
		[][2]int{{8, 24}, {28, 40}},
		[]float64{0, 1.5, 2.5},
		0.3,
		[]int{36},
		[]sampled.Note{{At: 8*4 - 0.5, End: 8 * 4, Key: 36, Velocity: 80}},
	},
	{"Bass", session.Bass, 33, [][2]int{{8, 24}, {28, 44}}, []float64{0, 2}, 1.8, []int{31}, nil},
	{
		"Kit",
		session.Perc,
		sampled.Drums,
		[][2]int{{8, 24}, {28, 40}},
		[]float64{0, 1, 2, 3},
		0.2,
		[]int{38, 42},
		[]sampled.Note{{At: 8 * 4, End: 8*4 + 3, Key: 49, Velocity: 110}},
	},
	{"Keys", session.Melodic, 4, [][2]int{{0, 40}}, []float64{0}, 3.8, []int{55, 58, 62}, nil},
	{"Strings", session.Melodic, 48, [][2]int{{16, 28}}, []float64{0}, 4, []int{67, 70}, nil},
	{"Chop", session.Effects, 54, [][2]int{{11, 12}, {19, 20}, {35, 36}}, []float64{0, 1}, 0.8, []int{74}, nil},
}

const arrangedBars, arrangedBPM = 44, 96.0

// arranged renders it.
func arranged(t *testing.T) *bench.Bench {
	t.Helper()
	beat := 60 / arrangedBPM
	var parts []songs.Part
	for i, p := range arrangement {
		programs, channel := map[int]int{}, 0
		if p.program == sampled.Drums {
			channel = sampled.Drums
			programs[channel] = 25
		} else {
			programs[0] = p.program
		}
		var notes []sampled.Note
		for _, n := range p.more {
			n.At, n.End, n.Channel = n.At*beat, n.End*beat, channel
			notes = append(notes, n)
		}
		for _, bars := range p.bars {
			for bar := bars[0]; bar < bars[1]; bar++ {
				for _, at := range p.at {
					for _, key := range p.keys {
						from := (4*float64(bar) + at) * beat
						notes = append(notes, sampled.Note{At: from, End: from + p.length*beat, Key: key, Velocity: 90, Channel: channel})
					}
				}
			}
		}
		slices.SortFunc(notes, func(a, b sampled.Note) int { return int(math.Copysign(1, a.At-b.At)) })
		parts = append(parts, songs.Part{ID: fmt.Sprint(i), Role: p.role, Sound: sampled.Play(t, programs, notes, arrangedBars*4*beat)})
	}
	b := songs.OnBench(t, parts...)
	for i := range b.Song.Stems {
		b.Song.Stems[i].Name = arrangement[i].name
	}
	b.Song.BPM = arrangedBPM
	return bench.New(b.Renderer, b.Song, b.Facts)
}

// Where parts come and go is found to the bar, tails, pick-up and a chopped voice notwithstanding, and the sections are named
// by who is missing.
func TestProposesSections(t *testing.T) {
	outside.Slow(t)
	b := arranged(t)
	got := b.ProposeSections()
	bar := b.Song.BarSeconds()
	want := []struct {
		bar  float64
		name string
	}{{0, "Intro"}, {8, "Verse"}, {16, "Hook"}, {24, "Break"}, {28, "Verse 2"}, {40, "Outro"}}
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for i, w := range want {
		if got[i].Name != w.name || math.Abs(got[i].From-w.bar*bar) > 1e-6 || got[i].Shallower != 0 {
			t.Errorf("%d: %q from %.3f, want %q from %.3f", i, got[i].Name, got[i].From, w.name, w.bar*bar)
		}
	}
	kick := b.PlaysIn(&b.Song.Stems[0])
	if len(kick) != 2 || math.Abs(kick[0].To-24*bar) > bar+1e-6 || math.Abs(kick[1].From-28*bar) > 1e-6 {
		t.Errorf("the kick plays in %+v", kick)
	}
	song := b.Song.Clone()
	said, err := session.SetSections{Sections: got, Said: "Sections"}.Apply(&song)
	if err != nil || said == "" || song.Validate() != nil {
		t.Error(said, err, song.Validate())
	}
}

// A song of one part throughout has one section, a short one and one of silence none.
func TestNoSections(t *testing.T) {
	outside.Slow(t)
	if got := songs.Beat(t).ProposeSections(); got != nil { // four bars
		t.Errorf("%+v", got)
	}
	long := audio.New(rate, 1, 16*2*rate)
	for i := range long.Ch[0] {
		long.Ch[0][i] = float32(0.3 * math.Sin(float64(i)/20))
	}
	if got := songs.OnBench(t, songs.Part{ID: "a", Role: session.Melodic, Sound: long}).ProposeSections(); len(got) != 1 || got[0].Name != "All in" ||
		got[0].From != 0 {
		t.Errorf("%+v", got)
	}
	if got := songs.OnBench(t, songs.Part{ID: "a", Role: session.Melodic, Sound: long}, songs.Part{ID: "b", Role: session.Kick, Sound: audio.New(rate, 1,
		16*2*rate)}).ProposeSections(); len(
		got,
	) != 1 {
		t.Errorf("with a silent kick: %+v", got)
	}
}

// sectioned is a kick over a bass in its way for 16 s at 120 bpm, with a drawn duck, in two sections of four bars.
func sectioned(t *testing.T) *bench.Bench {
	t.Helper()
	kick, bass := audio.New(rate, 1, 16*rate), audio.New(rate, 1, 16*rate)
	for h := range 32 {
		for i := range rate / 4 {
			s := float64(i) / rate
			kick.Ch[0][h*rate/2+i] += float32(0.7 * math.Sin(2*math.Pi*(52*s+1.5*(1-math.Exp(-s/0.01)))) * math.Exp(-s/0.08))
		}
	}
	for i := range bass.Ch[0] {
		bass.Ch[0][i] = float32(0.4 * math.Sin(2*math.Pi*46*float64(i)/rate))
	}
	b := songs.OnBench(t, songs.Part{ID: "c", Role: session.Kick, Sound: kick}, songs.Part{ID: "b", Role: session.Bass, Sound: bass})
	b.Song.SetDuck(
		&move.Duck{School: move.CurveSchool, Trigger: session.KickTrigger, Points: []move.Point{{MS: -5}, {MS: 0, DB: -12}, {MS: 100, DB: -12}, {MS: 200}}},
		false,
		"",
	)
	b.Song.Sections = []session.Section{{Name: "Verse"}, {Name: "Break", From: 8}}
	return bench.New(b.Renderer, b.Song, b.Facts)
}

func lowest(t *testing.T, b *bench.Bench, from, to float64) float64 {
	t.Helper()
	g, err := b.Renderer.Gain(context.Background(), b.Song, b.Song.Stem("b"), mix.Window{From: int(from * rate), To: int(to * rate)})
	if err != nil {
		t.Fatal(err)
	}
	return 20 * math.Log10(float64(slices.Min(g)))
}

// A duck goes less deep, or rests, in a section: in what is heard, and in what is judged.
func TestShallowSection(t *testing.T) {
	outside.Slow(t)
	for _, less := range []float64{0, 0.5, 1} {
		b := sectioned(t)
		b.Song.Sections[1].Shallower = less
		if v, w := lowest(t, b, 0, 7.9), lowest(t, b, 8.01, 15.9); math.Abs(v+12) > 0.01 || math.Abs(w+12*(1-less)) > 0.01 {
			t.Errorf("%g: %.2f dB in the verse, %.2f in the break", less, v, w)
		}
		verse, err := pair.On(t.Context(), b.Section(0))
		if err != nil || len(verse.After.Hits) != 16 {
			t.Fatalf("%v, %d hits", err, len(verse.After.Hits))
		}
		inBreak, err := pair.On(t.Context(), b.Section(1))
		switch {
		case less == 1:
			if !errors.Is(err, mix.ErrRests) || !strings.Contains(bench.Trouble(err), "rest") {
				t.Errorf("resting: %v", err)
			}
		case err != nil:
			t.Error(err)
		case less == 0 && math.Abs(float64(inBreak.After.ClearanceP10-verse.After.ClearanceP10)) > 0.3:
			t.Errorf("alike: %v and %v", inBreak.After.ClearanceP10, verse.After.ClearanceP10)
		case less == 0.5 && !(verse.After.ClearanceP10-inBreak.After.ClearanceP10 > 2):
			t.Errorf("half as deep: %v and %v", inBreak.After.ClearanceP10, verse.After.ClearanceP10)
		}
		b.Song.Loop = &session.Span{To: 16}
		st, err := pair.On(t.Context(), bench.New(b.Renderer, b.Song, b.Facts))
		if n := map[bool]int{true: 16, false: 32}[less == 1]; err != nil || len(st.After.Hits) != n || len(st.Before.Hits) != n {
			t.Errorf("%g: of the whole song %d hits are judged, %v", less, len(st.After.Hits), err)
		}
	}
}

// The stretch that is judged by itself is not one in which the ducks rest, however loud it is.
func TestLoopLeavesRestsOut(t *testing.T) {
	outside.Slow(t)
	loud := audio.New(rate, 1, 32*rate)
	for i := range loud.Ch[0] {
		loud.Ch[0][i] = float32(0.1 * math.Sin(float64(i)/100))
		if i < 16*rate {
			loud.Ch[0][i] *= 5
		}
	}
	b := songs.OnBench(t, songs.Part{ID: "b", Role: session.Bass, Sound: loud})
	if w := bench.New(b.Renderer, b.Song, b.Facts).Loop; w.From != 0 {
		t.Fatalf("%+v", w)
	}
	b.Song.Sections = []session.Section{{Name: "Loud", Shallower: 1}, {Name: "Soft", From: 16}}
	if w := bench.New(b.Renderer, b.Song, b.Facts).Loop; w.From != 16*rate {
		t.Errorf("judged from %d", w.From/rate)
	}
}

// A fit goes by the hits of which something is asked.
func TestFitLeavesRestsOut(t *testing.T) {
	b := sectioned(t)
	b.Song.SetDuck(nil, false, "")
	both, err := duck.FitOn(t.Context(), b, move.CurveSchool)
	if err != nil {
		t.Fatal(err)
	}
	b.Song.Sections[1].Shallower = 1
	one, err := duck.FitOn(t.Context(), bench.New(b.Renderer, b.Song, b.Facts), move.CurveSchool)
	if err != nil || one.Duck == nil || both.Duck == nil {
		t.Fatal(err, one, both)
	}
	if strings.Contains(both.Reason, "section") || !strings.HasSuffix(one.Reason, " By section it rests in Break.") {
		t.Errorf("it says %q, and before %q", one.Reason, both.Reason)
	}
	if !(one.Loss < both.Loss-0.1) {
		t.Errorf("over one section it costs %v dB of bass, over both %v", one.Loss, both.Loss)
	}
	song := b.Song.Clone()
	if _, err := duck.FitEdit(one).Apply(&song); err != nil || !song.Fitted() {
		t.Fatal(err)
	}
	song.Sections[0].Name = "Hook"
	if !song.Fitted() {
		t.Error("another name is no other fit")
	}
	song.Sections[1].Shallower = 0
	if song.Fitted() {
		t.Error("where the ducks rest no more the fit is to be made anew")
	}
}

// The levels of a section are those of its window, and one behind the end is none.
func TestSectionBench(t *testing.T) {
	b := sectioned(t)
	if w := b.Section(1).Whole(); w != (mix.Window{From: 8 * rate, To: 16 * rate}) {
		t.Errorf("%+v", w)
	}
	b.Song.Sections = append(b.Song.Sections, session.Section{Name: "Late", From: 20})
	if b.Section(2) != nil || b.Section(1) == nil {
		t.Error("a section behind the end")
	}
}

// Edges off the four-bar grid are found to the bar: a two-bar intro, a break of one bar, a pick-up of a beat before each edge, a tail
// of two beats after it, a fill and a stop of a bar that make none, a bar that rings on at the end.
func TestSectionsOffTheGrid(t *testing.T) {
	const bars, perBeat = 39, 8
	type stem struct {
		name  string
		role  session.Role
		beats []int    // of a bar
		bars  [][2]int // in which it plays
		more  []int    // beats from the start
	}
	made := func(stems []stem) *bench.Bench {
		var parts []songs.Part
		for i, s := range stems {
			parts = append(parts, songs.Part{ID: fmt.Sprint(i), Role: s.role, Sound: audio.New(rate, 1, bars*2*rate)})
		}
		b := songs.OnBench(t, parts...)
		for i, s := range stems {
			peaks := make([]float32, bars*4*perBeat)
			strike := func(beat int) {
				for k := range perBeat - 2 {
					peaks[beat*perBeat+k] = 0.5 / float32(k+1)
				}
			}
			for _, span := range s.bars {
				for bar := span[0]; bar < span[1]; bar++ {
					for _, beat := range s.beats {
						strike(4*bar + beat)
					}
				}
			}
			for _, beat := range s.more {
				strike(beat)
			}
			id := &b.Song.Stems[i]
			id.Name, id.Audio = s.name, fmt.Sprint(i)
			b.Facts[id.Audio] = &facts.Analysis{Facts: facts.Facts{DurationS: bars * 2}, Overview: peaks}
		}
		return bench.New(b.Renderer, b.Song, b.Facts)
	}
	all := []int{0, 1, 2, 3}
	b := made([]stem{
		{"Kick", session.Kick, []int{0, 2}, [][2]int{{2, 10}, {11, 21}, {25, 37}}, []int{7, 4*25 - 1, 4*21 + 1}},
		{"808", session.Bass, []int{0, 2, 3}, [][2]int{{2, 10}, {11, 21}, {25, 37}}, []int{7, 4*21 + 1}},
		{"Snare", session.Snare, []int{1, 3}, [][2]int{{2, 10}, {11, 21}, {25, 31}, {32, 37}}, []int{4*25 - 1}},
		{"Keys", session.Melodic, all, [][2]int{{0, 38}}, nil},
		{"Lead", session.Melodic, all, [][2]int{{11, 21}}, []int{4*11 - 1}},
		{"Tom", session.Perc, all, [][2]int{{9, 10}, {20, 21}}, nil},
	})
	var got []float64
	var names []string
	for _, s := range b.ProposeSections() {
		got, names = append(got, s.From/b.Song.BarSeconds()), append(names, s.Name)
	}
	if want := []float64{0, 2, 10, 11, 21, 25}; !slices.Equal(got, want) {
		t.Errorf("edges at bars %v, want %v", got, want)
	}
	if want := []string{"Intro", "Verse", "Break", "Hook", "Break 2", "Verse 2"}; !slices.Equal(names, want) {
		t.Errorf("they are called %q, want %q", names, want)
	}
	if got := b.Missing(4, 20); !slices.Equal(got, []string{"Lead", "Tom"}) {
		t.Errorf("the verse is without %q", got)
	}
}
