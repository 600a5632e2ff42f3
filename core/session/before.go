package session

import (
	"slices"

	"mellowthump/core/move"
)

// Bypassed returns the song with every move out: what was brought.
func (s Song) Bypassed() Song { return s.without(func(move.Move) bool { return true }) }

// Unducked returns the song with every duck out and all other moves as they are: the "before" of Duck.
func (s Song) Unducked() Song {
	return s.without(func(m move.Move) bool { return isDuck(m.Params) })
}

func isDuck(p move.Params) bool {
	_, ok := p.(*move.Duck)
	return ok
}

// without returns the song without the moves that drop names, in all its chains.
func (s Song) without(drop func(move.Move) bool) Song {
	c := s
	c.Stems, c.Buses = slices.Clone(s.Stems), slices.Clone(s.Buses)
	for _, chain := range c.chains() {
		*chain = chain.Without(drop)
	}
	return c
}

// Moved reports whether any move is on.
func (s *Song) Moved() bool {
	return slices.ContainsFunc(s.chains(), func(c *move.Chain) bool { return len(c.Active()) > 0 })
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

// Trimmed reports whether any gain, pan or width differs from what the files came with.
func (s *Song) Trimmed() bool {
	for i := range s.Stems {
		if st := &s.Stems[i]; st.Source != 0 || st.Clip != 0 || st.Fader != 0 || st.Pan != 0 || st.Width != 0 {
			return true
		}
	}
	return s.Master.Fader != 0 || slices.ContainsFunc(s.Buses, func(b Bus) bool { return b.Fader != 0 })
}
