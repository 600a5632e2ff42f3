package session

import (
	"fmt"
	"strings"
	"testing"

	"mellowthump/core/move"
)

// Two states of a song differ in what was done between them, each thing once, told with what it was and what it is; a state
// differs from itself in nothing.
func TestDiffer(t *testing.T) {
	was := New("River", 142)
	was.Rate = 44100
	was.Buses = []Bus{{ID: "drums", Name: "Drums"}, {ID: "old", Name: "Old"}}
	cut := move.Move{ID: "m1", Params: &move.Filter{Shape: "highpass", Hz: 80, Slope: 24}}
	bell := move.Move{ID: "m2", Params: &move.Filter{Shape: "bell", Hz: 240, Q: 1, DB: -3}}
	was.Stems = []Stem{
		{ID: "s1", Name: "Kick", Role: Kick, Audio: strings.Repeat("a", 64)},
		{ID: "s2", Name: "Snare", Role: Snare, Audio: strings.Repeat("b", 64), Moves: move.Chain{cut, bell}},
		{ID: "s3", Name: "Pad", Role: Melodic, Audio: strings.Repeat("c", 64)},
	}
	if d := Differ(&was, &was); len(d) != 0 {
		t.Errorf("a song differs from itself: %v", d)
	}
	now := was.Clone()
	now.BPM, now.Leader = 140, BassLeads
	now.Stems[0].Clip, now.Stems[0].Bus = -2.5, "drums"
	higher := move.Move{ID: "m1", Params: &move.Filter{Shape: "highpass", Hz: 120, Slope: 24}}
	now.Stems[1].Moves = move.Chain{higher, {ID: "m3", Params: &move.Polarity{}}}
	now.Stems[1].Audio = strings.Repeat("d", 64)
	now.Stems[2] = Stem{ID: "s4", Name: "Bell", Role: Melodic, Audio: strings.Repeat("e", 64), Mute: true}
	now.Buses = now.Buses[:1]
	now.Buses[0].Fader = -1
	now.Master.Fader = 2
	var got []string
	for _, d := range Differ(&was, &now) {
		got = append(got, fmt.Sprintf("%s: %s %s: %s > %s", d.Place, d.What, d.Kind(), d.Was, d.Now))
	}
	want := []string{
		"the song: tempo changed: 142 bpm > 140 bpm",
		"the song: leader changed: kick > bass",
		"Kick: clip gain changed: 0.0 dB > −2.5 dB",
		"Kick: goes to changed: the master > Drums",
		"Snare: file changed: bbbbbbbb > dddddddd",
		"Snare: " + cut.Params.Kind().Lower() + " changed: " + move.Words(cut.Params) + " > " + move.Words(higher.Params),
		"Snare: " + bell.Params.Kind().Lower() + " removed: " + move.Words(bell.Params) + " > ",
		"Snare: polarity added:  > " + move.Words(&move.Polarity{}),
		"Pad: the stem removed: melodic > ",
		"Bell: the stem added:  > melodic",
		"Drums: fader changed: 0.0 dB > −1.0 dB",
		"Old: the bus removed: 0.0 dB > ",
		"the master: fader changed: 0.0 dB > +2.0 dB",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("told:\n%s\nwanted:\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	swapped := was.Clone()
	swapped.Stems[1].Moves = move.Chain{{ID: "m3", Params: &move.Polarity{}}, cut}
	was.Stems[1].Moves = move.Chain{cut, {ID: "m3", Params: &move.Polarity{}}}
	if d := Differ(&was, &swapped); len(d) != 1 || d[0].What != "order of the chain" {
		t.Errorf("in another order: %v", d)
	}
}
