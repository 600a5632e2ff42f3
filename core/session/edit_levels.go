package session

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"mellowthump/core/figure"
)

// Gain sets the gain at one step of a stem, a bus or the master.
type Gain struct {
	At   At
	Step Step // of a stem
	DB   float64
}

// Apply sets it.
func (e Gain) Apply(s *Song) (string, error) {
	if badGain(e.DB) {
		return "", fmt.Errorf("a gain of %s dB is outside −60 to +60", figure.Signed(e.DB, -1))
	}
	name := "Master"
	switch {
	case e.At.Stem != "":
		st := s.Stem(e.At.Stem)
		if st == nil || !slices.Contains(StemSteps, e.Step) {
			return "", errNoStem
		}
		st.SetGain(e.Step, e.DB)
		name = st.Name + ", " + string(e.Step)
	case e.At.Bus != "":
		b := s.Bus(e.At.Bus)
		if b == nil {
			return "", errNoBus
		}
		b.Fader, name = e.DB, b.Name
	default:
		s.Master.Fader = e.DB
	}
	return fmt.Sprintf("%s %s dB", name, figure.Plus(e.DB, 1)), nil
}

// TakeAtStem takes a trigger at its stem, and no longer at a bus.
type TakeAtStem struct{ Trigger string }

// Apply sets it.
func (e TakeAtStem) Apply(s *Song) (string, error) {
	t := s.Trigger(e.Trigger)
	if t == nil {
		return "", errNoHits
	}
	t.At = ""
	return "Take the trigger at its stem", nil
}

// Route says where a stem goes, how it stands there, and what is automated elsewhere.
type Route struct {
	Stem       string
	Pan, Width float64 // as the stem's
	Mute       bool
	Bus        string
	Locks      []Step
	Sends      []Send
	TriggerAt  *string // of the kick's trigger: the bus at which it is taken
}

// Apply sets it and says the first thing that is new.
func (e Route) Apply(s *Song) (string, error) {
	st := s.Stem(e.Stem)
	if st == nil {
		return "", errNoStem
	}
	if e.Bus != "" && s.Bus(e.Bus) == nil {
		return "", errNoBus
	}
	was := *st
	st.Pan, st.Width, st.Mute, st.Bus, st.Locks, st.Sends = e.Pan, e.Width, e.Mute, e.Bus, e.Locks, e.Sends
	if t := s.Trigger(KickTrigger); t != nil && e.TriggerAt != nil {
		t.At = *e.TriggerAt
	}
	if err := s.Validate(); err != nil {
		return "", err
	}
	switch {
	case was.Bus != st.Bus && st.Bus == "":
		return st.Name + " straight to the master", nil
	case was.Bus != st.Bus:
		return st.Name + " to " + s.Bus(st.Bus).Name, nil
	case was.Mute != st.Mute && st.Mute:
		return "Mute " + st.Name, nil
	case was.Mute != st.Mute:
		return "Unmute " + st.Name, nil
	case was.Pan != st.Pan:
		return fmt.Sprintf("Pan %s to %s", st.Name, panSaid(st.Pan)), nil
	case was.Width != st.Width:
		return fmt.Sprintf("%s %.0f %% wide", st.Name, 100*(1+st.Width)), nil
	}
	return "Change " + st.Name, nil
}

func panSaid(pan float64) string {
	if pan == 0 {
		return "the middle"
	}
	return fmt.Sprintf("%.0f %% %s", 100*math.Abs(pan), map[bool]string{true: "left", false: "right"}[pan < 0])
}

// AddBus makes a new bus.
type AddBus struct{ Name string }

// Apply makes it under a new id.
func (e AddBus) Apply(s *Song) (string, error) {
	if e.Name == "" {
		return "", errors.New("a bus needs a name")
	}
	if slices.ContainsFunc(s.Buses, func(b Bus) bool { return strings.EqualFold(b.Name, e.Name) }) {
		return "", fmt.Errorf("there is a bus called %s already", e.Name)
	}
	id := 1
	for s.Bus(fmt.Sprintf("b%d", id)) != nil {
		id++
	}
	s.Buses = append(s.Buses, Bus{ID: fmt.Sprintf("b%d", id), Name: e.Name})
	return "Add the bus " + e.Name, nil
}

// SetBus changes a bus's name, where it goes, its mute and its lock.
type SetBus struct {
	ID, Name, Bus string
	Mute          bool
	Locks         []Step
}

// Apply sets them.
func (e SetBus) Apply(s *Song) (string, error) {
	b := s.Bus(e.ID)
	if b == nil {
		return "", errNoBus
	}
	if e.Name == "" {
		return "", errors.New("a bus needs a name")
	}
	b.Name, b.Bus, b.Mute, b.Locks = e.Name, e.Bus, e.Mute, e.Locks
	return "Change the bus " + b.Name, nil
}

// RemoveBus takes a bus away; what went to it goes where it went.
type RemoveBus struct{ ID string }

// Apply takes it away.
func (e RemoveBus) Apply(s *Song) (string, error) {
	b := s.Bus(e.ID)
	if b == nil {
		return "", errNoBus
	}
	gone := *b
	var members []string
	for i := range s.Stems {
		st := &s.Stems[i]
		if s.Reaches(st, gone.ID) {
			members = append(members, st.ID)
		}
		if st.Bus == gone.ID {
			st.Bus = gone.Bus
		}
		st.Sends = slices.DeleteFunc(st.Sends, func(e Send) bool { return e.Bus == gone.ID })
	}
	s.Buses = slices.DeleteFunc(s.Buses, func(b Bus) bool { return b.ID == gone.ID })
	for i := range s.Buses {
		if s.Buses[i].Bus == gone.ID {
			s.Buses[i].Bus = gone.Bus
		}
	}
	for i := range s.Triggers {
		t := &s.Triggers[i]
		if t.At == gone.ID {
			t.At = ""
		}
		if t.Bus == gone.ID { // it listens to what the bus carried
			t.Stem, t.Stems, t.Bus = "", members, ""
		}
	}
	return "Remove the bus " + gone.Name, nil
}

// LockMaster says whether the master's fader is automated elsewhere.
type LockMaster struct{ Locked bool }

// Apply sets it.
func (e LockMaster) Apply(s *Song) (string, error) {
	s.Master.Locks = nil
	if !e.Locked {
		return "Unlock the master", nil
	}
	s.Master.Locks = []Step{MasterStep}
	return "Lock the master", nil
}

// SetLevels sets the windows and targets that levels are judged against; nil: those of common practice.
type SetLevels struct{ Levels *Levels }

// Apply sets them.
func (e SetLevels) Apply(s *Song) (string, error) {
	if e.Levels == nil {
		if s.Levels == nil {
			return "", nil
		}
		s.Levels = nil
		return "Windows of common practice", nil
	}
	s.Levels = e.Levels
	return "Change the level windows", s.Rules.check()
}

// SetPlan keeps trims that are being made elsewhere; nil ends the waiting for them.
type SetPlan struct {
	Plan *Plan
	Said string
}

// Apply keeps it.
func (e SetPlan) Apply(s *Song) (string, error) {
	if s.Plan == nil && e.Plan == nil {
		return "", nil
	}
	s.Plan = e.Plan
	return or(e.Said, "Close the plan"), nil
}
