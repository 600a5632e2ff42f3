package session

import (
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"

	"mellowthump/core/figure"
)

// The rates a song is rendered at follow its first stem within these bounds, Hz.
const (
	leastRate = 44100
	mostRate  = 96000
)

// AddStem adds a file as a stem.
type AddStem struct {
	File  string // its name
	Audio string // its hash
	Rate  int    // its own, Hz
	Role  Role
}

// StemName is the name of the stem that a file of that name becomes: without its kind, without what cannot be seen, and
// no longer than a name may be.
func StemName(file string) string {
	seen := strings.Map(func(r rune) rune {
		if !unicode.IsGraphic(r) {
			return -1
		}
		return r
	}, strings.ToValidUTF8(file, "\uFFFD"))
	name := strings.TrimSpace(strings.TrimSuffix(seen, path.Ext(seen)))
	if name == "" {
		name = strings.TrimSpace(seen)
	}
	if r := []rune(name); len(r) > MaxName {
		name = strings.TrimSpace(string(r[:MaxName]))
	}
	if name == "" {
		return "Stem"
	}
	return name
}

// Apply adds it under a new id.
func (e AddStem) Apply(s *Song) (string, error) {
	if s.Rate == 0 {
		s.Rate = min(max(e.Rate, leastRate), mostRate)
	}
	id := ""
	for k := len(s.Stems) + 1; id == "" || s.Stem(id) != nil; k++ {
		id = fmt.Sprintf("s%d", k)
	}
	name := StemName(e.File)
	st := Stem{ID: id, Name: name, Role: e.Role, Audio: e.Audio}
	s.settleIn(&st)
	s.Stems = append(s.Stems, st)
	s.Settle()
	return "Add " + name, nil
}

// NewVersion puts a new file in the place of a stem's. One that was exported from here holds moves and gains already:
// those are turned off, so that nothing is applied twice.
type NewVersion struct {
	Stem, Audio string
	Holds       *Held // nil: it is no export of ours
}

// Held is what an exported file holds of its stem's chain.
type Held struct {
	Stem  string   `json:"stem"`
	Moves []string `json:"moves,omitempty"` // ids
	Gains bool     `json:"gains,omitempty"` // from the source to the fader, pan and width
}

// Apply keeps the earlier file's hash beside it.
func (e NewVersion) Apply(s *Song) (string, error) {
	st := s.Stem(e.Stem)
	if st == nil {
		return "", errors.New("the stem that it is a new version of is no longer there")
	}
	if st.Audio == e.Audio {
		return "", errors.New("it is the same file as before")
	}
	st.Was, st.Audio, st.Holds, st.Back = st.Audio, e.Audio, "", nil
	if e.Holds == nil || e.Holds.Stem != st.ID {
		return "New version of " + st.Name, nil
	}
	var held []string
	st.Moves = slices.Clone(st.Moves)
	for i := range st.Moves {
		if m := &st.Moves[i]; !m.Off && slices.Contains(e.Holds.Moves, m.ID) {
			m.Off = true
			held = append(held, strings.ToLower(m.Params.Kind().Label))
		}
	}
	if e.Holds.Gains && (st.Source != 0 || st.Clip != 0 || st.Fader != 0 || st.Pan != 0 || st.Width != 0) {
		st.Source, st.Clip, st.Fader, st.Pan, st.Width = 0, 0, 0, 0, 0
		held = append(held, "gains")
	}
	if len(held) == 0 {
		st.Holds = "nothing that is on here"
		return "New version of " + st.Name + ", exported from here", nil
	}
	st.Holds = strings.Join(held, ", ")
	return "New version of " + st.Name + ", exported from here; off now, as it holds them: " + st.Holds, nil
}

// AddReference adds a finished track.
type AddReference struct{ File, Audio string }

// Apply adds it under a new id.
func (e AddReference) Apply(s *Song) (string, error) {
	id := 1
	for slices.ContainsFunc(s.References, func(r Reference) bool { return r.ID == fmt.Sprintf("r%d", id) }) {
		id++
	}
	if slices.ContainsFunc(s.References, func(r Reference) bool { return r.Audio == e.Audio }) {
		return "", errors.New("it is among the finished tracks already")
	}
	name := StemName(e.File)
	s.References = append(s.References, Reference{ID: fmt.Sprintf("r%d", id), Name: name, Audio: e.Audio})
	return "Add the finished track " + name, nil
}

// RemoveReference takes a finished track out.
type RemoveReference struct{ ID string }

// Apply takes it out where it is there.
func (e RemoveReference) Apply(s *Song) (string, error) {
	n := len(s.References)
	s.References = slices.DeleteFunc(s.References, func(r Reference) bool { return r.ID == e.ID })
	if len(s.References) == n {
		return "", nil
	}
	return "Remove a finished track", nil
}

// RemoveStem takes a stem out, and out of every trigger.
type RemoveStem struct{ Stem string }

// Apply takes it out.
func (e RemoveStem) Apply(s *Song) (string, error) {
	st := s.Stem(e.Stem)
	if st == nil {
		return "", errNoStem
	}
	name := st.Name
	s.Stems = slices.DeleteFunc(s.Stems, func(o Stem) bool { return o.ID == e.Stem })
	for i := range s.Triggers {
		t := &s.Triggers[i]
		if t.Stem == e.Stem {
			t.Stem = ""
		}
		t.Stems = slices.DeleteFunc(t.Stems, func(id string) bool { return id == e.Stem })
	}
	s.Settle()
	return "Remove " + name, nil
}

// SetRole says what stems are.
type SetRole struct {
	Stems []string
	Role  Role
}

// Apply sets it for the stems that are there.
func (e SetRole) Apply(s *Song) (string, error) {
	if !e.Role.Valid() {
		return "", errors.New("choose a role")
	}
	var named []string
	changed := false
	for _, id := range e.Stems {
		if st := s.Stem(id); st != nil {
			named = append(named, st.Name)
			changed = changed || st.Role != e.Role || !st.Said
			st.Role, st.Said = e.Role, true
		}
	}
	switch {
	case len(e.Stems) == 0:
		return "", errors.New("tick the stems first")
	case len(named) == 0:
		return "", errNoStem
	case !changed:
		return "", nil
	}
	s.Settle()
	if len(named) == 1 {
		return fmt.Sprintf("%s is %s", named[0], e.Role), nil
	}
	return fmt.Sprintf("%s are %s", figure.Count(len(named), "stem"), e.Role), nil
}

// RenameStem gives a stem another name.
type RenameStem struct{ Stem, Name string }

// Apply renames it.
func (e RenameStem) Apply(s *Song) (string, error) {
	st := s.Stem(e.Stem)
	name := strings.TrimSpace(e.Name)
	switch {
	case st == nil:
		return "", errNoStem
	case name == "":
		return "", errors.New("a stem needs a name")
	case name == st.Name:
		return "", nil
	}
	was := st.Name
	st.Name = name
	return was + " is called " + name, nil
}

// TickedDo is what can be done to several stems at once.
type TickedDo string

// What can be done to them.
const (
	TickedBus    TickedDo = "bus"
	TickedMute   TickedDo = "mute"
	TickedUnmute TickedDo = "unmute"
	TickedUp     TickedDo = "up" // earlier in the order of the stems
	TickedDown   TickedDo = "down"
	TickedRemove TickedDo = "remove"
)

// Ticked does one thing to several stems.
type Ticked struct {
	Stems []string
	Do    TickedDo
	Bus   string // id; empty: straight to the master
}

// Apply does it to the stems that are there.
func (e Ticked) Apply(s *Song) (string, error) {
	is := func(st Stem) bool { return slices.Contains(e.Stems, st.ID) }
	n := 0
	for i := range s.Stems {
		st := &s.Stems[i]
		if !is(*st) {
			continue
		}
		n++
		switch e.Do {
		case TickedBus:
			st.Bus = e.Bus
		case TickedMute, TickedUnmute:
			st.Mute = e.Do == TickedMute
		}
	}
	if n == 0 {
		return "", errors.New("tick the stems first")
	}
	these := figure.Count(n, "stem")
	switch e.Do {
	case TickedBus:
		to := "the master"
		if b := s.Bus(e.Bus); b != nil {
			to = b.Name
		}
		these += " to " + to
	case TickedMute:
		these = "Mute " + these
	case TickedUnmute:
		these = "Unmute " + these
	case TickedUp, TickedDown:
		at := func(k int) int { // in the order that they are gone through
			if e.Do == TickedDown {
				return len(s.Stems) - 1 - k
			}
			return k
		}
		for k := 1; k < len(s.Stems); k++ {
			if a, b := at(k-1), at(k); is(s.Stems[b]) && !is(s.Stems[a]) {
				s.Stems[a], s.Stems[b] = s.Stems[b], s.Stems[a]
			}
		}
		these = "Move " + these + " " + string(e.Do)
	case TickedRemove:
		for _, id := range e.Stems {
			if s.Stem(id) != nil {
				if _, err := (RemoveStem{Stem: id}).Apply(s); err != nil {
					return "", err
				}
			}
		}
		these = "Remove " + these
	default:
		return "", errors.New("the page asked for something unknown")
	}
	s.Settle()
	return these, nil
}

// Attach gives a stem the notes that it plays; none takes them off.
type Attach struct {
	Stem string
	MIDI *MIDI
}

// Apply attaches them.
func (e Attach) Apply(s *Song) (string, error) {
	st := s.Stem(e.Stem)
	switch {
	case st == nil:
		return "", errNoStem
	case e.MIDI == nil && st.MIDI == nil:
		return "", nil
	case e.MIDI == nil:
		st.MIDI = nil
		return "Take the MIDI off " + st.Name, nil
	}
	st.MIDI = e.MIDI
	return fmt.Sprintf("Attach %s to %s", e.MIDI.Name, st.Name), nil
}

// SplitStem makes head and tail of a stem whose file holds kick and bass.
type SplitStem struct {
	Stem     string
	At, Fade float64 // ms
}

// Apply splits it.
func (e SplitStem) Apply(s *Song) (string, error) {
	name := ""
	if st := s.Stem(e.Stem); st != nil {
		name = st.Name
	}
	if _, err := s.Split(e.Stem, e.At, e.Fade); err != nil {
		return "", err
	}
	return "Split " + name + " into head and tail", nil
}
