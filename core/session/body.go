package session

import (
	"fmt"
	"strings"

	"mellowthump/core/field"
	"mellowthump/core/move"
)

// Body is what Body goes by. The default is common practice, with no published source.
type Body struct {
	Spread float64 `json:"spread_db"` // of the weights of hits and of notes, 10th to 90th percentile
	Attack float64 `json:"attack_db"` // of struck parts: peak over body
}

// CommonBody is what a new song goes by.
func CommonBody() Body { return Body{Spread: 2, Attack: 6} }

// BodyRules returns the song's own, or those of common practice.
func (s *Song) BodyRules() Body {
	if s.Body != nil {
		return *s.Body
	}
	return CommonBody()
}

// Fields are its values.
func (b *Body) Fields() []field.Field {
	return []field.Field{
		{Name: "spread", Label: "spread", Unit: "dB", Number: &b.Spread, Lo: 0.5, Hi: 24, Step: 0.5},
		{Name: "attack", Label: "attack", Unit: "dB", Number: &b.Attack, Lo: 0, Hi: 24, Step: 0.5},
	}
}

// SetBody sets what Body goes by.
type SetBody struct{ Body Body }

// Apply sets it.
func (e SetBody) Apply(s *Song) (string, error) {
	if e.Body == s.BodyRules() {
		return "", nil
	}
	s.Body = &e.Body
	return fmt.Sprintf("Ask that hits weigh the same within %g dB, and %g dB of attack", e.Body.Spread, e.Body.Attack), nil
}

// The ids of what Body does to a stem begin with bodyMove.
const (
	bodyMove   = "body-"
	BodySteady = bodyMove + "steady"
	BodyAttack = bodyMove + "attack"
	BodyDrive  = bodyMove + "drive"
	BodyShelf  = bodyMove + "shelf" // of a part of what was taken apart
	BodyBell   = bodyMove + "bell"
	BodyHand   = bodyMove + "hand" // layers hand over
	BodyTurn   = bodyMove + "turn"
	BodyBeats  = bodyMove + "beats" // a layer on chosen beats
	BodySub    = bodyMove + "sub"
	BodyLift   = bodyMove + "lift" // of the low end of a kick
	BodyFall   = bodyMove + "fall" // of the pitch of a bass
	BodyGlue   = bodyMove + "glue"
	BodyBands  = bodyMove + "bands"

	BodyAttackBands = bodyMove + "attack-bands"
	BodyParallel    = bodyMove + "parallel"
)

// OfBody reports whether a move is one of Body's.
func OfBody(m move.Move) bool { return strings.HasPrefix(m.ID, bodyMove) }

// Unbodied returns the song without what Body did: the "before" of Body.
func (s Song) Unbodied() Song { return s.Without(OfBody) }

// Unsteadied returns the song without what evens its hits out.
func (s Song) Unsteadied() Song {
	return s.Without(func(m move.Move) bool { return m.ID == BodySteady })
}

// Unlike returns the song without the moves of an id.
func (s Song) Unlike(id string) Song {
	return s.Without(func(m move.Move) bool { return m.ID == id })
}

// Unshaped returns the song without Body's shaping of attacks.
func (s Song) Unshaped() Song {
	return s.Without(func(m move.Move) bool { return m.ID == BodyAttack })
}

// Undriven returns the song without the harmonics that Body adds.
func (s Song) Undriven() Song {
	return s.Without(func(m move.Move) bool { return m.ID == BodyDrive })
}

// Unsteady takes out what evens stems out.
type Unsteady struct{ Stems []string }

// Apply takes it out.
func (e Unsteady) Apply(s *Song) (string, error) {
	said := ""
	for _, id := range e.Stems {
		if st := s.Stem(id); st != nil && st.Move(BodySteady) != nil {
			st.SetMove(move.Move{ID: BodySteady})
			said = st.Name + " weighs what it weighed"
		}
	}
	return said, nil
}
