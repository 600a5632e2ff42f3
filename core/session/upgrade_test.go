package session

import (
	"encoding/json"
	"os"
	"reflect"
	"strings"
	"testing"

	"mellowthump/core/move"
)

// A song as the program of format 1 wrote it is read as it was: its buses' ducks are moves of their chains.
func TestUpgrade(t *testing.T) {
	b, err := os.ReadFile("testdata/format1.json")
	if err != nil {
		t.Fatal(err)
	}
	s, err := Read(b)
	if err != nil {
		t.Fatal(err)
	}
	if s.Format != Format || len(s.Stems) != 4 || len(s.Stem("s2").Moves) != 5 || s.Master.Fader != -2 {
		t.Errorf("read as %+v", s)
	}
	m, d := s.Bus("b2").Moves.Duck()
	if d == nil || m.ID != "duck-bus-b2" || m.Off || d.Trigger != "t1" || d.Depth() != -3 {
		t.Errorf("the duck of b2 is %+v", m)
	}
	m, d = s.Bus("b4").Moves.Duck()
	if d == nil || !m.Off || m.Why != "tried" || d.School != move.BandSchool || d.Comp.Lookahead != 2 || d.Key.Low != 120 || d.Band.Channels != "mid" {
		t.Errorf("the duck of b4 is %+v", m)
	}
	again, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	for _, b := range s.Buses {
		if bus, _ := json.Marshal(b); strings.Contains(string(bus), `"duck":`) {
			t.Error("what is written has still a duck beside the chain")
		}
	}
	back, err := Read(again)
	if err != nil || !reflect.DeepEqual(back, s) {
		t.Errorf("written and read again it is another song (%v)", err)
	}
	for say, old := range map[string]string{
		"bpm is outside": `{"format": 3, "name": "x", "bpm": 7, "leader": "kick"}`,
		"goes backwards": `{"format": 2, "name": "x", "bpm": 120, "leader": "kick", "triggers": [{"id": "t", "name": "T", "grid": "-1/2"}]}`,
		"format 0":       `{"name": "x"}`,
		"format 99":      `{"format": 99, "name": "x"}`,
		"format -1":      `{"format": -1}`,
	} {
		if _, err := Read([]byte(old)); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%s: %v", old, err)
		}
	}
	// a trigger whose stem had been removed: format 1 let it stand
	gone, err := Read(
		[]byte(
			`{"format": 1, "name": "x", "bpm": 120, "leader": "kick", "targets": {}, "stems": null, "triggers": [{"id": "kick", "name": "Kick", "stem": "s9", ` +
				`"stems": ["s8"]}]}`,
		),
	)
	if err != nil || gone.Triggers[0].Stem != "" || len(gone.Triggers[0].Stems) != 0 {
		t.Errorf("a trigger of missing stems is read as %+v (%v)", gone.Triggers, err)
	}
}

// A song as the program of format 2 wrote it is read as it was: what the stages go by stands together, and its duck is still the
// one that a fit made.
func TestUpgradeOfRules(t *testing.T) {
	b, err := os.ReadFile("testdata/format2.json")
	if err != nil {
		t.Fatal(err)
	}
	s, err := Read(b)
	if err != nil {
		t.Fatal(err)
	}
	if s.Targets != (Targets{Clearance: 9, MaxDepth: 10, NoAhead: true, Follow: true}) || s.RoomRules() != (Room{Cellar: 20, Slope: 12, Playback: 83}) {
		t.Errorf("the rules are %+v", s.Rules)
	}
	if l := s.LevelRules(); l.Kick != -8 || *l.Windows[Hats] != (Window{-22, -15}) || *l.Windows[Snare] != (Window{-10, -7}) {
		t.Errorf("the windows are %+v", l)
	}
	if s.Body == nil || s.Width == nil || s.Compare == nil || s.Print == nil || !s.Fitted() {
		t.Errorf("something is lost; fitted: %t", s.Fitted())
	}
	again, err := json.Marshal(s)
	if err != nil {
		t.Fatal(err)
	}
	if back, err := Read(again); err != nil || !reflect.DeepEqual(back, s) {
		t.Errorf("written and read again it is another song (%v)", err)
	}
}

// What a crafted session could carry is refused in a sentence.
func TestCraftedIsRefused(t *testing.T) {
	for say, f := range map[string]func(*Song){
		"is none: letters":         func(s *Song) { s.Stems[0].ID = `k"><script>` },
		"two triggers":             func(s *Song) { s.Triggers = append(s.Triggers, s.Triggers[0]) },
		"one of the buses":         func(s *Song) { s.Buses = append(s.Buses, Bus{ID: "a b"}) },
		"one of the triggers":      func(s *Song) { s.Triggers[0].ID = "../x" },
		"takes hits from a stem":   func(s *Song) { s.Triggers = append(s.Triggers, Trigger{ID: "t", Stem: "gone"}) },
		"taken at a bus":           func(s *Song) { s.Triggers[0].At = "gone" },
		"holds at most 64 moves":   func(s *Song) { s.Stems[0].Moves = make(move.Chain, 5000) },
		"at most 64 triggers":      func(s *Song) { s.Triggers = make([]Trigger, 5000) },
		"an id that is none":       func(s *Song) { s.Stems[1].Moves[0].ID = "<b>" },
		"two moves":                func(s *Song) { s.Stems[1].Moves = append(s.Stems[1].Moves, s.Stems[1].Moves[0]) },
		"cannot stand on a bus":    func(s *Song) { s.Buses[0].Moves = move.Chain{{ID: "n", Params: &move.Nudge{MS: 1}}} },
		"cannot stand on a master": func(s *Song) { s.Master.Moves = s.Stems[1].Moves },
		"a move on \"the master\"": func(s *Song) { s.Master.Moves = move.Chain{{ID: "f", Params: &move.SoftClip{Threshold: 99}}} },
		"stands behind": func(s *Song) {
			s.Stems[1].Moves = append(s.Stems[1].Moves, move.Move{ID: "p", Params: &move.Polarity{}})
		},
		"lies outside the song": func(s *Song) { s.Triggers[0].Added = []float64{-1} },
		"a lock that is none":   func(s *Song) { s.Stems[0].Locks = []Step{"roof"} },
		"longer than 120":       func(s *Song) { s.Stems[0].Name = strings.Repeat("x", 121) },
		"the key is longer":     func(s *Song) { s.Key = strings.Repeat("x", 25) },
		"felt tempo":            func(s *Song) { s.FeltBPM = 5 },
		"a trim of the plan":    func(s *Song) { s.Plan = &Plan{Trims: []Trim{{Stem: "k"}}} },
		"a trigger that is not": func(s *Song) { s.Buses[0].Moves = move.Chain{{ID: "d", Params: move.StartingDuck()}} },
		"two finished tracks have": func(s *Song) {
			s.References = []Reference{{ID: "r", Audio: s.Stems[0].Audio}, {ID: "r", Audio: s.Stems[0].Audio}}
		},
	} {
		s := song()
		f(&s)
		if err := s.Validate(); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%q: says %v", say, err)
		}
	}
}
