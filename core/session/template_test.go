package session

import (
	"encoding/json"
	"strings"
	"testing"

	"mellowthump/core/move"
)

// A template holds roles, buses, sends, targets, windows and chains, and nothing of the audio; a stem that is brought to it by
// the same name, or else of the same role, falls into its place.
func TestTemplate(t *testing.T) {
	s := New("River", 142)
	s.Rate, s.Leader, s.Targets.Clearance = 44100, BassLeads, 10
	l := CommonLevels()
	l.Premaster = -8
	s.Levels = &l
	s.Buses = []Bus{
		{ID: "drums", Name: "Drums", Fader: -1, Moves: move.Chain{{ID: "m1", Params: &move.Filter{Shape: "highpass", Hz: 30, Slope: 12}}}},
		{ID: "hall", Name: "Hall"},
	}
	sha := func(c string) string { return strings.Repeat(c, 64) }
	s.Stems = []Stem{
		{ID: "s1", Name: "Kick", Role: Kick, Audio: sha("a"), Bus: "drums"},
		{ID: "s2", Name: "Snare", Role: Snare, Audio: sha("b"), Bus: "drums", Clip: -3, Sends: []Send{{Bus: "hall", Level: -12}}, Moves: move.Chain{
			{ID: "m1", Params: &move.Filter{Shape: "highpass", Hz: 120, Slope: 24}}, {ID: "m2", Params: &move.Nudge{MS: 3}}}},
		{ID: "s3", Name: "Sub", Role: Bass, Audio: sha("c"), Pan: 0.1, Moves: move.Chain{{ID: "m1", Params: &move.Tune{}}}},
	}
	s.Settle()
	s.Dismissed = []Dismissal{{Stage: "room", Finding: "cellar"}}
	s.Loop = &Span{From: 1, To: 9}
	if err := s.Validate(); err != nil {
		t.Fatal(err)
	}
	n := s.Template()
	if err := n.Validate(); err != nil {
		t.Fatal(err)
	}
	body, err := json.Marshal(n)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []string{"a", "b", "c"} {
		if strings.Contains(string(body), sha(c)) {
			t.Errorf("the template knows audio: %s", body)
		}
	}
	if len(n.Stems)+len(n.Dismissed)+len(n.Triggers) != 0 || n.Loop != nil || n.Rate != 0 || n.Leader != BassLeads || n.Targets.Clearance != 10 ||
		n.LevelRules().Premaster != -8 ||
		len(n.Slots) != 3 {
		t.Errorf("the template: %s", body)
	}
	song, err := Read(body)
	if err != nil {
		t.Fatal(err)
	}
	for _, add := range []AddStem{{File: "snare.wav", Audio: sha("d"), Rate: 48000, Role: Other}, {File: "Low end.wav", Audio: sha("e"), Rate: 48000,
		Role: Bass}, {File: "Bell.wav", Audio: sha("f"), Rate: 48000, Role: Melodic}} {
		if _, err := add.Apply(&song); err != nil {
			t.Fatal(err)
		}
	}
	if err := song.Validate(); err != nil {
		t.Fatal(err)
	}
	snare, low, bell := song.Stems[0], song.Stems[1], song.Stems[2]
	if snare.Role != Snare || snare.Bus != "drums" || len(snare.Sends) != 1 || len(snare.Moves) != 1 || snare.Clip != 0 {
		t.Errorf("by its name: %+v", snare)
	}
	if low.Pan != 0.1 || len(low.Moves) != 0 {
		t.Errorf("by its role: %+v", low)
	}
	if bell.Bus != "" || len(bell.Moves) != 0 || len(song.Slots) != 1 || song.Slots[0].Name != "Kick" {
		t.Errorf("what falls into no place: %+v, left %+v", bell, song.Slots)
	}
	song.Slots[0].Pan = 3
	if err := song.Validate(); err == nil {
		t.Error("a place that is out of bounds is taken")
	}
}
