package session

import (
	"fmt"
	"strings"

	"mellowthump/core/move"
)

// CompareMatch begins the ids of the bells and shelves that bring the mix nearer to a finished track.
const CompareMatch = "compare-match-"

// OfCompare reports whether a move is one of Compare's.
func OfCompare(m move.Move) bool { return strings.HasPrefix(m.ID, CompareMatch) }

// Unmatched returns the song without what Compare did: the "before" of Compare.
func (s Song) Unmatched() Song { return s.Without(OfCompare) }

// Match puts bells and shelves on the master, in the place of those before; none takes them out.
type Match struct {
	Filters []*move.Filter
	Why     string
}

// Apply puts them on.
func (e Match) Apply(s *Song) (string, error) {
	had := len(s.Master.Moves)
	s.Master.Moves = s.Master.Moves.Without(OfCompare)
	had -= len(s.Master.Moves)
	for i, f := range e.Filters {
		s.Master.Moves = s.Master.Moves.With(move.Move{ID: fmt.Sprintf("%s%d", CompareMatch, i+1), Params: f, Why: e.Why})
	}
	switch {
	case len(e.Filters) > 0:
		return "Match the mix by " + count(len(e.Filters), "filter"), s.Validate()
	case had > 0:
		return "Take the match out", s.Validate()
	}
	return "", nil
}
