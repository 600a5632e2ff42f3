package session

import (
	"errors"
	"slices"
	"strings"
)

// Back says of a stem whose file was bounced elsewhere which earlier file the bounce was planned for, and what of the plan it
// holds: that is off here, so that nothing is applied twice.
type Back struct {
	Of     string   `json:"of"`              // SHA-256 of the earlier file, hex
	All    bool     `json:"all,omitempty"`   // all that was planned has landed: the next bounce is planned for this file
	Moves  []string `json:"moves,omitempty"` // ids
	Source float64  `json:"source_db,omitempty"`
	Clip   float64  `json:"clip_db,omitempty"`
	Fader  float64  `json:"fader_db,omitempty"`
}

// PlannedFor is the file that the next bounce of a stem is planned for, and its steps of gain and moves as they were planned: what
// its file holds of them already is among them.
func (s *Stem) PlannedFor() (audio string, planned Stem) {
	planned = *s
	planned.Moves = slices.Clone(s.Moves)
	b := s.Back
	if b == nil || b.All {
		return s.Audio, planned
	}
	planned.Source, planned.Clip, planned.Fader = s.Source+b.Source, s.Clip+b.Clip, s.Fader+b.Fader
	for i := range planned.Moves {
		if m := &planned.Moves[i]; slices.Contains(b.Moves, m.ID) {
			m.Off = false
		}
	}
	return b.Of, planned
}

// BeforeLanded is a stem as it stood before its last bounce had landed: what that holds is planned again. It must have come back.
func (s *Stem) BeforeLanded() *Stem {
	was, back := *s, *s.Back
	back.All = false
	was.Back = &back
	return &was
}

// Bounced puts a file that was bounced elsewhere in the place of a stem's. What of the plan it holds is off from here on; what it
// does not hold, and an earlier bounce did, is on again.
type Bounced struct {
	Stem, Audio string
	From        string   // the stem's file when it was compared
	Moves       []string // ids of the moves that it holds, at least in part
	Gain        []Step   // the steps of gain that it holds
	Part        float64  // of their dB: 1 where all of it came
	All         bool     // all that was planned has landed
	Again       bool     // it was compared with the plan that had landed before: what it does not hold of that is on again
	Said        string   // "landed"
}

// Apply keeps the earlier file's hash beside it.
func (e Bounced) Apply(s *Song) (string, error) {
	st := s.Stem(e.Stem)
	switch {
	case st == nil:
		return "", errors.New("the stem that it is a bounce of is no longer there")
	case st.Audio == e.Audio:
		return "", errors.New("it is the same file as before")
	case st.Audio != e.From:
		return "", errors.New("another file of that stem has come in meanwhile")
	}
	plan := st
	if e.Again && st.Back != nil {
		plan = st.BeforeLanded()
	}
	of, planned := plan.PlannedFor()
	st.Was, st.Audio, st.Holds = st.Audio, e.Audio, ""
	st.Source, st.Clip, st.Fader, st.Moves = planned.Source, planned.Clip, planned.Fader, planned.Moves
	b := &Back{Of: of, All: e.All}
	var holds []string
	for i := range st.Moves {
		if m := &st.Moves[i]; !m.Off && slices.Contains(e.Moves, m.ID) {
			m.Off = true
			b.Moves = append(b.Moves, m.ID)
			holds = append(holds, strings.ToLower(m.Params.Kind().Label))
		}
	}
	for _, g := range []struct {
		step Step
		at   *float64
		held *float64
	}{{SourceStep, &st.Source, &b.Source}, {ClipStep, &st.Clip, &b.Clip}, {TrackStep, &st.Fader, &b.Fader}} {
		if slices.Contains(e.Gain, g.step) {
			*g.held = e.Part * *g.at
			*g.at -= *g.held
		}
	}
	if b.Source != 0 || b.Clip != 0 || b.Fader != 0 {
		holds = append(holds, "gains")
	}
	st.Back, st.Holds = b, strings.Join(holds, ", ")
	s.Settle()
	return "Bounce of " + st.Name + ": " + e.Said, nil
}
