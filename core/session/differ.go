package session

import (
	"fmt"
	"slices"

	"mellowthump/core/figure"
	"mellowthump/core/move"
)

// Difference is one thing in which a state of a song differs from another. Was is empty of what was added, Now of what was removed.
type Difference struct {
	Place string `json:"place"` // a stem, a bus, the master, the song
	What  string `json:"what"`
	Was   string `json:"was,omitempty"`
	Now   string `json:"now,omitempty"`
}

// Kind says in a word what it is: added, changed or removed.
func (d Difference) Kind() string {
	switch {
	case d.Was == "":
		return "added"
	case d.Now == "":
		return "removed"
	}
	return "changed"
}

// Differ lists in what the second of two states of a song differs from the first: the song's own settings, then its stems, its
// buses and the master, each with its gains and its moves.
func Differ(was, now *Song) []Difference {
	var d differing
	d.place = "the song"
	d.tell("name", was.Name, now.Name)
	d.tell("tempo", fmt.Sprintf("%g bpm", was.BPM), fmt.Sprintf("%g bpm", now.BPM))
	d.tell("key", was.Key, now.Key)
	d.tell("leader", string(was.Leader), string(now.Leader))
	d.tell("aim", was.Targets.AimName(), now.Targets.AimName())
	d.tell("clearance asked", fmt.Sprintf("%g dB", was.Targets.Clearance), fmt.Sprintf("%g dB", now.Targets.Clearance))
	d.tell("deepest duck", fmt.Sprintf("%g dB", was.Targets.MaxDepth), fmt.Sprintf("%g dB", now.Targets.MaxDepth))
	d.sections(was, now)
	for i := range was.Stems {
		a := &was.Stems[i]
		d.stem(was, now, a, now.Stem(a.ID))
	}
	for i := range now.Stems {
		if b := &now.Stems[i]; was.Stem(b.ID) == nil {
			d.stem(was, now, nil, b)
		}
	}
	for i := range was.Buses {
		a := &was.Buses[i]
		d.bus(a, now.Bus(a.ID))
	}
	for i := range now.Buses {
		if b := &now.Buses[i]; was.Bus(b.ID) == nil {
			d.bus(nil, b)
		}
	}
	d.place = "the master"
	d.tell("fader", gain(was.Master.Fader), gain(now.Master.Fader))
	d.moves(was.Master.Moves, now.Master.Moves)
	return d.out
}

type differing struct {
	place string
	out   []Difference
}

func (d *differing) tell(what, was, now string) {
	if was != now {
		d.out = append(d.out, Difference{d.place, what, was, now})
	}
}

func gain(db float64) string { return figure.Plus(db, 1) + " dB" }

func (d *differing) stem(was, now *Song, a, b *Stem) {
	there := func(st *Stem) string {
		if st == nil {
			return ""
		}
		return string(st.Role)
	}
	if a == nil || b == nil {
		d.place = b.nameOr(a)
		d.tell("the stem", there(a), there(b))
		if b != nil {
			d.moves(nil, b.Moves)
		}
		return
	}
	d.place = b.Name
	d.tell("name", a.Name, b.Name)
	d.tell("role", string(a.Role), string(b.Role))
	if a.Audio != b.Audio {
		d.tell("file", a.Audio[:min(8, len(a.Audio))], b.Audio[:min(8, len(b.Audio))])
	}
	for _, step := range StemSteps {
		d.tell(string(step)+" gain", gain(a.Gain(step)), gain(b.Gain(step)))
	}
	d.tell("pan", figure.Plus(a.Pan, 2), figure.Plus(b.Pan, 2))
	d.tell("width", figure.Plus(a.Width, 2), figure.Plus(b.Width, 2))
	d.tell("mute", onOff(a.Mute), onOff(b.Mute))
	d.tell("goes to", nameOfBus(was, a.Bus), nameOfBus(now, b.Bus))
	d.tell("sends", sends(was, a.Sends), sends(now, b.Sends))
	d.moves(a.Moves, b.Moves)
}

// nameOr is the stem's name, or the other's where there is none.
func (s *Stem) nameOr(other *Stem) string {
	if s != nil {
		return s.Name
	}
	return other.Name
}

func (d *differing) bus(a, b *Bus) {
	switch {
	case b == nil:
		d.place = a.Name
		d.tell("the bus", gain(a.Fader), "")
	case a == nil:
		d.place = b.Name
		d.tell("the bus", "", gain(b.Fader))
		d.moves(nil, b.Moves)
	default:
		d.place = b.Name
		d.tell("name", a.Name, b.Name)
		d.tell("fader", gain(a.Fader), gain(b.Fader))
		d.tell("mute", onOff(a.Mute), onOff(b.Mute))
		d.moves(a.Moves, b.Moves)
	}
}

// moves compares two chains, move by move.
func (d *differing) moves(was, now move.Chain) {
	words := func(m *move.Move) string {
		if m == nil {
			return ""
		}
		w := move.Words(m.Params)
		if m.Off {
			w += ", off"
		}
		return w
	}
	for i := range was {
		a := &was[i]
		b := now.Move(a.ID)
		if b != nil && b.Params.Kind() != a.Params.Kind() { // another move under the same name
			d.tell(a.Params.Kind().Lower(), words(a), "")
			d.tell(b.Params.Kind().Lower(), "", words(b))
			continue
		}
		d.tell(a.Params.Kind().Lower(), words(a), words(b))
	}
	for i := range now {
		if b := &now[i]; was.Move(b.ID) == nil {
			d.tell(b.Params.Kind().Lower(), "", words(b))
		}
	}
	var order [2][]string
	for i, c := range []move.Chain{was, now} {
		for _, m := range c {
			if was.Move(m.ID) != nil && now.Move(m.ID) != nil {
				order[i] = append(order[i], m.Params.Kind().Lower())
			}
		}
	}
	if !slices.Equal(order[0], order[1]) {
		d.tell("order of the chain", fmt.Sprint(order[0]), fmt.Sprint(order[1]))
	}
}

func onOff(on bool) string {
	if on {
		return "muted"
	}
	return "heard"
}

func nameOfBus(s *Song, id string) string {
	if b := s.Bus(id); b != nil {
		return b.Name
	}
	return "the master"
}

func sends(s *Song, all []Send) string {
	out := ""
	for i, e := range all {
		if i > 0 {
			out += ", "
		}
		out += nameOfBus(s, e.Bus) + " " + gain(e.Level)
	}
	if out == "" {
		return "none"
	}
	return out
}
