package session

import (
	"fmt"
	"strings"

	"mellowthump/core/field"
	"mellowthump/core/move"
)

// Width is what Width goes by. The default is common practice, with no published source.
type Width struct {
	Correlation float64 `json:"correlation"` // in the worst tenth of the time
}

// CommonWidth is what a new song goes by.
func CommonWidth() Width { return Width{} }

// WidthRules returns the song's own, or those of common practice.
func (s *Song) WidthRules() Width {
	if s.Width != nil {
		return *s.Width
	}
	return CommonWidth()
}

// Fields are its values.
func (w *Width) Fields() []field.Field {
	return []field.Field{{Name: "correlation", Label: "correlation", Number: &w.Correlation, Lo: -1, Hi: 0.99, Step: 0.05}}
}

// SetWidth sets what Width goes by.
type SetWidth struct{ Width Width }

// Apply sets it.
func (e SetWidth) Apply(s *Song) (string, error) {
	if e.Width == s.WidthRules() {
		return "", nil
	}
	s.Width = &e.Width
	return fmt.Sprintf("Ask for a correlation of %g in the worst tenth", e.Width.Correlation), nil
}

// The ids of what Width does begin with widthMove.
const (
	widthMove  = "width-"
	WidthSide  = widthMove + "side"
	WidthMono  = widthMove + "mono"
	WidthLevel = widthMove + "level"
	WidthAlign = widthMove + "align"
	WidthUnder = widthMove + "under" // the side's low end, by a shelf
	WidthOver  = widthMove + "over"  // its top
)

// OfWidth reports whether a move is one of Width's.
func OfWidth(m move.Move) bool { return strings.HasPrefix(m.ID, widthMove) }

// Unwidened returns the song without what Width did: the "before" of Width.
func (s Song) Unwidened() Song { return s.Without(OfWidth) }

// SetStemWidth sets how wide stems are: -1 mono, 0 as they are.
type SetStemWidth struct {
	Stems []string
	Width float64
	Said  string
}

// Apply sets it on those that are there.
func (e SetStemWidth) Apply(s *Song) (string, error) {
	changed := false
	for _, id := range e.Stems {
		if st := s.Stem(id); st != nil && st.Width != e.Width {
			st.Width, changed = e.Width, true
		}
	}
	if !changed {
		return "", nil
	}
	return e.Said, nil
}

// PanPair pans two stems against each other, as far to each side.
type PanPair struct {
	Left, Right string
	Pan         float64 // 0 to 1
}

// Apply pans them.
func (e PanPair) Apply(s *Song) (string, error) {
	l, r := s.Stem(e.Left), s.Stem(e.Right)
	switch {
	case l == nil || r == nil:
		return "", errNoStem
	case l.Pan == -e.Pan && r.Pan == e.Pan:
		return "", nil
	}
	l.Pan, r.Pan = -e.Pan, e.Pan
	return fmt.Sprintf("Pan %s and %s %.0f %% apart", l.Name, r.Name, 100*e.Pan), nil
}
