package session

import (
	"fmt"
	"slices"

	"mellowthump/core/move"
)

// chainOrder is the order in which kinds of moves stand in a chain: what changes the sound of a
// hit first, then its place, ducking last.
var chainOrder = []move.Kind{move.KindPart, move.KindPolarity, move.KindTune, move.KindFilter, move.KindFade, move.KindNudge, move.KindDuck}

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

// Split reports whether the stem is the head or the tail of a file that was split in two.
func (s *Stem) Split() bool {
	return slices.ContainsFunc(s.Moves, func(m move.Move) bool { return m.Params.Kind() == move.KindPart })
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
	c.Buses = withoutDucks(s.Buses)
	return c
}

func withoutDucks(buses []Bus) []Bus {
	out := append([]Bus(nil), buses...)
	for i := range out {
		out[i].Duck = nil
	}
	return out
}

// Clicks reports whether a trigger has hits but no sound of its own: a grid, or notes of a file.
func (t *Trigger) Clicks() bool { return t.Grid != "" || t.MIDI != nil }

// Sources returns the stems whose hits a trigger takes.
func (s *Song) Sources(t *Trigger) []*Stem {
	if t == nil || t.Clicks() {
		return nil
	}
	if t.ID == KickTrigger {
		if st := s.TriggerStem(); st != nil {
			return []*Stem{st}
		}
		return nil
	}
	var out []*Stem
	for i := range s.Stems {
		if st := &s.Stems[i]; t.Bus != "" && !st.Mute && s.Reaches(st, t.Bus) {
			out = append(out, st)
		}
	}
	for _, id := range append([]string{t.Stem}, t.Stems...) {
		if st := s.Stem(id); st != nil && !slices.Contains(out, st) {
			out = append(out, st)
		}
	}
	return out
}

// keyLoop names a stem that would listen to itself: through the triggers of keyed ducks a stem's sound
// must never depend on its own.
func (s *Song) keyLoop() string {
	listens := func(st *Stem) (out []*Stem) {
		add := func(m *move.Move) {
			if d, ok := m.Params.(*move.Duck); ok && !m.Off && d.Keyed() {
				out = append(out, s.Sources(s.Trigger(d.Trigger))...)
			}
		}
		for i := range st.Moves {
			add(&st.Moves[i])
		}
		for _, b := range s.Path(st.Bus) {
			if b.Duck != nil {
				add(b.Duck)
			}
		}
		return out
	}
	const open, closed = 1, 2
	state := map[string]int{}
	var visit func(st *Stem) bool
	visit = func(st *Stem) bool {
		switch state[st.ID] {
		case open:
			return true
		case closed:
			return false
		}
		state[st.ID] = open
		for _, next := range listens(st) {
			if visit(next) {
				return true
			}
		}
		state[st.ID] = closed
		return false
	}
	for i := range s.Stems {
		if visit(&s.Stems[i]) {
			return s.Stems[i].Name
		}
	}
	return ""
}

// Split makes two stems of one whose file holds kick and bass: the head of every hit stays, its tail
// becomes a stem of its own, a bass, that can be tuned and ducked alone. Together they are the sound as it
// was.
func (s *Song) Split(id string, at, fade float64) (tail string, err error) {
	st := s.Stem(id)
	if st == nil {
		return "", fmt.Errorf("that stem is no longer there")
	}
	if st.Move(splitMove) != nil {
		return "", fmt.Errorf("%s is split already", st.Name)
	}
	for n := 1; ; n++ {
		if tail = fmt.Sprintf("%s-tail%d", id, n); s.Stem(tail) == nil {
			break
		}
	}
	other := s.Clone()
	rest := *other.Stem(id)
	rest.ID, rest.Name, rest.Role, rest.Was = tail, st.Name+" tail", Bass, ""
	rest.SetMove(move.Move{ID: splitMove, Params: &move.Part{Keep: move.Tail, Trigger: KickTrigger, At: at, Fade: fade}})
	st.SetMove(move.Move{ID: splitMove, Params: &move.Part{Keep: move.Head, Trigger: KickTrigger, At: at, Fade: fade}})
	st.Role = Kick
	if t := s.Trigger(KickTrigger); t != nil && len(s.ByRole(Kick)) == 1 {
		t.Stem = id
	}
	s.Stems = append(s.Stems, rest)
	s.Settle()
	return tail, s.Validate()
}

const splitMove = "split"
