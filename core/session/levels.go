package session

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"mellowthump/core/field"
	"mellowthump/core/move"
)

// Step is one place at which gain is set, from the sound's source to the master.
type Step string

// The steps in the order in which a stem passes them.
const (
	SourceStep Step = "source" // the level at which the sound is made or bounced
	ClipStep   Step = "clip"   // the gain of the clip on the timeline
	TrackStep  Step = "track"  // the track's fader, after its moves
	BusStep    Step = "bus"
	MasterStep Step = "master"
)

// StemSteps are the steps of a stem, in order.
var StemSteps = []Step{SourceStep, ClipStep, TrackStep}

// Bounds of the routing.
const (
	MaxGain  = 60.0 // dB to each side, of every gain
	MaxBuses = 64
)

// Send is a copy of a stem to a return.
type Send struct {
	Bus   string  `json:"bus"`
	Level float64 `json:"level_db"`
	Pre   bool    `json:"pre,omitempty"` // taken before the fader, pan and width
}

// Master is the last step of the song.
type Master struct {
	Fader float64    `json:"fader_db,omitempty"`
	Locks []Step     `json:"locks,omitempty"`
	Moves move.Chain `json:"moves,omitempty"` // before its fader
}

// Window is where a level usually lies, in dBFS or relative to another, in dB.
type Window struct {
	Lo float64 `json:"lo_db"`
	Hi float64 `json:"hi_db"`
}

// Clamp returns the value in the window that is nearest to v.
func (w Window) Clamp(v float64) float64 { return min(max(v, w.Lo), w.Hi) }

// Middle returns the window's middle.
func (w Window) Middle() float64 { return (w.Lo + w.Hi) / 2 }

// Shift moves a window by dB.
func (w Window) Shift(db float64) Window { return Window{w.Lo + db, w.Hi + db} }

// Levels are the windows and targets that levels are judged against: sample peaks in dBFS at the
// end of a stem's own chain. They are data; the defaults are common practice, with no published
// source.
type Levels struct {
	Kick      float64          `json:"kick_dbfs"`       // the anchor
	Bus       float64          `json:"bus_dbfs"`        // no bus over this
	Premaster float64          `json:"premaster_dbfs"`  // what is aimed at
	Limit     float64          `json:"limit_dbfs"`      // what the premaster is never over
	BassUnder Window           `json:"bass_under_kick"` // the bass over the kick where the kick leads, dB
	BassOver  Window           `json:"bass_over_kick"`  // where the bass leads
	MelodyGap float64          `json:"melody_gap_db"`   // of a melody under the kick, at the least
	Windows   map[Role]*Window `json:"windows"`         // dBFS, with the kick at its common anchor
}

const commonKick = -7.0 // dBFS, where the windows are given for

// CommonLevels returns the windows and targets of common practice (design, 1-product: rules of
// thumb, no published source).
func CommonLevels() Levels {
	return Levels{
		Kick: commonKick, Bus: -3.5, Premaster: -6, Limit: -3.5,
		BassUnder: Window{-3, -1}, BassOver: Window{0, 1}, MelodyGap: 5,
		Windows: map[Role]*Window{
			Kick: {-8, -6}, Snare: {-10, -7}, Melodic: {-15, -12}, Hats: {-20, -14}, Perc: {-20, -14}, Drums: {-8, -4}, Voice: {-10, -6},
			Texture: {-30, -22}, Effects: {-18, -10},
		},
	}
}

// LevelRules returns the song's own windows and targets, or those of common practice.
func (s *Song) LevelRules() Levels {
	if s.Levels != nil {
		return *s.Levels
	}
	return CommonLevels()
}

// Window returns the window of a role's peak in dBFS with the kick at a given peak; ok is false
// where the role has none.
func (s *Song) Window(r Role, kick float64) (w Window, ok bool) {
	l := s.LevelRules()
	switch {
	case r == Bass && s.Leader == BassLeads:
		return l.BassOver.Shift(kick), true
	case r == Bass:
		return l.BassUnder.Shift(kick), true
	}
	own, ok := l.Windows[r]
	if !ok {
		return w, false
	}
	return own.Shift(kick - commonKick), true
}

// Copy returns one that shares nothing with it.
func (l Levels) Copy() Levels {
	own := l.Windows
	l.Windows = make(map[Role]*Window, len(own))
	for r, w := range own {
		c := *w
		l.Windows[r] = &c
	}
	return l
}

// Fields are its values.
func (l *Levels) Fields() []field.Field {
	out := []field.Field{
		{Name: "anchor", Label: "kick's anchor", Unit: "dBFS", Number: &l.Kick, Lo: -60, Hi: 0, Step: 0.5},
		{Name: "bus", Label: "limit of any bus", Unit: "dBFS", Number: &l.Bus, Lo: -60, Hi: 0, Step: 0.5},
		{Name: "premaster", Label: "premaster's aim", Unit: "dBFS", Number: &l.Premaster, Lo: -60, Hi: 0, Step: 0.5},
		{Name: "limit", Label: "premaster's limit", Unit: "dBFS", Number: &l.Limit, Lo: -60, Hi: 0, Step: 0.5},
		{Name: "gap", Label: "gap between drums and melody", Unit: "dB", Number: &l.MelodyGap, Lo: 0, Hi: 40, Step: 0.5},
	}
	window := func(name, of, unit string, w *Window, lo, hi float64) {
		out = append(out,
			field.Field{Name: name + "-lo", Label: "low end of the window for " + of, Unit: unit, Number: &w.Lo, Lo: lo, Hi: hi, Step: 0.5},
			field.Field{Name: name + "-hi", Label: "high end of the window for " + of, Unit: unit, Number: &w.Hi, Lo: lo, Hi: hi, Step: 0.5})
	}
	window("under", "the bass under the kick", "dB", &l.BassUnder, -40, 40)
	window("over", "the bass over the kick", "dB", &l.BassOver, -40, 40)
	for _, r := range Roles {
		if w := l.Windows[r.Role]; w != nil {
			window(string(r.Role), strings.ToLower(r.Label), "dBFS", w, -80, 0)
		}
	}
	return out
}

// check returns an error in plain words where values make no sense beside each other.
func (l *Levels) check() error {
	if l.Premaster > l.Limit {
		return fmt.Errorf("the premaster's aim of %g dBFS lies over its limit of %g", l.Premaster, l.Limit)
	}
	windows := map[string]Window{"the bass under the kick": l.BassUnder, "the bass over the kick": l.BassOver}
	for r, w := range l.Windows {
		if !r.Valid() || w == nil {
			return fmt.Errorf("there is a window for %q, which is no role", r)
		}
		windows[string(r)] = *w
	}
	for _, of := range slices.Sorted(maps.Keys(windows)) {
		if w := windows[of]; w.Lo > w.Hi {
			return fmt.Errorf("the window for %s runs from %g down to %g dB", of, w.Lo, w.Hi)
		}
	}
	return nil
}

// Gain returns the gain at one of a stem's steps, in dB.
func (s *Stem) Gain(step Step) float64 { return *s.gain(step) }

// SetGain sets the gain at one of a stem's steps.
func (s *Stem) SetGain(step Step, db float64) { *s.gain(step) = db }

func (s *Stem) gain(step Step) *float64 {
	switch step {
	case SourceStep:
		return &s.Source
	case ClipStep:
		return &s.Clip
	}
	return &s.Fader
}

// Locked reports whether a step is automated elsewhere.
func (s *Stem) Locked(step Step) bool { return slices.Contains(s.Locks, step) }

// Locked reports whether the bus's fader is automated elsewhere.
func (b *Bus) Locked() bool { return slices.Contains(b.Locks, BusStep) }

// Locked reports whether the master's fader is automated elsewhere.
func (m *Master) Locked() bool { return slices.Contains(m.Locks, MasterStep) }

// Bus returns the bus with that id, nil where there is none.
func (s *Song) Bus(id string) *Bus {
	for i := range s.Buses {
		if s.Buses[i].ID == id {
			return &s.Buses[i]
		}
	}
	return nil
}

// Path returns the buses that a stem or bus put on bus id passes, from there to the master.
func (s *Song) Path(id string) []*Bus {
	var out []*Bus
	for b := s.Bus(id); b != nil && len(out) <= len(s.Buses); b = s.Bus(b.Bus) {
		out = append(out, b)
	}
	return out
}

// Reaches reports whether a stem arrives at a bus, by its own way or through others.
func (s *Song) Reaches(st *Stem, bus string) bool {
	return slices.ContainsFunc(s.Path(st.Bus), func(b *Bus) bool { return b.ID == bus })
}
