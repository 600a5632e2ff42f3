package runsheet

import (
	"context"
	"errors"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/bench"
	"mellowthump/core/demo"
	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/core/stage"
	"mellowthump/core/stages"
	"mellowthump/internal/outside"
	"mellowthump/internal/songs"
)

func sheetOf(t *testing.T, d demo.Song, c Choice) (*Sheet, *mix.Renderer, *session.Song, map[string]*facts.Analysis) {
	t.Helper()
	r, song, known := brought(t, d)
	s, err := Make(t.Context(), r, song, known, c, nil)
	if err != nil {
		t.Fatal(err)
	}
	return s, r, song, known
}

// On beats in which nothing is wrong the sheet is empty, and nothing is changed.
func TestClean(t *testing.T) {
	outside.Slow(t)
	for i, b := range beats {
		s, _, song, _ := sheetOf(t, b.song(nil), Choice{})
		for _, r := range s.Rows {
			t.Errorf("beat %d: %s: %s (%s)", i, r.Key, r.What(), r.Do)
		}
		for _, c := range s.Won {
			if c.Moved() {
				t.Errorf("beat %d: nothing is done, and %s", i, c)
			}
		}
		if len(s.Won) < 8 || s.Count() != 0 || s.Moves() != 0 || len(s.Left) > 0 || s.Trouble != "" || s.Now != nil && len(s.Now.Stems) != len(song.Stems) {
			t.Errorf("beat %d: %d figures, left %q, %s", i, len(s.Won), s.Left, s.Trouble)
		}
	}
}

// stem finds a stem of a song to be changed.
func stem(s *demo.Song, id string) *demo.Stem {
	i := slices.IndexFunc(s.Stems, func(st demo.Stem) bool { return st.ID == id })
	return &s.Stems[i]
}

// add adds a sound to another, as loud as it is.
func add(to audio.Buffer, f func(t float64) float64) {
	for _, ch := range to.Ch {
		for i := range ch {
			ch[i] += float32(f(float64(i) / beatRate))
		}
	}
}

// faults are what is planted in the beats, with the row that mends it.
var faults = []struct {
	name, row string
	beat      int
	plant     func(b beat, s *demo.Song)
}{
	{"17 cents sharp", "intake/tune", 0, func(b beat, s *demo.Song) { stem(s, "bass").Sound = b.bassSound(even, 17, false) }},
	{"a flipped layer", "intake/layer-upside-down.top", 1, func(b beat, s *demo.Song) {
		top := b.kickSound()
		for i := range top.Ch[0] {
			top.Ch[0][i] *= -0.4
		}
		s.Stems = slices.Insert(s.Stems, 1, demo.Stem{Stem: session.Stem{ID: "top", Name: "Kick top", Role: session.Kick}, Sound: top})
	}},
	{"a hot bus", "levels/plan", 2, func(_ beat, s *demo.Song) {
		s.Buses = []session.Bus{{ID: "drums", Name: "Drums"}}
		for _, id := range []string{"kick", "snare", "hats"} {
			stem(s, id).Bus = "drums"
		}
		for _, id := range []string{"kick", "snare", "hats", "bass", "keys"} { // the balance is right, all of it is too loud
			peak := meter.PeakDB(stem(s, id).Sound.Ch...)
			peaking(stem(s, id).Sound, float64(peak)+7)
		}
	}},
	{"a locked fader", "levels/plan", 0, func(_ beat, s *demo.Song) {
		peaking(stem(s, "snare").Sound, -2)
		stem(s, "snare").Locks = []session.Step{session.TrackStep}
	}},
	{"box", "room/box.snare", 1, func(b beat, s *demo.Song) { stem(s, "snare").Sound = b.snareSound(1) }},
	{"rumble", "room/cut", 2, func(_ beat, s *demo.Song) {
		add(stem(s, "keys").Sound, func(t float64) float64 { return 0.03 * math.Sin(2*math.Pi*27*t) })
	}},
	{"a covered lead", "room/covers.keys.lead", 0, func(b beat, s *demo.Song) {
		s.Stems = append(s.Stems, demo.Stem{Stem: session.Stem{ID: "lead", Name: "Lead", Role: session.Melodic}, Sound: b.keySound(1500, 2500, -14.9, 40)})
		stem(s, "keys").Sound = b.keySound(1300, 3000, -12.2, 30)
	}},
	{"uneven notes", "body/uneven.bass", 1, func(b beat, s *demo.Song) {
		stem(s, "bass").Sound = b.bassSound(func(i int) float64 { return []float64{1, 0.55, 0.8}[i%3] }, 0, false)
	}},
	{"an unheard bass", "body/unheard.phone", 2, func(b beat, s *demo.Song) { stem(s, "bass").Sound = b.bassSound(even, 0, true) }},
	{"a wide sub", "width/wide.bass", 0, func(_ beat, s *demo.Song) {
		x := stem(s, "bass")
		wide := audio.New(beatRate, 2, x.Sound.Frames())
		late := beatRate / 200 // its own low end, 5 ms later and upside down, is its side
		for i, v := range x.Sound.Ch[0] {
			side := float32(0)
			if i >= late {
				side = -0.7 * x.Sound.Ch[0][i-late]
			}
			wide.Ch[0][i], wide.Ch[1][i] = v+side, v-side
		}
		x.Sound = peaking(wide, -9)
	}},
}

// Every fault that is planted in a clean beat is on the sheet, in the order of the work, with a change that mends it by its
// own figure: judged again, in another renderer, it is gone. What the sheet promised is what is measured there. Common
// practice and own definitions; the faults are invented.
func TestFaults(t *testing.T) {
	outside.Slow(t)
	for _, f := range faults {
		t.Run(f.name, func(t *testing.T) {
			b := beats[f.beat]
			d := b.song(func(s *demo.Song) { f.plant(b, s) })
			s, _, song, known := sheetOf(t, d, Choice{On: []string{f.row}})
			i := slices.IndexFunc(s.Rows, func(r Row) bool { return r.Key == f.row })
			if i < 0 {
				t.Fatalf("no row %s, but %v", f.row, keys(s))
			}
			r := s.Rows[i]
			if r.Edit == nil || !r.Kept || len(r.Own) == 0 || !slices.ContainsFunc(r.Own, Change.Better) {
				t.Errorf("%s: %s; kept %t, own %v, breaks %q", r.What(), r.Do, r.Kept, r.Own, r.Broke)
			}
			inOrder(t, s)
			after := song.Clone()
			for _, r := range s.Kept() {
				if _, err := r.Named().Apply(&after); err != nil {
					t.Fatal(err)
				}
			}
			fresh, _, _ := brought(t, d)
			on := bench.New(fresh, &after, known)
			for _, st := range stages.All {
				if st.Key != r.Stage && !(r.Stage == "intake" && st.Key == "pocket") {
					continue
				}
				left, err := st.Findings(t.Context(), on, on.Whole())
				if err != nil {
					t.Fatal(err)
				}
				for _, was := range r.Found {
					if is, ok := find.Of(left, was.ID); ok && st.Key != "intake" && was.Kind() != "cellar" {
						t.Errorf("after it %s says still: %s", st.Key, is.What)
					}
				}
			}
			held(t, fresh, &after, known, s)
			if st := after.Stem("snare"); f.name == "a locked fader" && (st.Fader != 0 || st.Source+st.Clip > -4) {
				t.Errorf("the locked fader stands at %g dB, the steps before it at %g", st.Fader, st.Source+st.Clip)
			}
		})
	}
}

func keys(s *Sheet) []string {
	var out []string
	for _, r := range s.Rows {
		out = append(out, r.Key)
	}
	return out
}

// inOrder checks that the rows stand in the order of the work.
func inOrder(t *testing.T, s *Sheet) {
	t.Helper()
	last := -1
	for _, r := range s.Rows {
		at := slices.IndexFunc(stages.All, func(st *stage.Stage) bool { return st.Key == r.Stage })
		if strings.HasSuffix(r.Key, "/"+againID) {
			continue
		}
		if at < last {
			t.Errorf("%s stands after a later stage: %v", r.Key, keys(s))
		}
		last = at
	}
}

// held checks that what a sheet says was won is measured of the song that it leads to, figure by figure, as shown.
func held(t *testing.T, r *mix.Renderer, after *session.Song, known map[string]*facts.Analysis, s *Sheet) {
	t.Helper()
	on := bench.New(r, after, known)
	for _, m := range won(on) {
		taken, _ := stages.Figure(m.Figure)
		f, err := taken.Take(t.Context(), on, m)
		if err != nil {
			t.Fatal(err)
		}
		i := slices.IndexFunc(s.Won, func(c Change) bool { return c.Name == called(m) })
		if i < 0 {
			if f.Valid() {
				t.Errorf("%s is not on the sheet", called(m))
			}
			continue
		}
		if got, want := s.Won[i].Said(f), s.Won[i].Said(s.Won[i].After); got != want {
			t.Errorf("the sheet promised %s %s, and it is %s", called(m), want, got)
		}
	}
}

// The demo songs: what their stages find is on the sheet, in order; what is proposed is measured so; and no figure of an
// earlier stage that was where it should be leaves it unsaid.
func TestDemos(t *testing.T) {
	outside.Slow(t)
	want := [][]string{
		{
			"intake/tune",
			"intake/layer-upside-down.kick-top",
			"levels/plan",
			"duck/fit",
			"room/cut",
			"room/box.snare",
			"body/uneven.bass",
			"body/unheard.phone",
			"width/wide.pad",
		},
		{"levels/plan", "duck/fit", "body/unheard.phone"},
		{"levels/plan", "duck/fit", "room/mud.keys", "width/wide.keys"},
	}
	for i, d := range []demo.Song{songs.FirstHalf(songs.SlowFerry()), songs.CopperKettle(), songs.FirstHalf(songs.TidalGlass())} {
		t.Run(d.Name, func(t *testing.T) {
			s, r, song, known := sheetOf(t, d, Choice{})
			for _, st := range stages.All { // a finding says what its fix is for, or that it is a matter of taste
				on := bench.New(r, song, known)
				all, err := st.Findings(t.Context(), on, on.Whole())
				if err != nil {
					t.Fatal(err)
				}
				for _, f := range all {
					if len(f.Fix) > 0 && len(f.Own) == 0 && f.Taste == "" && f.Kind() != "thrown-away" { // which changes nothing that is heard
						t.Errorf("%s does not say what its fix is for", f.ID)
					}
				}
			}
			for _, k := range want[i] {
				if !slices.Contains(keys(s), k) {
					t.Errorf("no row %s in %v", k, keys(s))
				}
			}
			inOrder(t, s)
			after := song.Clone()
			for _, r := range s.Kept() {
				if said, err := r.Named().Apply(&after); err != nil || said == "" {
					t.Fatalf("%s: %q, %v", r.Key, said, err)
				}
			}
			fresh, _, _ := brought(t, d)
			held(t, fresh, &after, known, s)
			on := bench.New(fresh, &after, known)
			for _, r := range s.Rows {
				if !r.Kept {
					continue
				}
				for _, c := range r.Own {
					for _, m := range r.own {
						taken, _ := stages.Figure(m.Figure)
						f, err := taken.Take(t.Context(), on, m)
						if err != nil {
							t.Fatal(err)
						}
						said := slices.ContainsFunc(s.Left, func(l string) bool { return strings.HasPrefix(l, c.Name) })
						if m.Figure == c.Key && c.In() && c.Bracket.Off(f) > c.step() && !said && !s.replaced(r.Key) {
							t.Errorf("%s brought %s, and at the end it is %s: nothing says so", r.Key, c, c.Said(f))
						}
					}
				}
			}
		})
	}
}

// replaced reports whether a later row does over what one did.
func (s *Sheet) replaced(key string) bool {
	return key == rowOf(find.Plan) && slices.ContainsFunc(s.Rows, func(r Row) bool { return r.Key == "levels/"+againID && r.Kept })
}

// What is not ticked is not done, and what is below is measured without it; an order of one's own is kept.
func TestChoice(t *testing.T) {
	b := beats[0]
	d := b.song(func(s *demo.Song) {
		faults[0].plant(b, s)
		faults[3].plant(b, s)
	})
	all, r, song, known := sheetOf(t, d, Choice{})
	if got := keys(all); !slices.Equal(got[:2], []string{"intake/tune", "levels/plan"}) || !all.Rows[0].Tick || !all.Rows[1].Tick {
		t.Fatalf("proposed: %v", got)
	}
	without, err := Make(t.Context(), r, song, known, Choice{Off: []string{"levels/plan"}, First: []string{"levels/plan"}}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if got := keys(without); !slices.Equal(got[:2], []string{"levels/plan", "intake/tune"}) {
		t.Errorf("with levels first: %v", got)
	}
	if p := without.Rows[0]; p.Tick || p.Kept || p.Now == nil || without.Rows[1].Was.Stem("snare").Source != 0 || p.Now.Stem("snare").Source == 0 {
		t.Errorf("what is not ticked: tick %t, kept %t", p.Tick, p.Kept)
	}
	aside := song.Clone()
	for _, f := range all.Rows[0].Found {
		if _, err := (session.Dismiss{Dismissal: session.Dismissal{Stage: f.Stage, Finding: f.ID, What: f.What, Why: "it is meant so"}}).Apply(&aside); err != nil {
			t.Fatal(err)
		}
	}
	left, err := Make(t.Context(), r, &aside, known, Choice{}, nil)
	if err != nil {
		t.Fatal(err)
	}
	if slices.Contains(keys(left), "intake/tune") {
		t.Errorf("what was put aside is proposed: %v", keys(left))
	}
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	if _, err := Make(gone, mix.New(r.Library, 1<<28), song, known, Choice{}, nil); err == nil {
		t.Error("a sheet that nobody waits for is made to its end")
	}
}

// A song without a kick, without a bass, or without stems has a sheet that says what it can.
func TestTrouble(t *testing.T) {
	outside.Slow(t)
	b := beats[1]
	for _, out := range [][]string{{"kick"}, {"bass"}, {"kick", "bass", "snare", "hats", "keys"}} {
		d := b.song(func(s *demo.Song) {
			s.Stems = slices.DeleteFunc(s.Stems, func(st demo.Stem) bool { return slices.Contains(out, st.ID) })
		})
		s, _, _, _ := sheetOf(t, d, Choice{})
		if len(out) < 5 && !strings.HasPrefix(s.Trouble, "No stem is said to be the "+out[0]) {
			t.Errorf("without %v: %q", out, s.Trouble)
		}
	}
}

// Copies of one sound are one row, which mutes them and is not ticked; what is of one kind and to be done by hand is one too,
// however often it is found; each row's key is there once.
func TestAlike(t *testing.T) {
	outside.Slow(t)
	b := beats[0]
	s, _, _, _ := sheetOf(t, b.song(func(s *demo.Song) {
		for _, id := range []string{"a", "b", "c"} {
			s.Stems = append(s.Stems, demo.Stem{Stem: session.Stem{ID: id, Name: "Keys " + id, Role: session.Melodic}, Sound: stem(s, "keys").Sound})
		}
	}), Choice{})
	twins := 0
	seen := map[string]bool{}
	for _, r := range s.Rows {
		if seen[r.Key] {
			t.Errorf("%s is there twice", r.Key)
		}
		seen[r.Key] = true
		if r.Found[0].Kind() == "twin" {
			twins++
			if len(r.Found) != 3 || r.Edit == nil || r.Kept {
				t.Errorf("%d twins in %s", len(r.Found), r.Key)
			}
		}
	}
	if twins != 1 {
		t.Errorf("%d rows of twins", twins)
	}
}

// The whole sheet of the demo song, nothing rendered before.
func BenchmarkSheet(b *testing.B) {
	r, song, known := brought(b, songs.SlowFerry())
	for b.Loop() {
		if _, err := Make(b.Context(), mix.New(r.Library, 720<<20), song, known, Choice{}, nil); err != nil {
			b.Fatal(err)
		}
	}
}

// TestStems writes the demo song's stems into the folder STEMS, where it is named: for the command to be measured on
// (scripts/bench). It tests nothing.
func TestStems(t *testing.T) {
	dir := os.Getenv("STEMS")
	if dir == "" {
		return
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	for _, st := range songs.SlowFerry().Stems {
		f, err := os.Create(filepath.Join(dir, st.Name+".wav"))
		if err == nil {
			err = errors.Join(wav.Write(f, st.Sound, wav.Int24), f.Close())
		}
		if err != nil {
			t.Fatal(err)
		}
	}
}

// Every figure by which some finding of core says that it is judged can be taken, and has a name and a unit.
func TestFiguresAreKnown(t *testing.T) {
	named := regexp.MustCompile(`Figure: "(\w+)"|\.Figure = "(\w+)"`)
	sources, err := filepath.Glob("../*/*.go")
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, path := range sources {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range named.FindAllStringSubmatch(string(b), -1) {
			key := m[1] + m[2]
			seen[key] = true
			if _, ok := stages.Figure(key); !ok || figure.Of(key).Name == "" {
				t.Errorf("%s names the figure %q, which cannot be taken or has no name", path, key)
			}
		}
	}
	if len(seen) < 20 {
		t.Errorf("only %d figures are named", len(seen))
	}
}
