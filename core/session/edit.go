package session

import (
	"errors"
)

// Edit is a change of a song, worked out: a form, a finding and a job all send the same. It is applied to the song as it
// is stored, so it holds values and nothing that takes time to find.
type Edit interface {
	// Apply changes the song and says what it did in one line; nothing where nothing changed. An error is a sentence
	// for the user, and leaves nothing stored. Whether the song is valid then is asked once, by who keeps it (Made, the store).
	Apply(*Song) (said string, err error)
}

// Made returns the song with an edit, valid, and what it did; the song itself is not touched.
func Made(s *Song, e Edit) (Song, string, error) {
	out := s.Clone()
	said, err := e.Apply(&out)
	if err == nil {
		out.Settle()
		err = out.Validate()
	}
	return out, said, err
}

// Together is several edits that are one: one revision, one line.
type Together struct {
	Said  string // empty: that of the first edit that says something
	Edits []Edit
}

// Apply makes the edits in order.
func (e Together) Apply(s *Song) (string, error) {
	said := ""
	for _, one := range e.Edits {
		line, err := one.Apply(s)
		if err != nil {
			return "", err
		}
		if said == "" {
			said = line
		}
	}
	if said != "" && e.Said != "" {
		said = e.Said
	}
	return said, nil
}

// Become makes the song what it was: a take, or what was worked out from it.
type Become struct {
	Song Song
	Said string
}

// Apply puts the other song in this one's place.
func (e Become) Apply(s *Song) (string, error) {
	*s = e.Song
	return e.Said, nil
}

var (
	errNoStem = errors.New("that stem is no longer there")
	errNoBus  = errors.New("that bus is no longer there")
	errNoMove = errors.New("that move is no longer there")
	errNoHits = errors.New("that trigger is no longer there")
)
