package move

import (
	"cmp"
	"fmt"
	"slices"
)

// Chain is what is done at one place, in order: its moves stand by their kinds' places, those of one kind as
// they were put in.
type Chain []Move

// MaxMoves is the most moves of a chain.
const MaxMoves = 64

// Move returns the move with that id, nil where there is none.
func (c Chain) Move(id string) *Move {
	for i := range c {
		if c[i].ID == id {
			return &c[i]
		}
	}
	return nil
}

// With returns the chain with a move at its kind's place, instead of the one with its id; nil parameters take
// that one out. The chain itself stays as it is.
func (c Chain) With(m Move) Chain {
	kept := slices.DeleteFunc(slices.Clone(c), func(o Move) bool { return o.ID == m.ID })
	if m.Params != nil {
		kept = append(kept, m)
		slices.SortStableFunc(kept, func(a, b Move) int { return cmp.Compare(a.Params.Kind().Place(), b.Params.Kind().Place()) })
	}
	if len(kept) == 0 {
		return nil
	}
	return kept
}

// Without returns the chain without the moves that drop names.
func (c Chain) Without(drop func(Move) bool) Chain {
	kept := slices.DeleteFunc(slices.Clone(c), drop)
	if len(kept) == 0 {
		return nil
	}
	return kept
}

// Active returns the moves that are on.
func (c Chain) Active() Chain { return c.Without(func(m Move) bool { return m.Off }) }

// Linear reports whether all moves that are on are linear.
func (c Chain) Linear() bool {
	return !slices.ContainsFunc(c, func(m Move) bool { return !m.Off && !m.Params.Kind().Linear })
}

// Duck returns the chain's first duck, on or off; nil where it has none.
func (c Chain) Duck() (*Move, *Duck) {
	for i := range c {
		if d, ok := c[i].Params.(*Duck); ok {
			return &c[i], d
		}
	}
	return nil, nil
}

// Validate returns an error in plain words where a chain cannot stand at a place.
func (c Chain) Validate(at Where) error {
	if len(c) > MaxMoves {
		return fmt.Errorf("a chain holds at most %d moves", MaxMoves)
	}
	seen := map[string]bool{}
	for i, m := range c {
		switch {
		case m.Params == nil:
			return fmt.Errorf("move %d has no parameters", i+1)
		case !ValidID(m.ID):
			return fmt.Errorf("move %d has an id that is none", i+1)
		case seen[m.ID]:
			return fmt.Errorf("two moves have the id %q", m.ID)
		case len([]rune(m.Why)) > MaxWhy:
			return fmt.Errorf("the reason of a move is longer than %d characters", MaxWhy)
		case m.Params.Kind().Where&at == 0:
			return fmt.Errorf("a %s cannot stand on a %s", m.Params.Kind().Lower(), at)
		case i > 0 && c[i-1].Params.Kind().Place() > m.Params.Kind().Place():
			return fmt.Errorf("a %s stands behind a %s", m.Params.Kind().Lower(), c[i-1].Params.Kind().Lower())
		}
		if err := Validate(m.Params); err != nil {
			return fmt.Errorf("%s: %w", m.Params.Kind().Lower(), err)
		}
		seen[m.ID] = true
	}
	return nil
}

// Limits of what a move carries besides its parameters.
const (
	MaxID  = 64
	MaxWhy = 1000 // characters
)

// ValidID reports whether an id is made of letters, digits, dots, hyphens and underscores alone: it stands in
// addresses and in pages.
func ValidID(id string) bool {
	if id == "" || len(id) > MaxID {
		return false
	}
	for _, r := range id {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' || r == '.') {
			return false
		}
	}
	return true
}
