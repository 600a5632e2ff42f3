package session

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"strings"

	"mellowthump/core/move"
)

// Ducked is the role that makes room: the bass where the kick leads, the kick where the bass does.
func (s *Song) Ducked() Role {
	if s.Leader == BassLeads {
		return Kick
	}
	return Bass
}

// Duck returns the song's own duck, on or off, and whether it is off; nil where there is none. It is on
// the part that makes room.
func (s *Song) Duck() (d *move.Duck, off bool) {
	if m := s.duckMove(); m != nil {
		return m.Params.(*move.Duck), m.Off
	}
	return nil, false
}

// Fitted reports whether the song's duck is what a fit made of it as it is: nothing that the fit went by has changed since, so
// that its reason holds.
func (s *Song) Fitted() bool { return s.DuckWhy() != "" && s.FitOf != "" && s.FitOf == s.fitStamp() }

// fitForm is all of a song that a fit goes by, in the form that its stamp is made of: stamps outlive formats.
type fitForm struct {
	Format   int       `json:"format"`
	Name     string    `json:"name"`
	BPM      float64   `json:"bpm"`
	Leader   Leader    `json:"leader"`
	Rate     int       `json:"rate_hz"`
	Targets  Targets   `json:"targets"`
	Stems    []Stem    `json:"stems"`
	Buses    []Bus     `json:"buses,omitempty"`
	Master   Master    `json:"master,omitzero"`
	Triggers []Trigger `json:"triggers,omitempty"`
	Sections []Section `json:"sections,omitempty"`
}

// fitStamp is a hash of all that a fit goes by, and of the duck that it made.
func (s *Song) fitStamp() string {
	c := fitForm{BPM: s.BPM, Leader: s.Leader, Rate: s.Rate, Targets: s.Targets, Buses: s.Buses, Master: s.Master, Triggers: s.Triggers, Sections: s.shallow()}
	for _, st := range s.Stems {
		if st.Role == Kick || st.Role == Bass {
			st.Name, st.Was, st.Holds, st.Back = "", "", "", nil
			c.Stems = append(c.Stems, st)
		}
	}
	b, err := json.Marshal(c)
	if err != nil {
		return ""
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:8])
}

// DuckWhy is the reason that the song's duck carries.
func (s *Song) DuckWhy() string {
	if m := s.duckMove(); m != nil {
		return m.Why
	}
	return ""
}

// duckMove is the song's own duck on the first of the stems that has it, on one where it is on if there is such.
func (s *Song) duckMove() (found *move.Move) {
	for i := range s.Stems {
		if st := &s.Stems[i]; st.Role == s.Ducked() {
			if m := st.Move(mainDuck + st.ID); m != nil && (found == nil || found.Off && !m.Off) {
				found = m
			}
		}
	}
	return found
}

// DuckTrigger is the id of the trigger at which the song's own duck works: the kick's, unless another was
// chosen for it.
func (s *Song) DuckTrigger() string {
	if d, _ := s.Duck(); d != nil && s.Trigger(d.Trigger) != nil {
		return d.Trigger
	}
	return KickTrigger
}

// SetLeader says who leads. A duck made for the other leader is taken out, which is reported: it lowers
// the part that is to lead now.
func (s *Song) SetLeader(l Leader) (dropped bool) {
	if s.Leader == l {
		return false
	}
	d, _ := s.Duck()
	s.SetDuck(nil, false, "")
	s.Leader = l
	s.ownDuckOnly()
	return d != nil
}

// ownDuckOnly takes off the stems that have the song's duck what else of theirs ducks to its trigger. To other triggers
// they may duck besides.
func (s *Song) ownDuckOnly() {
	trigger := s.DuckTrigger()
	for i := range s.Stems {
		if st := &s.Stems[i]; st.Role == s.Ducked() {
			st.Moves = st.Moves.Without(func(m move.Move) bool {
				d, ok := m.Params.(*move.Duck)
				return ok && d.Trigger == trigger && strings.HasPrefix(m.ID, PartDuck)
			})
		}
	}
}

// SetDuck puts the same duck on every stem of the part that makes room, at the end of its chain; nil
// takes it away. Ducks of other parts are their own.
func (s *Song) SetDuck(d *move.Duck, off bool, why string) {
	for i := range s.Stems {
		st := &s.Stems[i]
		m := move.Move{ID: mainDuck + st.ID, Off: off, Why: why}
		if d != nil && st.Role == s.Ducked() {
			m.Params = d
		}
		st.SetMove(m)
	}
	s.ownDuckOnly()
}

// Settle keeps what hangs together in order after an edit of stems or roles: the kick's
// trigger names a kick, and the duck is on the part that makes room only.
func (s *Song) Settle() {
	if st := s.TriggerStem(); st != nil {
		if t := s.Trigger(KickTrigger); t != nil {
			t.Stem = st.ID
		} else {
			s.Triggers = append(s.Triggers, Trigger{ID: KickTrigger, Name: "Kick", Stem: st.ID})
		}
	}
	s.ownDuckOnly()
	var shared *move.Move
	for _, st := range s.Stems {
		if m := st.Move(mainDuck + st.ID); m != nil && shared == nil {
			c := *m
			shared = &c
		}
	}
	if shared == nil {
		return
	}
	for i := range s.Stems {
		switch st := &s.Stems[i]; {
		case st.Role != s.Ducked():
			st.SetMove(move.Move{ID: mainDuck + st.ID})
		case st.Move(mainDuck+st.ID) == nil: // one that has it may have it off, where its file holds it
			st.SetMove(move.Move{ID: mainDuck + st.ID, Off: shared.Off, Why: shared.Why, Params: move.Copy(shared.Params)})
		}
	}
}

// The ids of ducks begin with these: the bass's own, that of any other part.
const (
	mainDuck = "duck-"
	PartDuck = "part-"
)

// DuckMove returns the duck of a stem, on or off, of several the song's own; nil where it has none.
func (s *Stem) DuckMove() (*move.Move, *move.Duck) {
	if m := s.Move(mainDuck + s.ID); m != nil {
		return m, m.Params.(*move.Duck)
	}
	return s.Moves.Duck()
}

// keyLoop names a stem that would listen to itself: through the triggers of keyed ducks a stem's sound
// must never depend on its own.
func (s *Song) keyLoop() string {
	listens := func(st *Stem) (out []*Stem) {
		chains := []move.Chain{st.Moves}
		for _, b := range s.Path(st.Bus) {
			chains = append(chains, b.Moves)
		}
		for _, c := range chains {
			for _, m := range c {
				if n := m.Params.Needs(); !m.Off && n.Sound {
					out = append(out, s.Sources(s.Trigger(n.Trigger))...)
				}
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
