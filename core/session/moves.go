package session

import (
	"slices"

	"mellowthump/core/move"
)

// chainOrder is the order in which kinds of moves stand in a chain: what changes the sound of a
// hit first, then its place, ducking last.
var chainOrder = []move.Kind{move.KindPolarity, move.KindTune, move.KindFilter, move.KindFade, move.KindNudge, move.KindDuck}

// Move returns the move with that id, nil where there is none.
func (s *Stem) Move(id string) *move.Move {
	for i := range s.Moves {
		if s.Moves[i].ID == id {
			return &s.Moves[i]
		}
	}
	return nil
}

// SetMove puts a move into the chain at its kind's place, instead of the one with its id; nil
// parameters take that one out.
func (s *Stem) SetMove(m move.Move) {
	kept := slices.DeleteFunc(slices.Clone(s.Moves), func(o move.Move) bool { return o.ID == m.ID })
	if m.Params != nil {
		kept = append(kept, m)
		slices.SortStableFunc(kept, func(a, b move.Move) int {
			return slices.Index(chainOrder, a.Params.Kind()) - slices.Index(chainOrder, b.Params.Kind())
		})
	}
	s.Moves = kept
	if len(kept) == 0 {
		s.Moves = nil
	}
}

// Nudged returns by how many ms the stem's moves place it later.
func (s *Stem) Nudged() float64 {
	ms := 0.0
	for _, m := range s.Moves {
		if n, ok := m.Params.(*move.Nudge); ok && !m.Off {
			ms += n.MS
		}
	}
	return ms
}

// Tuned returns by how many cents the stem's moves tune it as a whole.
func (s *Stem) Tuned() float64 {
	cents := 0.0
	for _, m := range s.Moves {
		if t, ok := m.Params.(*move.Tune); ok && !m.Off {
			cents += t.Cents
		}
	}
	return cents
}

// Flipped reports whether the stem's moves turn it upside down.
func (s *Stem) Flipped() bool {
	flipped := false
	for _, m := range s.Moves {
		if _, ok := m.Params.(*move.Polarity); ok && !m.Off {
			flipped = !flipped
		}
	}
	return flipped
}

// Unducked returns the song with every duck off and all other moves as they are: the "before" of
// Duck.
func (s Song) Unducked() Song {
	c := s
	c.Stems = append([]Stem(nil), s.Stems...)
	for i := range c.Stems {
		c.Stems[i].Moves = slices.DeleteFunc(slices.Clone(c.Stems[i].Moves), func(m move.Move) bool { return m.Params.Kind() == move.KindDuck })
	}
	return c
}

// keyLoop names a stem that would listen to itself: through the triggers of keyed ducks a stem's sound
// must never depend on its own.
func (s *Song) keyLoop() string {
	listens := func(st *Stem) *Stem {
		m, d := st.DuckMove()
		if d == nil || m.Off || !d.Keyed() {
			return nil
		}
		if t := s.Trigger(d.Trigger); t != nil {
			return s.Stem(t.Stem)
		}
		return nil
	}
	for i := range s.Stems {
		at := &s.Stems[i]
		for n := 0; at != nil; n++ {
			if n > len(s.Stems) {
				return s.Stems[i].Name
			}
			at = listens(at)
		}
	}
	return ""
}
