package session

import (
	"reflect"
	"strings"
	"testing"

	"mellowthump/core/move"
)

// Several stems at once: to a bus, muted, earlier and later in the order, out; each says what it did, and what is refused
// changes nothing.
func TestTicked(t *testing.T) {
	s := New("x", 120)
	s.Rate = 44100
	for _, name := range []string{"a", "b", "c", "d"} {
		s.Stems = append(s.Stems, Stem{ID: name, Name: strings.ToUpper(name), Role: Other, Audio: strings.Repeat("0a", 32)})
	}
	s.Buses = []Bus{{ID: "b1", Name: "Music"}}
	order := func() string {
		out := ""
		for _, st := range s.Stems {
			out += st.ID
		}
		return out
	}
	for _, step := range []struct {
		do    Ticked
		said  string
		order string
	}{
		{Ticked{Stems: []string{"b", "c"}, Do: TickedBus, Bus: "b1"}, "2 stems to Music", "abcd"},
		{Ticked{Stems: []string{"b"}, Do: TickedBus}, "1 stem to the master", "abcd"},
		{Ticked{Stems: []string{"c", "d"}, Do: TickedUp}, "Move 2 stems up", "acdb"},
		{Ticked{Stems: []string{"c", "a"}, Do: TickedUp}, "Move 2 stems up", "acdb"},
		{Ticked{Stems: []string{"a", "d"}, Do: TickedDown}, "Move 2 stems down", "cabd"},
		{Ticked{Stems: []string{"a", "b"}, Do: TickedMute}, "Mute 2 stems", "cabd"},
		{Ticked{Stems: []string{"b"}, Do: TickedUnmute}, "Unmute 1 stem", "cabd"},
		{Ticked{Stems: []string{"b", "gone"}, Do: TickedRemove}, "Remove 1 stem", "cad"},
	} {
		said, err := step.do.Apply(&s)
		if err != nil || said != step.said || order() != step.order {
			t.Errorf("%+v: %q, %v, order %s", step.do, said, err, order())
		}
	}
	if !s.Stem("a").Mute || s.Stem("c").Bus != "b1" {
		t.Errorf("%+v", s.Stems)
	}
	for _, bad := range []Edit{Ticked{Do: TickedMute}, Ticked{Stems: []string{"a"}, Do: "burn"}, Ticked{Stems: []string{"a"}, Do: TickedBus, Bus: "none"},
		RenameStem{Stem: "a", Name: " "}, RenameStem{Stem: "gone", Name: "x"}, RenameStem{Stem: "a", Name: strings.Repeat("x", MaxName+1)}} {
		if _, _, err := Made(&s, bad); err == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
	if said, err := (RenameStem{Stem: "a", Name: " Bell "}).Apply(&s); err != nil || said != "A is called Bell" || s.Stem("a").Name != "Bell" {
		t.Errorf("%q %v", said, err)
	}
}

// A part ducks to several triggers, each by its own depth; one is changed and taken out without the others.
func TestPartDucksToSeveral(t *testing.T) {
	s := song()
	s.Triggers = append(s.Triggers, Trigger{ID: "t1", Name: "half", Grid: "1/2"}, Trigger{ID: "t2", Name: "quarter", Grid: "1/4"})
	for _, at := range []At{{Stem: "p"}, {Bus: "low"}} {
		chain := func() map[string]float64 {
			out := map[string]float64{}
			c, _ := s.Chain(at)
			for _, m := range *c {
				d := m.Params.(*move.Duck)
				out[d.Trigger] = -d.DepthDB()
			}
			return out
		}
		for _, step := range []struct {
			trigger string
			depth   float64
			want    map[string]float64
		}{
			{KickTrigger, 9, map[string]float64{KickTrigger: 9}},
			{"t1", 3, map[string]float64{KickTrigger: 9, "t1": 3}},
			{"t2", 2, map[string]float64{KickTrigger: 9, "t1": 3, "t2": 2}},
			{"t1", 4, map[string]float64{KickTrigger: 9, "t1": 4, "t2": 2}},
			{KickTrigger, 0, map[string]float64{"t1": 4, "t2": 2}},
			{KickTrigger, 6, map[string]float64{KickTrigger: 6, "t1": 4, "t2": 2}},
			{"t2", 0, map[string]float64{KickTrigger: 6, "t1": 4}},
		} {
			if _, err := (PartDepth{At: at, Trigger: step.trigger, Depth: step.depth}).Apply(&s); err != nil || !reflect.DeepEqual(chain(), step.want) {
				t.Errorf("%s to %s by %g: %v, %v", at, step.trigger, step.depth, chain(), err)
			}
		}
	}
	s.Stem("p").Role = Bass // it makes room with the others now
	s.Settle()
	for _, m := range s.Stem("p").Moves { // what it ducked to the kick gives way to the bass's own; to t1 it ducks besides
		if d := m.Params.(*move.Duck); m.ID != "duck-p" && d.Trigger != "t1" {
			t.Errorf("%s to %s is left", m.ID, d.Trigger)
		}
	}
	if len(s.Stem("p").Moves) > 2 || DuckTo(s.Stem("p").Moves, "t1") == nil {
		t.Errorf("%+v", s.Stem("p").Moves)
	}
}
