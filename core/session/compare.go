package session

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"mellowthump/core/field"
	"mellowthump/core/figure"
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
		return "Match the mix by " + figure.Count(len(e.Filters), "filter"), nil
	case had > 0:
		return "Take the match out", nil
	}
	return "", nil
}

// LeastStretch is the shortest stretch of a finished track that is compared, s.
const LeastStretch = 1.0

var errStretch = fmt.Errorf("a stretch of a finished track lies within it and is at least %g s long", LeastStretch)

// SetStretch chooses what of a finished track is compared; nil: all of it.
type SetStretch struct {
	Reference string
	Stretch   *Span
}

// Apply chooses it.
func (e SetStretch) Apply(s *Song) (string, error) {
	for i := range s.References {
		r := &s.References[i]
		if r.ID != e.Reference {
			continue
		}
		was := r.Stretch
		r.Stretch = e.Stretch
		switch {
		case e.Stretch == nil && was == nil:
			return "", nil
		case e.Stretch == nil:
			return "Compare with all of " + r.Name, nil
		}
		return fmt.Sprintf("Compare with %.1f to %.1f s of %s", e.Stretch.From, e.Stretch.To, r.Name), nil
	}
	return "", errors.New("that finished track is no longer there")
}

// JudgeBy makes a finished track the first: the one that the song is judged by.
type JudgeBy struct{ Reference string }

// Apply puts it first.
func (e JudgeBy) Apply(s *Song) (string, error) {
	i := slices.IndexFunc(s.References, func(r Reference) bool { return r.ID == e.Reference })
	switch {
	case i < 0:
		return "", errors.New("that finished track is no longer there")
	case i == 0:
		return "", nil
	}
	r := s.References[i]
	s.References = slices.Insert(slices.Delete(s.References, i, i+1), 0, r)
	return "Judge the song by " + r.Name, nil
}

// Compare is what Compare goes by.
type Compare struct {
	Tolerance float64 `json:"tolerance_db"` // by which a band may differ
}

// CommonCompare is what a new song goes by: common practice.
func CommonCompare() Compare { return Compare{Tolerance: 3} }

// CompareRules returns the song's own, or those of common practice.
func (s *Song) CompareRules() Compare {
	if s.Compare != nil {
		return *s.Compare
	}
	return CommonCompare()
}

// Fields are its values.
func (c *Compare) Fields() []field.Field {
	return []field.Field{{Name: "tolerance", Label: "tolerance", Unit: "dB", Number: &c.Tolerance, Lo: 0.5, Hi: 12, Step: 0.5}}
}

// SetCompare sets what Compare goes by.
type SetCompare struct{ Compare Compare }

// Apply sets it.
func (e SetCompare) Apply(s *Song) (string, error) {
	if e.Compare == s.CompareRules() {
		return "", nil
	}
	s.Compare = &e.Compare
	return fmt.Sprintf("A band may differ by %g dB", e.Compare.Tolerance), nil
}
