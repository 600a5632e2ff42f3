package session

import (
	"math"
	"slices"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
)

// Trigger names the stem at whose hits a duck works.
type Trigger struct {
	ID   string `json:"id"`
	Name string `json:"name"`
	Stem string `json:"stem"`
	At   string `json:"at_bus,omitempty"` // the bus at which it is taken; empty: at the stem itself

	Stems   []string  `json:"stems,omitempty"`     // more stems whose hits count
	Bus     string    `json:"bus,omitempty"`       // id of a bus: all that goes through it gives hits
	Grid    string    `json:"grid,omitempty"`      // a note value: hits on the song's grid, instead of a stem's
	MIDI    *MIDI     `json:"midi,omitempty"`      // notes of a file, likewise
	Post    bool      `json:"post,omitempty"`      // its sound is taken behind the fader
	Added   []float64 `json:"added_s,omitempty"`   // hits put in by hand, s
	Removed []float64 `json:"removed_s,omitempty"` // hits taken out by hand, s
	Quiet   float64   `json:"quiet_db,omitempty"`  // how far a hit may stay under those around it; 0: meter.QuietHits

	Sense float64 `json:"sensitivity,omitempty"`  // 0 to 1: a doubtful hit counts from a confidence of 1 less this on
	Gap   float64 `json:"least_gap_ms,omitempty"` // of hits that are found closer than this, the first counts
}

// Limits of what a trigger takes for hits.
const (
	LeastQuiet = 3.0   // dB
	MostQuiet  = 40.0  // dB
	MostGap    = 500.0 // ms
)

// Counts reports whether a hit that was found counts, but for the least gap and what was changed by hand.
func (t *Trigger) Counts(o meter.Onset) bool {
	return o.Doubt(t.QuietDB()) == "" || t.Sense > 0 && o.Confidence() >= 1-t.Sense
}

// Found returns the times of the hits that count of those that were found, ascending, s.
func (t *Trigger) Found(all []meter.Onset) []float64 {
	out := []float64{}
	for _, o := range all {
		if t.Counts(o) && (len(out) == 0 || o.At-out[len(out)-1] >= t.Gap/1000) {
			out = append(out, o.At)
		}
	}
	return out
}

// QuietDB returns how far a hit may stay under those around it before it is doubtful, dB.
func (t *Trigger) QuietDB() float64 {
	if t.Quiet == 0 {
		return meter.QuietHits
	}
	return t.Quiet
}

// MIDI is the notes of a stem; where it is the trigger, they are its hits.
type MIDI struct {
	Name   string      `json:"name"`
	Offset float64     `json:"offset_s"` // added to every note
	Notes  []midi.Note `json:"notes"`
}

func (m *MIDI) outOfBounds() bool {
	return len(m.Notes) > midi.MaxNotes || !(math.Abs(m.Offset) <= audio.MaxSeconds)
}

// Hits returns when the notes begin in the song, in seconds; those before its start are left out.
func (m *MIDI) Hits() []float64 {
	var at []float64
	for _, s := range midi.Starts(m.Notes) {
		if s += m.Offset; s >= 0 {
			at = append(at, s)
		}
	}
	return at
}

// KickTrigger is the id of the trigger that a song's kick makes.
const KickTrigger = "kick"

// Trigger returns the trigger with that id, nil where there is none.
func (s *Song) Trigger(id string) *Trigger {
	for i := range s.Triggers {
		if s.Triggers[i].ID == id {
			return &s.Triggers[i]
		}
	}
	return nil
}

// TriggerStem returns the stem whose hits are the kick's: the one the trigger names, else
// the first kick.
func (s *Song) TriggerStem() *Stem {
	if t := s.Trigger(KickTrigger); t != nil {
		if st := s.Stem(t.Stem); st != nil && st.Role == Kick {
			return st
		}
	}
	if k := s.ByRole(Kick); len(k) > 0 {
		return k[0]
	}
	return nil
}

// Clicks reports whether a trigger has hits but no sound of its own: a grid, or notes of a file.
func (t *Trigger) Clicks() bool { return t.Grid != "" || t.MIDI != nil }

// Sources returns the stems whose hits a trigger takes.
func (s *Song) Sources(t *Trigger) []*Stem {
	if t == nil || t.Clicks() {
		return nil
	}
	if t.ID == KickTrigger {
		if st := s.TriggerStem(); st != nil {
			return []*Stem{st}
		}
		return nil
	}
	var out []*Stem
	for i := range s.Stems {
		if st := &s.Stems[i]; t.Bus != "" && !st.Mute && s.Reaches(st, t.Bus) {
			out = append(out, st)
		}
	}
	for _, id := range append([]string{t.Stem}, t.Stems...) {
		if st := s.Stem(id); st != nil && !slices.Contains(out, st) {
			out = append(out, st)
		}
	}
	return out
}

// TriggerArrives reports whether a trigger's stem is still heard where the trigger is taken.
func (s *Song) TriggerArrives(t *Trigger) bool {
	if t.Clicks() {
		return true
	}
	sources := s.Sources(t)
	return len(sources) > 0 && (t.At == "" || slices.ContainsFunc(sources, func(st *Stem) bool { return s.Reaches(st, t.At) }))
}
