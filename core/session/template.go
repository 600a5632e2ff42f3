package session

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"mellowthump/core/move"
)

// Slot is a place for a stem that is not there yet: what a template knows of it.
type Slot struct {
	Name  string     `json:"name"`
	Role  Role       `json:"role"`
	Bus   string     `json:"bus,omitempty"`
	Sends []Send     `json:"sends,omitempty"`
	Pan   float64    `json:"pan,omitempty"`
	Width float64    `json:"width_change,omitempty"`
	Moves move.Chain `json:"moves,omitempty"`
}

// Template returns a song without what is of its audio alone: its stems become slots with their roles, buses, sends and
// chains; buses, the master, targets, windows and what the stages go by stay. Ducks, notes, times and pitches are of one
// recording, and are found anew.
func (s Song) Template() Song {
	c := s.Clone()
	out := Song{Format: c.Format, Name: c.Name, BPM: c.BPM, Leader: c.Leader, Rules: c.Rules, Buses: c.Buses, Master: c.Master}
	for _, st := range c.Stems {
		if st.Apart != nil { // parts come of taking apart
			continue
		}
		out.Slots = append(out.Slots, Slot{st.Name, st.Role, st.Bus, st.Sends, st.Pan, st.Width, carried(st.Moves)})
	}
	for i := range out.Buses {
		out.Buses[i].Moves = carried(out.Buses[i].Moves)
	}
	out.Master.Moves = carried(out.Master.Moves.Without(OfSchool)) // a school is solved for one loudness
	return out
}

// carried are the moves of a chain that make sense on another recording.
func carried(c move.Chain) move.Chain {
	return c.Without(func(m move.Move) bool {
		return m.Params.Kind().Own || m.Params.Needs().Trigger != "" // what goes by hits waits for them
	})
}

// slotFor is the index of the slot that a new stem falls into: of its name, else the first of its role; -1 where there is none.
func (s *Song) slotFor(name string, role Role) int {
	if i := slices.IndexFunc(s.Slots, func(l Slot) bool { return strings.EqualFold(l.Name, name) }); i >= 0 {
		return i
	}
	if role == Other {
		return -1
	}
	return slices.IndexFunc(s.Slots, func(l Slot) bool { return l.Role == role })
}

// settleIn gives a new stem what the slot that it falls into knows, and uses that up.
func (s *Song) settleIn(st *Stem) {
	i := s.slotFor(st.Name, st.Role)
	if i < 0 {
		return
	}
	l := s.Slots[i]
	s.Slots = slices.Delete(slices.Clone(s.Slots), i, i+1)
	if len(s.Slots) == 0 {
		s.Slots = nil
	}
	if strings.EqualFold(l.Name, st.Name) && l.Role != Other {
		st.Role = l.Role
	}
	st.Pan, st.Width, st.Moves = l.Pan, l.Width, l.Moves
	if s.Bus(l.Bus) != nil {
		st.Bus = l.Bus
	}
	for _, e := range l.Sends {
		if s.Bus(e.Bus) != nil {
			st.Sends = append(st.Sends, e)
		}
	}
}

func (s *Song) validateSlots() error {
	if len(s.Slots) > MaxStems {
		return fmt.Errorf("a template holds at most %d places for stems", MaxStems)
	}
	for _, l := range s.Slots {
		switch {
		case tooLong(l.Name):
			return fmt.Errorf("a place for a stem has a name longer than %d characters", MaxName)
		case !(l.Pan >= -1 && l.Pan <= 1) || !(l.Width >= -1 && l.Width <= 1) || len(l.Sends) > MaxBuses:
			return errors.New("a place for a stem is out of bounds")
		}
		if err := l.Moves.Validate(move.OnStem); err != nil {
			return fmt.Errorf("a place for the stem %q: %w", l.Name, err)
		}
	}
	return nil
}
