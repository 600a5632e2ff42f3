package session

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Dismissal is a finding that the user put aside: it is measured on, and no longer told, until it is taken back.
type Dismissal struct {
	Stage   string `json:"stage"`
	Finding string `json:"finding"` // its id
	What    string `json:"what"`    // what it said then
	Why     string `json:"why,omitempty"`
}

// Limits of dismissals.
const (
	MaxDismissed = 1000
	MaxReason    = 500 // characters, of what it said and of the reason
)

// Dismissal returns what a finding was put aside with, nil where it was not.
func (s *Song) Dismissal(stage, finding string) *Dismissal {
	for i := range s.Dismissed {
		if d := &s.Dismissed[i]; d.Stage == stage && d.Finding == finding {
			return d
		}
	}
	return nil
}

// Dismiss puts a finding aside.
type Dismiss struct{ Dismissal }

// Apply notes it, with its reason.
func (e Dismiss) Apply(s *Song) (string, error) {
	d := e.Dismissal
	d.Why = strings.TrimSpace(d.Why)
	switch {
	case s.Dismissal(d.Stage, d.Finding) != nil:
		return "", nil
	case len([]rune(d.Why)) > MaxReason:
		return "", fmt.Errorf("the reason is longer than %d characters", MaxReason)
	}
	if what := []rune(d.What); len(what) > MaxReason {
		d.What = string(what[:MaxReason])
	}
	s.Dismissed = append(slices.Clone(s.Dismissed), d)
	if d.Why == "" {
		return "Leave be: " + d.What, nil
	}
	return fmt.Sprintf("Leave be: %s (%s)", d.What, d.Why), nil
}

// Reopen takes a dismissal back.
type Reopen struct{ Stage, Finding string }

// Apply takes it back.
func (e Reopen) Apply(s *Song) (string, error) {
	d := s.Dismissal(e.Stage, e.Finding)
	if d == nil {
		return "", errors.New("that finding was not put aside")
	}
	what := d.What
	s.Dismissed = slices.DeleteFunc(slices.Clone(s.Dismissed), func(d Dismissal) bool { return d.Stage == e.Stage && d.Finding == e.Finding })
	if len(s.Dismissed) == 0 {
		s.Dismissed = nil
	}
	return "Look at again: " + what, nil
}

func (s *Song) validateDismissed() error {
	if len(s.Dismissed) > MaxDismissed {
		return fmt.Errorf("a song holds at most %d findings that were put aside", MaxDismissed)
	}
	for _, d := range s.Dismissed {
		if d.Finding == "" || len(d.Finding) > 4*MaxName || len(d.Stage) > MaxName || len([]rune(d.What)) > MaxReason || len([]rune(d.Why)) > MaxReason {
			return errors.New("a finding that was put aside is out of bounds")
		}
	}
	return nil
}
