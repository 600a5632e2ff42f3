package session

import (
	"errors"
	"fmt"
	"strings"

	"mellowthump/core/audio"
)

// Settings sets what is left nil as it is.
type Settings struct {
	Name, Key *string
	BPM, Felt *float64 // a felt tempo of 0 is none
	Grid      *float64 // s
	Leader    *Leader
}

// Apply sets them and says which are new.
func (e Settings) Apply(s *Song) (string, error) {
	was := *s
	set(&s.Name, e.Name)
	set(&s.Key, e.Key)
	set(&s.BPM, e.BPM)
	set(&s.FeltBPM, e.Felt)
	set(&s.Grid, e.Grid)
	if s.BPM != was.BPM || s.Grid != was.Grid {
		s.FromHits = nil // it was said
	}
	dropped := false
	if e.Leader != nil {
		dropped = s.SetLeader(*e.Leader)
	}
	if err := s.Validate(); err != nil {
		return "", err
	}
	if err := s.duckInOrder(); err != nil {
		return "", err
	}
	var said []string
	if was.Name != s.Name {
		said = append(said, "name "+s.Name)
	}
	if was.BPM != s.BPM || was.FeltBPM != s.FeltBPM {
		said = append(said, fmt.Sprintf("tempo %g bpm", s.BPM))
	}
	if was.Key != s.Key {
		said = append(said, "key "+s.Key)
	}
	if was.Grid != s.Grid {
		said = append(said, fmt.Sprintf("first bar at %.0f ms", 1000*s.Grid))
	}
	if was.Leader != s.Leader {
		said = append(said, string(s.Leader)+" leads"+map[bool]string{true: " (its duck is taken out)"}[dropped])
	}
	if len(said) == 0 {
		return "", nil
	}
	return "Set " + strings.Join(said, ", "), nil
}

// duckInOrder returns an error where the duck's points, which may be note values, fall out of order at the song's tempo.
func (s *Song) duckInOrder() error {
	if d, _ := s.Duck(); d != nil {
		if _, err := d.AtTempo(s.BPM); err != nil {
			return fmt.Errorf("at that tempo the duck's points fall out of order: %w", err)
		}
	}
	return nil
}

// HitsTempo takes tempo and first bar from the hits, of a song of which nobody said them; without a BPM it gives them back.
type HitsTempo struct {
	BPM, Grid float64 // bpm; s
	Sure      float64 // 0 to 1
}

// Apply sets them.
func (e HitsTempo) Apply(s *Song) (string, error) {
	was := s.FromHits
	switch {
	case was == nil || e.BPM == 0 && !was.Taken() || was.Taken() && e.BPM == s.BPM && e.Grid == s.Grid:
		return "", nil
	case e.BPM == 0:
		s.BPM, s.Grid, s.FromHits = was.BPM, was.Grid, &FromHits{}
		return fmt.Sprintf("Tempo %g bpm again, as the hits are not sure", s.BPM), nil
	}
	now := FromHits{Sure: e.Sure, BPM: s.BPM, Grid: s.Grid}
	if was.Taken() {
		now.BPM, now.Grid = was.BPM, was.Grid
	}
	s.BPM, s.Grid, s.FromHits = e.BPM, e.Grid, &now
	if err := s.Validate(); err != nil {
		return "", err
	}
	return fmt.Sprintf("Tempo %g bpm, from the hits", s.BPM), s.duckInOrder()
}

func set[T any](to *T, v *T) {
	if v != nil {
		*to = *v
	}
}

// Lead says who leads.
type Lead struct{ Leader Leader }

// Apply sets it; a duck made for the other leader goes.
func (e Lead) Apply(s *Song) (string, error) {
	if s.Leader == e.Leader {
		return "", nil
	}
	dropped := s.SetLeader(e.Leader)
	if err := s.Validate(); err != nil {
		return "", err
	}
	says := map[Leader]string{KickLeads: "The kick leads", BassLeads: "The bass leads"}[s.Leader]
	if dropped {
		says += "; its duck is taken out"
	}
	return says, nil
}

// LeastLoop is the shortest loop, s.
const LeastLoop = 0.25

// Loop chooses the loop; nil gives it back to the program.
type Loop struct {
	Span *Span
	Said string // how the loop is named
}

// MostLoop is the longest loop, s: it is judged at every change.
const MostLoop = 300.0

// CheckLoop returns why a span cannot be a loop.
func (l Span) CheckLoop() error {
	switch {
	case !(l.To-l.From >= LeastLoop && l.From >= 0 && l.To <= audio.MaxSeconds):
		return errors.New("a loop lies within the song and is at least a quarter of a second long")
	case l.To-l.From > MostLoop:
		return errors.New("a loop is at most five minutes long: choose where kick and bass are hardest to part. The whole song is judged on Levels and Duck")
	}
	return nil
}

// Apply sets it.
func (e Loop) Apply(s *Song) (string, error) {
	if e.Span == nil {
		if s.Loop == nil {
			return "", nil
		}
		s.Loop = nil
		return "Loop found by energy", nil
	}
	l := *e.Span
	if err := l.CheckLoop(); err != nil {
		return "", err
	}
	s.Loop = &l
	return "Loop " + e.Said, nil
}
