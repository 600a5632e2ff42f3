package session

import (
	"fmt"
	"slices"
	"strings"

	"mellowthump/core/move"
)

// At is a place that has a chain: a stem, a bus, or the master where both are empty.
type At struct{ Stem, Bus string }

// ParseAt reads what String writes.
func ParseAt(text string) At {
	if bus, ok := strings.CutPrefix(text, "bus:"); ok {
		return At{Bus: bus}
	}
	if text == "master" {
		return At{}
	}
	return At{Stem: text}
}

// String names the place in addresses and forms: a stem's id, "bus:" and a bus's, or "master".
func (a At) String() string {
	switch {
	case a.Stem != "":
		return a.Stem
	case a.Bus != "":
		return "bus:" + a.Bus
	}
	return "master"
}

// Where says what kind of place it is.
func (a At) Where() move.Where {
	switch {
	case a.Stem != "":
		return move.OnStem
	case a.Bus != "":
		return move.OnBus
	}
	return move.OnMaster
}

// Chain returns the chain at a place and the name of the place; nil where it is not there.
func (s *Song) Chain(at At) (*move.Chain, string) {
	switch {
	case at.Stem != "":
		if st := s.Stem(at.Stem); st != nil {
			return &st.Moves, st.Name
		}
		return nil, ""
	case at.Bus != "":
		if b := s.Bus(at.Bus); b != nil {
			return &b.Moves, b.Name
		}
		return nil, ""
	}
	return &s.Master.Moves, "the master"
}

// chains returns all chains: of the stems, the buses and the master, in order.
func (s *Song) chains() []*move.Chain {
	out := make([]*move.Chain, 0, len(s.Stems)+len(s.Buses)+1)
	for i := range s.Stems {
		out = append(out, &s.Stems[i].Moves)
	}
	for i := range s.Buses {
		out = append(out, &s.Buses[i].Moves)
	}
	return append(out, &s.Master.Moves)
}

// Places lists all places that have a chain: the stems, the buses and the master, in order.
func (s *Song) Places() []At {
	var out []At
	for i := range s.Stems {
		out = append(out, At{Stem: s.Stems[i].ID})
	}
	for i := range s.Buses {
		out = append(out, At{Bus: s.Buses[i].ID})
	}
	return append(out, At{})
}

// Move returns the move with that id, nil where there is none.
func (s *Stem) Move(id string) *move.Move { return s.Moves.Move(id) }

// SetMove puts a move into the stem's chain, or takes it out.
func (s *Stem) SetMove(m move.Move) { s.Moves = s.Moves.With(m) }

// Split reports whether the stem is the head or the tail of a file that was split in two.
func (s *Stem) Split() bool {
	return slices.ContainsFunc(s.Moves, func(m move.Move) bool {
		_, ok := m.Params.(*move.Part)
		return ok
	})
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
	rest.Back = nil
	rest.SetMove(move.Move{ID: splitMove, Params: &move.Part{Keep: move.Tail, Trigger: KickTrigger, At: at, Fade: fade}})
	st.SetMove(move.Move{ID: splitMove, Params: &move.Part{Keep: move.Head, Trigger: KickTrigger, At: at, Fade: fade}})
	st.Role = Kick
	if t := s.Trigger(KickTrigger); t != nil && len(s.ByRole(Kick)) == 1 {
		t.Stem = id
	}
	s.Stems = append(s.Stems, rest)
	s.Settle()
	return tail, nil
}

const splitMove = "split"

// Flip is the id of the move that turns a stem over that is upside down in its file.
const Flip = "flip"

// TurnOver turns a stem over, or back.
func TurnOver(st *Stem) Edit {
	m := move.Move{ID: Flip, Params: &move.Polarity{}}
	if st.Move(Flip) != nil {
		m.Params = nil
	}
	return SetMove{At: At{Stem: st.ID}, Move: m, Said: "Turn " + st.Name + " over"}
}

// IntakeRumble is the id of the move of Intake that takes away what stands under a part.
const IntakeRumble = "rumble"

// BassTune is the id of the move of Pocket that tunes a bass.
const BassTune = "tune-bass"
