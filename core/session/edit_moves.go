package session

import (
	"fmt"

	"mellowthump/core/move"
)

// SetMove puts a move into a chain at its kind's place, instead of the one with its id; a move without parameters takes
// that one out.
type SetMove struct {
	At   At
	Move move.Move
	Said string // empty: what of the move is new
}

// Apply puts it in.
func (e SetMove) Apply(s *Song) (string, error) {
	chain, name := s.Chain(e.At)
	if chain == nil {
		return "", errNoPlace(e.At)
	}
	was := chain.Move(e.Move.ID)
	said := e.Said
	switch {
	case e.Move.Params == nil && was == nil:
		return "", nil
	case e.Move.Params == nil:
		said = or(said, was.Params.Kind().Label+" off "+name)
	default:
		var before move.Params
		if was != nil {
			before = was.Params
		}
		changed := move.Changed(before, e.Move.Params)
		if changed == "" && was.Off == e.Move.Off {
			return "", nil
		}
		said = or(said, fmt.Sprintf("%s on %s: %s", e.Move.Params.Kind().Label, name, changed))
	}
	*chain = chain.With(e.Move)
	return said, nil
}

func or(said, plain string) string {
	if said != "" {
		return said
	}
	return plain
}

func errNoPlace(at At) error {
	if at.Bus != "" {
		return errNoBus
	}
	return errNoStem
}

// AddMove puts a fresh move of a kind into a chain; where it needs a trigger it takes the song's.
type AddMove struct {
	At   At
	Kind string
	Of   string // begins its id: PrintMove on Print; empty: the song's own
}

// Apply puts it in under a new id.
func (e AddMove) Apply(s *Song) (string, error) {
	k := move.KindOf(e.Kind)
	chain, name := s.Chain(e.At)
	switch {
	case chain == nil:
		return "", errNoPlace(e.At)
	case k == nil || k.Where&e.At.Where() == 0:
		return "", fmt.Errorf("that cannot stand on %s", name)
	}
	p := k.Fresh()
	for _, f := range p.Fields() {
		if f.Trigger && !f.None {
			*f.Text = s.DuckTrigger()
		}
	}
	id := ""
	for n := 1; id == "" || chain.Move(id) != nil; n++ {
		id = fmt.Sprintf("%s%s%d", e.Of, k.Name, n)
	}
	*chain = chain.With(move.Move{ID: id, Params: p})
	return fmt.Sprintf("%s on %s", k.Label, name), nil
}

// moveAt returns a move with its chain and the name of its place.
func (s *Song) moveAt(at At, id string) (chain *move.Chain, name string, m *move.Move, err error) {
	if chain, name = s.Chain(at); chain == nil {
		return nil, "", nil, errNoPlace(at)
	}
	if m = chain.Move(id); m == nil {
		return nil, "", nil, errNoMove
	}
	return chain, name, m, nil
}

// SwitchMove turns a move off, or on again.
type SwitchMove struct {
	At At
	ID string
}

// Apply turns it.
func (e SwitchMove) Apply(s *Song) (string, error) {
	_, name, m, err := s.moveAt(e.At, e.ID)
	if err != nil {
		return "", err
	}
	m.Off = !m.Off
	return map[bool]string{true: "Off: ", false: "On: "}[m.Off] + move.Words(m.Params) + " on " + name, nil
}

// DropMove takes a move out of a chain.
type DropMove struct {
	At At
	ID string
}

// Apply takes it out.
func (e DropMove) Apply(s *Song) (string, error) {
	chain, name, m, err := s.moveAt(e.At, e.ID)
	if err != nil {
		return "", err
	}
	said := m.Params.Kind().Label + " off " + name
	*chain = chain.With(move.Move{ID: e.ID})
	return said, nil
}
