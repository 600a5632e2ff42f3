package session

import (
	"slices"

	"mellowthump/core/move"
)

// UnduckedAt returns the song without the ducks of one place; ok is false where none of them is on.
func (s Song) UnduckedAt(at At) (c Song, ok bool) {
	c = s
	c.Stems, c.Buses = slices.Clone(s.Stems), slices.Clone(s.Buses)
	chain, _ := c.Chain(at)
	if chain == nil || !slices.ContainsFunc(*chain, func(m move.Move) bool { return !m.Off && isDuck(m.Params) }) {
		return s, false
	}
	*chain = chain.Without(func(m move.Move) bool { return isDuck(m.Params) })
	return c, true
}

// Brought returns the song as its files came: no move, no gain, no pan, no width.
func (s Song) Brought() Song { return s.Bypassed().Untrimmed() }

// Bypassed returns the song with every move out, at the levels that it has.
func (s Song) Bypassed() Song { return s.Without(func(move.Move) bool { return true }) }

// Unducked returns the song with every duck out and all other moves as they are: the "before" of Duck.
func (s Song) Unducked() Song {
	return s.Without(func(m move.Move) bool { return isDuck(m.Params) })
}

func isDuck(p move.Params) bool {
	_, ok := p.(*move.Duck)
	return ok
}

// Without returns the song without the moves that drop names, in all its chains.
func (s Song) Without(drop func(move.Move) bool) Song {
	c := s
	c.Stems, c.Buses = slices.Clone(s.Stems), slices.Clone(s.Buses)
	for _, chain := range c.chains() {
		*chain = chain.Without(drop)
	}
	return c
}

// Disagreed returns the song before kick and bass were brought to agree: of their moves their ducks alone are left. It
// is the "before" of Pocket.
func (s Song) Disagreed() Song {
	c := s
	c.Stems = slices.Clone(s.Stems)
	for i := range c.Stems {
		if st := &c.Stems[i]; st.Role == Kick || st.Role == Bass {
			st.Moves = st.Moves.Without(func(m move.Move) bool { return !isDuck(m.Params) })
		}
	}
	return c
}

// WithoutMove returns the song without one move of one chain; ok is false where it is not there.
func (s Song) WithoutMove(at At, id string) (c Song, ok bool) {
	c = s
	c.Stems, c.Buses = slices.Clone(s.Stems), slices.Clone(s.Buses)
	chain, _ := c.Chain(at)
	if chain == nil || chain.Move(id) == nil {
		return s, false
	}
	*chain = chain.Without(func(m move.Move) bool { return m.ID == id })
	return c, true
}

// Untrimmed returns the song with every gain, pan and width as the files came: the "before" of
// Levels.
func (s Song) Untrimmed() Song {
	c := s
	c.Stems = append([]Stem(nil), s.Stems...)
	for i := range c.Stems {
		st := &c.Stems[i]
		st.Source, st.Clip, st.Fader, st.Pan, st.Width = 0, 0, 0, 0, 0
	}
	c.Buses = append([]Bus(nil), s.Buses...)
	for i := range c.Buses {
		c.Buses[i].Fader = 0
	}
	c.Master.Fader = 0
	return c
}
