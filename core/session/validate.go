package session

import (
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strings"

	"mellowthump/core/audio"
	"mellowthump/core/field"
	"mellowthump/core/move"
)

// Limits of what is taken.
const (
	MinBPM        = 30.0
	MaxBPM        = 300.0
	MinFelt       = 20.0 // bpm
	MaxStems      = 200
	MaxTriggers   = 64
	MaxReferences = 64
	MaxName       = 120 // characters
	MaxKey        = 24  // characters

	MaxHitEdits = 2000 // hits changed by hand, of one trigger
)

var hash = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Validate returns an error in plain words where the song cannot be rendered.
func (s *Song) Validate() error {
	for _, part := range []func() error{s.validateSettings, s.validateBuses, s.validateStems, s.validateTriggers, s.validateChains, s.validateDismissed,
		s.validateSlots, s.validateSections, s.validateRest} {
		if err := part(); err != nil {
			return err
		}
	}
	if name := s.keyLoop(); name != "" {
		return fmt.Errorf("%q would duck to itself, by way of other ducks", name)
	}
	return nil
}

func (s *Song) validateSettings() error {
	switch {
	case math.IsNaN(s.Raised) || math.Abs(s.Raised) > MaxGain:
		return fmt.Errorf("the mix was raised by %g dB; at most %g are taken", s.Raised, MaxGain)
	case s.Format != Format:
		return fmt.Errorf("the session is of format %d; this program reads formats 1 to %d", s.Format, Format)
	case strings.TrimSpace(s.Name) == "":
		return errors.New("the song needs a name")
	case tooLong(s.Name):
		return fmt.Errorf("the song's name is longer than %d characters", MaxName)
	case len([]rune(s.Key)) > MaxKey:
		return fmt.Errorf("the key is longer than %d characters", MaxKey)
	case !(s.BPM >= MinBPM && s.BPM <= MaxBPM):
		return fmt.Errorf("a tempo of %g bpm is outside %g to %g", s.BPM, MinBPM, MaxBPM)
	case s.FeltBPM != 0 && !(s.FeltBPM >= MinFelt && s.FeltBPM <= MaxBPM):
		return fmt.Errorf("a felt tempo of %g bpm is outside %g to %g", s.FeltBPM, MinFelt, MaxBPM)
	case s.Leader != KickLeads && s.Leader != BassLeads:
		return fmt.Errorf("the leader %q is neither kick nor bass", s.Leader)
	case s.Rate != 0 && (s.Rate < audio.MinRate || s.Rate > audio.MaxRate):
		return fmt.Errorf("a rate of %d Hz is outside 8 to 192 kHz", s.Rate)
	case !(s.Grid >= 0 && s.Grid <= 60):
		return fmt.Errorf("a grid that begins at %g s is outside 0 to 60 s", s.Grid)
	}
	if l := s.Loop; l != nil && !(l.From >= 0 && l.To > l.From && l.To <= audio.MaxSeconds) {
		return errors.New("the loop ends before it begins")
	}
	return nil
}

func tooLong(name string) bool { return len([]rune(name)) > MaxName }

// ids collects the ids of one kind of thing: each fit for addresses and pages, each there once.
type ids map[string]bool

func (seen ids) add(what, id string) error {
	switch {
	case !move.ValidID(id):
		return fmt.Errorf("the id %q of one of the %s is none: letters, digits, dots, hyphens and underscores make one", id, what)
	case seen[id]:
		return fmt.Errorf("two %s have the id %q", what, id)
	}
	seen[id] = true
	return nil
}

func badGain(db float64) bool { return !(math.Abs(db) <= MaxGain) }

func (s *Song) validateBuses() error {
	if len(s.Buses) > MaxBuses {
		return fmt.Errorf("a song holds at most %d buses", MaxBuses)
	}
	seen := ids{}
	for i := range s.Buses {
		b := &s.Buses[i]
		if err := seen.add("buses", b.ID); err != nil {
			return err
		}
		switch {
		case b.Bus != "" && s.Bus(b.Bus) == nil:
			return fmt.Errorf("the bus %q goes to a bus that is not there", b.Name)
		case badGain(b.Fader):
			return fmt.Errorf("the bus %q has a gain outside -60 to +60 dB", b.Name)
		case len(s.Path(b.ID)) > len(s.Buses):
			return fmt.Errorf("the bus %q would end in itself", b.Name)
		case tooLong(b.Name):
			return fmt.Errorf("a bus's name is longer than %d characters", MaxName)
		case !validSteps(b.Locks, BusStep):
			return fmt.Errorf("the bus %q has a lock that is none", b.Name)
		}
	}
	return nil
}

func validSteps(locks []Step, known ...Step) bool {
	return len(locks) <= len(known) && !slices.ContainsFunc(locks, func(l Step) bool { return !slices.Contains(known, l) })
}

func (s *Song) validateTriggers() error {
	if len(s.Triggers) > MaxTriggers {
		return fmt.Errorf("a song holds at most %d triggers", MaxTriggers)
	}
	seen := ids{}
	for i := range s.Triggers {
		t := &s.Triggers[i]
		if err := seen.add("triggers", t.ID); err != nil {
			return err
		}
		if t.Grid != "" {
			if ms, err := field.NoteMS(t.Grid, s.BPM); err == nil && ms <= 0 {
				return fmt.Errorf("the trigger %q is a grid of %q, which goes backwards", t.Name, t.Grid)
			} else if err != nil {
				return fmt.Errorf("the trigger %q: %w", t.Name, err)
			}
		}
		missing := func(id string) bool { return s.Stem(id) == nil }
		switch {
		case tooLong(t.Name):
			return fmt.Errorf("a trigger's name is longer than %d characters", MaxName)
		case t.Stem != "" && missing(t.Stem) || len(t.Stems) > MaxStems || slices.ContainsFunc(t.Stems, missing):
			return fmt.Errorf("the trigger %q takes hits from a stem that is not there", t.Name)
		case t.Bus != "" && s.Bus(t.Bus) == nil:
			return fmt.Errorf("the trigger %q listens to a bus that is not there", t.Name)
		case t.At != "" && s.Bus(t.At) == nil:
			return fmt.Errorf("the trigger %q is taken at a bus that is not there", t.Name)
		case t.MIDI != nil && t.MIDI.outOfBounds():
			return fmt.Errorf("the MIDI notes of the trigger %q are out of bounds", t.Name)
		case !(t.Sense >= 0 && t.Sense <= 1):
			return fmt.Errorf("the trigger %q has a sensitivity of %g; 0 to 1 are taken", t.Name, t.Sense)
		case !(t.Gap >= 0 && t.Gap <= MostGap):
			return fmt.Errorf("the trigger %q asks %g ms between hits; 0 to %g are taken", t.Name, t.Gap, MostGap)
		case t.Quiet != 0 && !(t.Quiet >= LeastQuiet && t.Quiet <= MostQuiet):
			return fmt.Errorf("the trigger %q takes hits down to %g dB under the others; %g to %g are taken", t.Name, t.Quiet, LeastQuiet, MostQuiet)
		case len(t.Added)+len(t.Removed) > MaxHitEdits:
			return fmt.Errorf("the trigger %q has more than %d hits changed by hand", t.Name, MaxHitEdits)
		}
		for _, at := range slices.Concat(t.Added, t.Removed) {
			if !(at >= 0 && at <= audio.MaxSeconds) {
				return fmt.Errorf("a hit of the trigger %q that was changed by hand lies outside the song", t.Name)
			}
		}
	}
	return nil
}

func (s *Song) validateStems() error {
	if len(s.Stems) > MaxStems {
		return fmt.Errorf("a song holds at most %d stems", MaxStems)
	}
	seen := ids{}
	for i := range s.Stems {
		st := &s.Stems[i]
		if err := seen.add("stems", st.ID); err != nil {
			return err
		}
		switch {
		case tooLong(st.Name):
			return fmt.Errorf("a stem's name is longer than %d characters", MaxName)
		case !hash.MatchString(st.Audio):
			return fmt.Errorf("the stem %q names no audio", st.Name)
		case st.Was != "" && !hash.MatchString(st.Was):
			return fmt.Errorf("the stem %q names an earlier file that is none", st.Name)
		case st.Back != nil && (!hash.MatchString(st.Back.Of) || len(st.Back.Moves) > move.MaxMoves ||
			badGain(st.Back.Source) || badGain(st.Back.Clip) || badGain(st.Back.Fader)):
			return fmt.Errorf("what the file of %q holds of its plan is out of bounds", st.Name)
		case st.MIDI != nil && st.MIDI.outOfBounds():
			return fmt.Errorf("the MIDI notes of %q are out of bounds", st.Name)
		case !st.Role.Valid():
			return fmt.Errorf("the stem %q has the unknown role %q", st.Name, st.Role)
		case st.Bus != "" && s.Bus(st.Bus) == nil:
			return fmt.Errorf("the stem %q goes to a bus that is not there", st.Name)
		case badGain(st.Source) || badGain(st.Clip) || badGain(st.Fader):
			return fmt.Errorf("the stem %q has a gain outside -60 to +60 dB", st.Name)
		case !(st.Pan >= -1 && st.Pan <= 1):
			return fmt.Errorf("the stem %q is panned beyond left or right", st.Name)
		case !(st.Width >= -1 && st.Width <= 1):
			return fmt.Errorf("the stem %q has a width outside 0 to 200 %%", st.Name)
		case !validSteps(st.Locks, StemSteps...):
			return fmt.Errorf("the stem %q has a lock that is none", st.Name)
		case st.Apart != nil && (!move.ValidID(st.Apart.Of) || !slices.Contains(PartKinds, st.Apart.Is)):
			return fmt.Errorf("the stem %q is a part of nothing", st.Name)
		}
		if err := s.validateSends(st); err != nil {
			return err
		}
	}
	return nil
}

func (s *Song) validateSends(st *Stem) error {
	seen := map[string]bool{}
	for _, e := range st.Sends {
		switch {
		case s.Bus(e.Bus) == nil:
			return fmt.Errorf("the stem %q is sent to a return that is not there", st.Name)
		case seen[e.Bus]:
			return fmt.Errorf("the stem %q is sent twice to the same return", st.Name)
		case badGain(e.Level):
			return fmt.Errorf("the stem %q has a send outside -60 to +60 dB", st.Name)
		}
		seen[e.Bus] = true
	}
	return nil
}

func (s *Song) validateChains() error {
	one := func(at At) error {
		chain, name := s.Chain(at)
		if err := chain.Validate(at.Where()); err != nil {
			return fmt.Errorf("a move on %q: %w", name, err)
		}
		for _, m := range *chain {
			if n := m.Params.Needs(); (n.Hits != move.NoHits || n.Sound) && s.Trigger(n.Trigger) == nil {
				return fmt.Errorf("a %s on %q has a trigger that is not there", m.Params.Kind().Lower(), name)
			}
		}
		return nil
	}
	for i := range s.Stems {
		if err := one(At{Stem: s.Stems[i].ID}); err != nil {
			return err
		}
	}
	for i := range s.Buses {
		if err := one(At{Bus: s.Buses[i].ID}); err != nil {
			return err
		}
	}
	return one(At{})
}

func (s *Song) validateRest() error {
	if badGain(s.Master.Fader) {
		return fmt.Errorf("the master has a gain outside -60 to +60 dB")
	}
	if !validSteps(s.Master.Locks, MasterStep) {
		return fmt.Errorf("the master has a lock that is none")
	}
	if len(s.References) > MaxReferences {
		return fmt.Errorf("a song holds at most %d finished tracks", MaxReferences)
	}
	seen := ids{}
	for _, r := range s.References {
		if err := seen.add("finished tracks", r.ID); err != nil {
			return err
		}
		if !hash.MatchString(r.Audio) || tooLong(r.Name) {
			return fmt.Errorf("the finished track %q names no audio of its own", r.Name)
		}
		if r.Stretch != nil && !(r.Stretch.From >= 0 && r.Stretch.To-r.Stretch.From >= LeastStretch-1e-6 && r.Stretch.To <= audio.MaxSeconds) {
			return errStretch
		}
	}
	if v := s.Voice; v != nil && (!hash.MatchString(v.Audio) || tooLong(v.Name)) {
		return fmt.Errorf("the voice %q names no audio of its own", v.Name)
	}
	if s.Plan != nil {
		if len(s.Plan.Trims) > MaxStems {
			return fmt.Errorf("a plan holds at most %d trims", MaxStems)
		}
		for _, t := range s.Plan.Trims {
			if !move.ValidID(t.Stem) || !hash.MatchString(t.Audio) || !(math.Abs(t.DB) <= 10*MaxGain) {
				return errors.New("a trim of the plan is out of bounds")
			}
		}
	}
	return s.Rules.check()
}
