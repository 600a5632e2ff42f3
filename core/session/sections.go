package session

import (
	"errors"
	"fmt"
	"strings"

	"mellowthump/core/audio"
	"mellowthump/core/figure"
	"mellowthump/core/move"
)

// Section is a part of the song's time: from a place on to where the next one begins; the last ends with the song.
type Section struct {
	Name string  `json:"name"`
	From float64 `json:"from_s"`
	// Shallower is by what part of their depth in dB the drawn ducks go less deep here: 0 as deep as everywhere, 1 not at all.
	// Where they rest nothing is asked of the hits, so these are not judged either.
	Shallower float64 `json:"ducks_shallower,omitempty"`
}

// Limits of sections.
const (
	MaxSections    = 64
	MaxSectionName = 40 // characters
)

// Rests reports whether the ducks rest in it.
func (s Section) Rests() bool { return s.Shallower == 1 }

// SectionAt is the index of the section in which a time lies, s; -1 before the first.
func (s *Song) SectionAt(at float64) int {
	i := len(s.Sections) - 1
	for i >= 0 && at < s.Sections[i].From {
		i--
	}
	return i
}

// SectionSpan is from where to where a section goes in a song of a length, s.
func (s *Song) SectionSpan(i int, length float64) Span {
	to := length
	if i+1 < len(s.Sections) {
		to = min(length, s.Sections[i+1].From)
	}
	return Span{min(s.Sections[i].From, to), to}
}

// DuckPart is by what part of its depth in dB a drawn duck lowers at a hit at a time in the song, s. A hit that comes a little
// before an edge is the first one behind it.
func (s *Song) DuckPart(at float64) float64 {
	if i := s.SectionAt(at + move.HitNear); i >= 0 {
		return 1 - s.Sections[i].Shallower
	}
	return 1
}

// Asked reports whether anything is asked of the kick's hit at a time: the ducks do not rest there.
func (s *Song) Asked(at float64) bool { return s.DuckPart(at) > 0 }

// Shallow makes a drawn duck, whose times are worked out and which nobody else holds, go less deep at those of its hits
// (frames in the song) that lie in a section in which the ducks do.
func (s *Song) Shallow(d *move.Duck, hits []int) {
	if d.Keyed() || len(s.shallow()) == 0 {
		return
	}
	had := *d
	d.Parts = nil
	for _, h := range hits {
		at := float64(h) / float64(s.Rate)
		p := move.HitPart{At: at, Part: had.PartAt(at) * s.DuckPart(at)}
		if n := len(d.Parts); p.Part < 1 && (n == 0 || p.At > d.Parts[n-1].At) {
			d.Parts = append(d.Parts, p)
		}
	}
}

// SaysRests says in which sections the drawn ducks rest, and in which they are shallower; empty where they are as deep everywhere.
func (s *Song) SaysRests() string {
	var rest, less []string
	for _, e := range s.Sections {
		switch {
		case e.Rests():
			rest = append(rest, e.Name)
		case e.Shallower > 0:
			less = append(less, fmt.Sprintf("has %s %% of its depth in %s", figure.Short(100*(1-e.Shallower)), e.Name))
		}
	}
	if len(rest) > 0 {
		less = append([]string{"rests in " + strings.Join(rest, ", ")}, less...)
	}
	return strings.Join(less, ", ")
}

// shallow are the sections in which the ducks are not as deep as everywhere, by their edges alone.
func (s *Song) shallow() []Section {
	var out []Section
	before := 0.0
	for _, e := range s.Sections {
		if e.Shallower != before {
			out = append(out, Section{From: e.From, Shallower: e.Shallower})
		}
		before = e.Shallower
	}
	return out
}

// SetSections gives the song its sections; none takes them away.
type SetSections struct {
	Sections []Section
	Said     string // empty: nothing changed
}

// Apply sets them.
func (e SetSections) Apply(s *Song) (string, error) {
	s.Sections = e.Sections
	return e.Said, s.validateSections()
}

func (s *Song) validateSections() error {
	if len(s.Sections) > MaxSections {
		return fmt.Errorf("a song holds at most %d sections", MaxSections)
	}
	for i, e := range s.Sections {
		switch {
		case strings.TrimSpace(e.Name) == "":
			return errors.New("a section needs a name")
		case len([]rune(e.Name)) > MaxSectionName:
			return fmt.Errorf("a section's name is longer than %d characters", MaxSectionName)
		case !(e.From >= 0 && e.From <= audio.MaxSeconds):
			return fmt.Errorf("the section %q begins outside the song", e.Name)
		case i > 0 && !(e.From-s.Sections[i-1].From >= LeastLoop):
			return fmt.Errorf("the section %q does not begin after %q: at least a quarter of a second lies between two", e.Name, s.Sections[i-1].Name)
		case !(e.Shallower >= 0 && e.Shallower <= 1):
			return fmt.Errorf("the ducks are shallower by %g %% in %q; 0 to 100 are taken", 100*e.Shallower, e.Name)
		}
	}
	return nil
}

// words says a section in a line.
func (e Section) words(s *Song) string {
	out := "from " + s.Position(e.From)
	switch {
	case e.Rests():
		out += ", the ducks rest"
	case e.Shallower > 0:
		out += fmt.Sprintf(", the ducks %s %% shallower", figure.Short(100*e.Shallower))
	}
	return out
}

// sections compares the sections of two states, by their names.
func (d *differing) sections(was, now *Song) {
	say := func(s *Song, name string) string {
		for _, e := range s.Sections {
			if e.Name == name {
				return e.words(s)
			}
		}
		return ""
	}
	told := map[string]bool{}
	for _, s := range []*Song{was, now} {
		for _, e := range s.Sections {
			if !told[e.Name] {
				told[e.Name] = true
				d.tell("section "+e.Name, say(was, e.Name), say(now, e.Name))
			}
		}
	}
}
