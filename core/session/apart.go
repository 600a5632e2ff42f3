package session

import (
	"errors"
	"fmt"
	"slices"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/move"
)

// Apart says that a stem is a part of another that was taken apart: the parts sum to it.
type Apart struct {
	Of string   `json:"of"` // id of the stem
	Is PartKind `json:"is"`
}

// PartKind is what of a file a part is.
type PartKind string

// The parts of a file that was taken apart.
const (
	Low       PartKind = "kick" // the kick of drums in one file; the rest is all else
	Struck    PartKind = "struck"
	Sustained PartKind = "sustained"
	Rest      PartKind = "rest"
)

// PartKinds lists them in order.
var PartKinds = []PartKind{Low, Struck, Sustained, Rest}

// KindsOf are the parts into which a stem of a role is taken apart.
func KindsOf(r Role) []PartKind {
	if r == Drums {
		return []PartKind{Low, Rest}
	}
	return []PartKind{Struck, Sustained, Rest}
}

// Parts returns the parts of a stem that was taken apart, in order; none where it was not.
func (s *Song) Parts(id string) []*Stem {
	var out []*Stem
	for _, is := range PartKinds {
		for i := range s.Stems {
			if a := s.Stems[i].Apart; a != nil && a.Of == id && a.Is == is {
				out = append(out, &s.Stems[i])
			}
		}
	}
	return out
}

// TakeApart puts the parts of a stem's file in its place; the stem stays, muted.
type TakeApart struct {
	Stem  string
	Audio string              // the file that was taken apart
	Parts map[PartKind]string // hashes
}

// Apply adds the parts with the stem's gains, sends and linear moves. What the song has no kick or bass for, the struck and the
// sustained part are.
func (e TakeApart) Apply(s *Song) (string, error) {
	st := s.Stem(e.Stem)
	switch {
	case st == nil:
		return "", errNoStem
	case st.Audio != e.Audio:
		return "", fmt.Errorf("%s has another file now; take it apart again", st.Name)
	case len(s.Parts(e.Stem)) > 0:
		return "", fmt.Errorf("%s is apart already", st.Name)
	case st.Apart != nil:
		return "", fmt.Errorf("%s is a part itself", st.Name)
	case len(s.Stems)+len(e.Parts) > MaxStems:
		return "", fmt.Errorf("a song holds at most %d stems", MaxStems)
	}
	of := *st
	left := len(of.Moves)
	of.Moves = of.Moves.Without(func(m move.Move) bool { return !m.Params.Kind().Linear || isDuck(m.Params) })
	left -= len(of.Moves)
	kick, bass := of.Role == Kick || len(s.ByRole(Kick)) == 0, of.Role == Bass || len(s.ByRole(Bass)) == 0
	st.Mute = true
	for _, is := range PartKinds {
		if e.Parts[is] == "" {
			continue
		}
		p := of
		p.Moves, p.Sends, p.Locks = slices.Clone(of.Moves), slices.Clone(of.Sends), nil
		p.Was, p.Holds, p.Back, p.MIDI, p.Mute = "", "", nil, nil, false
		p.Said = true
		p.Audio, p.Apart = e.Parts[is], &Apart{Of: of.ID, Is: is}
		p.Name = shortened(of.Name, MaxName-len(is)-2) + ", " + string(is)
		switch is {
		case Low:
			p.Role = Kick
		case Struck:
			p.Role = Perc
			if kick {
				p.Role = Kick
			}
		case Sustained:
			p.Role = Melodic
			if bass {
				p.Role = Bass
			}
		default:
			if p.Role = Other; e.Parts[Low] != "" {
				p.Role = Drums
			}
		}
		for k := len(s.Stems) + 1; p.ID == of.ID || s.Stem(p.ID) != nil; k++ {
			p.ID = fmt.Sprintf("s%d", k)
		}
		s.Stems = append(s.Stems, p)
	}
	s.Settle()
	said := "Take " + of.Name + " apart"
	if left > 0 {
		said += fmt.Sprintf("; %s that parts cannot share stay on it", figure.Count(left, "move"))
	}
	return said, nil
}

func shortened(name string, most int) string {
	if r := []rune(name); len(r) > most {
		return string(r[:most])
	}
	return name
}

// PutTogether takes the parts of a stem out, and lets it sound again.
type PutTogether struct{ Stem string }

// Apply puts it together.
func (e PutTogether) Apply(s *Song) (string, error) {
	parts := s.Parts(e.Stem)
	if len(parts) == 0 {
		return "", errors.New("it is not apart")
	}
	var ids []string
	for _, p := range parts {
		ids = append(ids, p.ID)
	}
	if _, err := (Ticked{Stems: ids, Do: TickedRemove}).Apply(s); err != nil {
		return "", err
	}
	st := s.Stem(e.Stem)
	if st == nil {
		return "Take the parts out", nil
	}
	st.Mute = false
	s.Settle()
	return "Put " + st.Name + " together again", nil
}

// ApartAlone returns the song with the parts of one stem alone: what is struck as its kick, what is sustained as its bass; ok is
// false where one of them is missing. What is measured between them is an estimate: no split is perfect.
func (s Song) ApartAlone(id string) (c Song, ok bool) {
	c = s.Clone()
	c.Leader, c.Triggers = KickLeads, nil
	found := 0
	for i := range c.Stems {
		st := &c.Stems[i]
		if st.Role == Kick || st.Role == Bass {
			st.Role = Other
		}
		if st.Apart == nil || st.Apart.Of != id {
			st.Mute = true
			continue
		}
		st.Mute = false
		switch st.Apart.Is {
		case Struck:
			st.Role = Kick
			found++
		case Sustained:
			st.Role = Bass
			found++
		}
	}
	for _, chain := range c.chains() { // what goes by a trigger of the song has none here
		*chain = chain.Without(func(m move.Move) bool { return m.Params.Needs().Trigger != "" })
	}
	c.Settle()
	return c, found == 2
}

// PartSound is what is done to a part: its fader, its low end, one bell, its width, and what lasts of a hit.
type PartSound struct {
	Fader   float64 // dB
	Shelf   float64 // dB under ShelfHz
	ShelfHz float64
	Bell    float64 // dB at BellHz
	BellHz  float64
	Width   float64 // as Stem.Width
	Sustain float64 // dB
}

// Percent is the width in per cent.
func (p PartSound) Percent() float64 { return 100 * (1 + p.Width) }

// PartSound returns what is done to a part.
func (s *Stem) PartSound() PartSound {
	out := PartSound{Fader: s.Fader, Width: s.Width, ShelfHz: 120, BellHz: 250}
	if m := s.Move(BodyShelf); m != nil && !m.Off {
		if f, ok := m.Params.(*move.Filter); ok {
			out.Shelf, out.ShelfHz = f.DB, f.Hz
		}
	}
	if m := s.Move(BodyBell); m != nil && !m.Off {
		if f, ok := m.Params.(*move.Filter); ok {
			out.Bell, out.BellHz = f.DB, f.Hz
		}
	}
	if m := s.Move(BodyAttack); m != nil && !m.Off {
		if a, ok := m.Params.(*move.Attack); ok {
			out.Sustain = a.Sustain
		}
	}
	return out
}

// ShapePart does it to a part.
type ShapePart struct {
	Stem  string
	Sound PartSound
}

// Apply sets what is new of it.
func (e ShapePart) Apply(s *Song) (string, error) {
	st := s.Stem(e.Stem)
	switch {
	case st == nil || st.Apart == nil:
		return "", errNoStem
	case st.PartSound() == e.Sound:
		return "", nil
	case st.Fader != e.Sound.Fader && slices.Contains(st.Locks, TrackStep):
		return "", fmt.Errorf("the fader of %s is locked: it is automated elsewhere", st.Name)
	}
	was := st.PartSound()
	st.Fader, st.Width = e.Sound.Fader, e.Sound.Width
	set := func(id string, p move.Params, on bool) {
		if !on {
			p = nil
		}
		st.SetMove(move.Move{ID: id, Params: p})
	}
	if was.Shelf != e.Sound.Shelf || was.ShelfHz != e.Sound.ShelfHz {
		set(BodyShelf, &move.Filter{Shape: dsp.LowShelf, Hz: e.Sound.ShelfHz, Q: 0.7, DB: e.Sound.Shelf}, e.Sound.Shelf != 0)
	}
	if was.Bell != e.Sound.Bell || was.BellHz != e.Sound.BellHz {
		set(BodyBell, &move.Filter{Shape: dsp.Bell, Hz: e.Sound.BellHz, Q: 1, DB: e.Sound.Bell}, e.Sound.Bell != 0)
	}
	if was.Sustain != e.Sound.Sustain {
		a := &move.Attack{Sustain: e.Sound.Sustain}
		if m := st.Move(BodyAttack); m != nil {
			if old, ok := m.Params.(*move.Attack); ok {
				a.Attack = old.Attack
			}
		}
		set(BodyAttack, a, a.Attack != 0 || a.Sustain != 0)
	}
	return "Shape " + st.Name, nil
}
