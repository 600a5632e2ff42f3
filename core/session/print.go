package session

import (
	"fmt"
	"slices"
	"strings"

	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/move"
)

// PrintMove begins the ids of what Print puts on the master, for the copy that goes out to be heard.
const PrintMove = "print-"

// The moves of Print.
const (
	PrintClip  = PrintMove + "clip"
	PrintFirst = PrintMove + "first" // of two limiters
	PrintLimit = PrintMove + "limit"
)

// OfSchool reports whether a move is one that a school of the last stage put in: all others of Print's were put in by hand, and stay.
func OfSchool(m move.Move) bool { return m.ID == PrintClip || m.ID == PrintFirst || m.ID == PrintLimit }

// OfPrint reports whether a move is one of Print's.
func OfPrint(m move.Move) bool { return strings.HasPrefix(m.ID, PrintMove) }

// Unprinted returns the song without what Print does: the premaster, which all other stages judge.
func (s Song) Unprinted() Song {
	c := s
	c.Master.Moves = s.Master.Moves.Without(OfPrint)
	return c
}

// Printed reports whether anything of Print is on.
func (s *Song) Printed() bool {
	return slices.ContainsFunc(s.Master.Moves, func(m move.Move) bool { return OfPrint(m) && !m.Off })
}

// Print is what Print goes by.
type Print struct {
	School  string  `json:"school"`       // "none", "clip", "limit" or "two"
	LUFS    float64 `json:"lufs"`         // that is asked
	Ceiling float64 `json:"ceiling_dbtp"` // likewise
}

// CommonPrint is what a new song goes by: the premaster untouched; common practice.
func CommonPrint() Print { return Print{School: "none", LUFS: -9, Ceiling: -1} }

// PrintRules returns the song's own, or those of common practice.
func (s *Song) PrintRules() Print {
	if s.Print != nil {
		return *s.Print
	}
	return CommonPrint()
}

// Fields are its values.
func (p *Print) Fields() []field.Field {
	return []field.Field{
		{Name: "school", Label: "school of the last stage", Text: &p.School, Choices: field.Choices("none", "none", "clip", "clip", "limit", "limit", "two", "two")},
		{Name: "lufs", Label: "loudness", Unit: "LUFS", Number: &p.LUFS, Lo: -40, Hi: -3, Step: 0.5},
		{Name: "ceiling", Label: "ceiling", Unit: "dBTP", Number: &p.Ceiling, Lo: -12, Hi: 0, Step: 0.1},
	}
}

// SetPrint sets what Print goes by, and puts the moves of its school on the master in the place of those before. What was put
// in by hand stays before them.
type SetPrint struct {
	Print Print
	Moves move.Chain
	Why   string
}

// Apply puts them on. What the master's fader gave is in the drive of the first: behind a ceiling it would move it.
func (e SetPrint) Apply(s *Song) (string, error) {
	had := slices.ContainsFunc(s.Master.Moves, OfSchool)
	s.Print = &e.Print
	s.Master.Moves = s.Master.Moves.Without(OfSchool)
	for _, m := range e.Moves {
		m.Why = e.Why
		s.Master.Moves = s.Master.Moves.With(m)
	}
	if err := s.Validate(); err != nil {
		return "", err
	}
	switch {
	case len(e.Moves) > 0:
		return fmt.Sprintf("Print at %s LUFS under %s dBTP", figure.Signed(e.Print.LUFS, 1), figure.Signed(e.Print.Ceiling, 1)), nil
	case had:
		return "Leave the premaster untouched", nil
	}
	return "Set what Print goes by", nil
}
