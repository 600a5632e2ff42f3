package session

import (
	"encoding/json"
	"math"
	"os"
	"reflect"
	"strings"
	"testing"

	"mellowthump/core/move"
	"mellowthump/internal/outside"
)

const sha = "0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef"

func song() Song {
	s := New("Low Tide", 142)
	s.Rate = 44100
	s.Buses = []Bus{{ID: "low", Name: "Low end"}}
	s.Stems = []Stem{
		{ID: "k", Name: "Kick", Role: Kick, Audio: sha},
		{ID: "b", Name: "Sub", Role: Bass, Audio: sha, Bus: "low"},
		{ID: "p", Name: "Pad", Role: Melodic, Audio: sha, Locks: []Step{TrackStep}},
	}
	s.Settle()
	s.SetDuck(
		&move.Duck{School: "curve", Trigger: KickTrigger, Points: []move.Point{{MS: -4}, {DB: -6}, {MS: 90, DB: -6, Bend: 0.2}, {MS: 150, Note: "1/8"}}},
		false,
		"why",
	)
	return s
}

func TestRoundTrip(t *testing.T) {
	in := song()
	b, err := json.Marshal(in)
	if err != nil {
		t.Fatal(err)
	}
	out, err := Read(b)
	if err != nil {
		t.Fatal(err)
	}
	if !reflect.DeepEqual(in, out) {
		t.Errorf("read back\n%+v\nwant\n%+v", out, in)
	}
	c := in.Clone()
	c.Stems[1].Moves[0].Params.(*move.Duck).Points[1].DB = -20
	if in.Stems[1].Moves[0].Params.(*move.Duck).Points[1].DB != -6 {
		t.Error("an edit of a clone reached into the song")
	}
}

func TestValidate(t *testing.T) {
	for say, f := range map[string]func(*Song){
		"format":          func(s *Song) { s.Format = 9 },
		"needs a name":    func(s *Song) { s.Name = " " },
		"longer than":     func(s *Song) { s.Name = strings.Repeat("x", 121) },
		"tempo":           func(s *Song) { s.BPM = 10 },
		"tempo of NaN":    func(s *Song) { s.BPM = math.NaN() },
		"leader":          func(s *Song) { s.Leader = "snare" },
		"rate":            func(s *Song) { s.Rate = 4000 },
		"clearance":       func(s *Song) { s.Targets.Clearance = 90 },
		"depth cap":       func(s *Song) { s.Targets.MaxDepth = -1 },
		"loop ends":       func(s *Song) { s.Loop = &Span{From: 4, To: 2} },
		"two stems":       func(s *Song) { s.Stems[1].ID = "k" },
		"names no audio":  func(s *Song) { s.Stems[0].Audio = "../../etc/passwd" },
		"unknown role":    func(s *Song) { s.Stems[0].Role = "tuba" },
		"bus that is not": func(s *Song) { s.Stems[0].Bus = "x" },
		"gain outside":    func(s *Song) { s.Stems[0].Fader = 100 },
		"a move on":       func(s *Song) { s.Stems[1].Moves[0].Params.(*move.Duck).Points[0].DB = 3 },
		"no parameters":   func(s *Song) { s.Stems[1].Moves[0].Params = nil },
		"trigger":         func(s *Song) { s.Triggers = nil },
		"two buses":       func(s *Song) { s.Buses = append(s.Buses, s.Buses[0]) },
		"at most":         func(s *Song) { s.Stems = make([]Stem, MaxStems+1) },
	} {
		s := song()
		f(&s)
		if err := s.Validate(); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%q: says %v", say, err)
		}
	}
	s := song()
	if err := s.Validate(); err != nil {
		t.Error(err)
	}
}

func TestSettleFollowsRoles(t *testing.T) {
	s := song()
	if s.TriggerStem().ID != "k" {
		t.Fatalf("trigger %+v", s.TriggerStem())
	}
	s.Stems[0].Role, s.Stems[2].Role = Melodic, Kick // the pad turns out to be the kick
	s.Settle()
	if s.TriggerStem().ID != "p" || s.Trigger(KickTrigger).Stem != "p" {
		t.Errorf("trigger %+v", s.Triggers)
	}
	s.Stems[1].Role, s.Stems[0].Role = Other, Bass // and the bass another stem: the duck moves along
	s.Settle()
	if d, _ := s.Duck(); d == nil {
		t.Error("the duck is lost")
	}
	if _, d := s.Stems[1].DuckMove(); d != nil {
		t.Error("the old bass still ducks")
	}
	s.SetDuck(nil, false, "")
	if d, _ := s.Duck(); d != nil {
		t.Error("the duck stays")
	}
}

// Who leads decides who has the song's duck; a part that has it has no other, and what was another part's
// duck goes when the part's role changes.
func TestSetLeader(t *testing.T) {
	s := song()
	d, _ := s.Duck()
	if s.SetLeader(KickLeads) || !s.SetLeader(BassLeads) || s.Leader != BassLeads {
		t.Error("the change of leader is misreported")
	}
	if _, old := s.Stems[1].DuckMove(); old != nil {
		t.Error("the bass leads and ducks")
	}
	s.SetDuck(d, false, "why")
	if now, _ := s.Duck(); now == nil || s.DuckWhy() != "why" || s.Stems[1].Moves != nil {
		t.Error("the kick has no duck")
	}
	s.Stems[1].SetMove(move.Move{ID: PartDuck + s.Stems[1].ID, Params: d}) // the bass as any other part
	if s.SetLeader(KickLeads); s.Stems[1].Moves != nil || s.Stems[0].Moves != nil {
		t.Errorf("left over: %+v, %+v", s.Stems[0].Moves, s.Stems[1].Moves)
	}
	s.Stems[2].SetMove(move.Move{ID: PartDuck + s.Stems[2].ID, Params: d})
	s.Stems[2].Role = Bass
	if s.Settle(); s.Stems[2].Moves != nil {
		t.Error("a bass keeps the duck that it had as another part")
	}
}

func TestBypassed(t *testing.T) {
	s := song()
	b := s.Bypassed()
	if d, _ := b.Duck(); d != nil {
		t.Error("bypassed, the duck is still there")
	}
	if d, _ := s.Duck(); d == nil {
		t.Error("bypassing took the duck from the song itself")
	}
}

// A loop is a part of the song that can be judged at every change.
func TestLoopLength(t *testing.T) {
	for span, ok := range map[Span]bool{{0, 8}: true, {10, 310}: true, {10, 310.1}: false, {5, 5.1}: false, {-1, 4}: false, {1790, 1801}: false, {9, 3}: false} {
		s := New("x", 120)
		_, err := Loop{Span: &span, Said: "here"}.Apply(&s)
		if (err == nil) != ok || (s.Loop != nil) != ok {
			t.Errorf("%+v: %v", span, err)
		}
	}
}

// Bars of four beats at 120 bpm are two seconds.
func TestPosition(t *testing.T) {
	s := New("x", 120)
	for at, want := range map[float64]string{0: "1.1.00", 0.5: "1.2.00", 2: "2.1.00", 3.125: "2.3.25", 1.9999: "2.1.00"} {
		if got := s.Position(at); got != want {
			t.Errorf("%g s is %s, want %s", at, got, want)
		}
	}
	s.Grid = 1
	for at, want := range map[float64]string{1: "1.1.00", 3.5: "2.2.00", 0: "0.3.00", 0.75: "0.4.50"} {
		if got := s.Position(at); got != want {
			t.Errorf("with the grid at 1 s, %g s is %s, want %s", at, got, want)
		}
	}
}

// Any bytes: a song, or a sentence, soon. What was read is written and read again the same.
func FuzzRead(f *testing.F) {
	b, _ := json.Marshal(song())
	f.Add(b)
	f.Add([]byte(`{"format":1}`))
	f.Add([]byte(`{"format":1,"stems":[{"moves":[{"kind":"duck","params":{"points":null}}]}]}`))
	if old, err := os.ReadFile("testdata/format1.json"); err == nil {
		f.Add(old)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		outside.Bounded(t, func() {
			s, err := Read(b)
			if err != nil {
				return
			}
			out, err := json.Marshal(s)
			if err != nil {
				t.Fatalf("a song that was read cannot be written: %v", err)
			}
			again, err := Read(out)
			if err != nil {
				t.Fatalf("a song that was written cannot be read: %v", err)
			}
			if twice, _ := json.Marshal(again); string(twice) != string(out) {
				t.Errorf("%s was written, and read and written again is %s", out, twice)
			}
		})
	})
}

// Any name of a file: it becomes a stem of a song that is valid, that is written and read again by the same name, or is
// refused in a sentence.
func FuzzFileName(f *testing.F) {
	for _, name := range []string{"Kick.wav", ".wav", " ", "", "a/b\\..\\c.flac", "=SUM(A1).wav", "\xff\xfe.aif", "\u202e808.wav", strings.Repeat("long ",
		60) + ".wav", "<b>kick</b>.wav", "a\x00b.wav"} {
		f.Add(name)
	}
	f.Fuzz(func(t *testing.T, name string) {
		s := New("x", 120)
		add := AddStem{File: name, Audio: strings.Repeat("a", 64), Rate: 44100, Role: Kick}
		if _, err := add.Apply(&s); err != nil {
			t.Fatalf("%q: %v", name, err)
		}
		if err := s.Validate(); err != nil {
			t.Fatalf("%q: %v", name, err)
		}
		b, err := json.Marshal(s)
		if err != nil {
			t.Fatal(err)
		}
		again, err := Read(b)
		if err != nil || again.Stems[0].Name != s.Stems[0].Name {
			t.Errorf("%q is %q, and read again %q: %v", name, s.Stems[0].Name, again.Stems[0].Name, err)
		}
	})
}
