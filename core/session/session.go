// Package session holds the song as one value: all that a render needs, as plain data.
package session

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
	"mellowthump/core/move"
)

// Format is the version of the JSON form.
const Format = 1

// Song is everything a render needs besides the audio itself.
type Song struct {
	Format  int     `json:"format"`
	Name    string  `json:"name"`
	BPM     float64 `json:"bpm"`
	FeltBPM float64 `json:"felt_bpm,omitempty"` // where a half-time feel is counted differently
	Key     string  `json:"key,omitempty"`
	Grid    float64 `json:"grid_offset_s,omitempty"` // where the first bar begins
	Leader  Leader  `json:"leader"`
	Rate    int     `json:"rate_hz"` // the rate everything is rendered at; 0 until a stem is in
	Targets Targets `json:"targets"`
	Loop    *Span   `json:"loop,omitempty"`   // nil: the 8 bars with the most kick and bass
	Levels  *Levels `json:"levels,omitempty"` // nil: those of common practice
	Stems   []Stem  `json:"stems"`
	Buses   []Bus   `json:"buses,omitempty"`
	Master  Master  `json:"master,omitzero"`
	Plan    *Plan   `json:"plan,omitempty"` // trims that are being set outside

	References []Reference `json:"references,omitempty"` // finished tracks to compare with
	Triggers   []Trigger   `json:"triggers,omitempty"`
}

// Leader says whether kick or bass leads the low end.
type Leader string

// The two leaders.
const (
	KickLeads Leader = "kick"
	BassLeads Leader = "bass"
)

// Targets are what the judgements are made against. The defaults are common practice, with
// no published source.
type Targets struct {
	Clearance float64 `json:"clearance_db"` // of the kick, in 9 of 10 hits
	MaxDepth  float64 `json:"max_depth_db"` // cap of a duck

	NoAhead bool `json:"no_lookahead,omitempty"` // a fit may not begin before the hit
}

// DefaultTargets are the values a new song starts with.
func DefaultTargets() Targets { return Targets{Clearance: 8, MaxDepth: 12} }

// Span is a stretch of the song in seconds.
type Span struct {
	From float64 `json:"from_s"`
	To   float64 `json:"to_s"`
}

// Stem is one part of the beat.
type Stem struct {
	ID     string      `json:"id"`
	Name   string      `json:"name"`
	Role   Role        `json:"role"`
	Audio  string      `json:"audio"`               // SHA-256 of the file, hex
	Was    string      `json:"was,omitempty"`       // the file before, where a new version was dropped on it
	Source float64     `json:"source_db,omitempty"` // gain where the sound is made
	Clip   float64     `json:"clip_db,omitempty"`
	Fader  float64     `json:"fader_db,omitempty"`
	Pan    float64     `json:"pan,omitempty"`          // -1 left, 0 middle, 1 right
	Width  float64     `json:"width_change,omitempty"` // of the sides' level: -1 mono, 0 as it is, 1 twice
	Locks  []Step      `json:"locks,omitempty"`        // steps automated elsewhere
	Mute   bool        `json:"mute,omitempty"`
	Bus    string      `json:"bus,omitempty"` // id; empty: straight to the master
	Sends  []Send      `json:"sends,omitempty"`
	MIDI   *MIDI       `json:"midi,omitempty"` // what it plays, where a MIDI file was attached
	Moves  []move.Move `json:"moves,omitempty"`
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

// Bus is a group of stems and of other buses, or a return that stems are sent to.
type Bus struct {
	ID    string  `json:"id"`
	Name  string  `json:"name"`
	Fader float64 `json:"fader_db,omitempty"`
	Bus   string  `json:"bus,omitempty"` // id of the bus it goes to; empty: the master
	Locks []Step  `json:"locks,omitempty"`
	Mute  bool    `json:"mute,omitempty"`

	Duck *move.Move `json:"duck,omitempty"` // lowers all that goes through it
}

// Ducks reports whether the bus has a duck that is on.
func (b *Bus) Ducks() bool { return b.Duck != nil && !b.Duck.Off }

// Reference is a finished track that the song is compared with. It is no part of the mix.
type Reference struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Audio string `json:"audio"` // SHA-256 of the file, hex
}

// Plan is a list of trims that are being set in another program: new versions of the stems are
// checked against it.
type Plan struct {
	Trims []Trim `json:"trims"`
}

// Trim is what a stem's level is to change by between the file it was planned for and its next
// version.
type Trim struct {
	Stem  string  `json:"stem"`
	Audio string  `json:"audio"` // the file it was planned for
	DB    float64 `json:"db"`
}

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
}

// Limits of a trigger's threshold for quiet hits, dB.
const (
	LeastQuiet = 3.0
	MostQuiet  = 40.0
)

// QuietDB returns how far a hit may stay under those around it before it is doubtful, dB.
func (t *Trigger) QuietDB() float64 {
	if t.Quiet == 0 {
		return meter.QuietHits
	}
	return t.Quiet
}

// Role is what a stem does in the beat.
type Role string

// The roles, in the order in which stems are listed.
const (
	Kick    Role = "kick"
	Bass    Role = "bass"
	Snare   Role = "snare"
	Hats    Role = "hats"
	Perc    Role = "perc"
	Melodic Role = "melodic"
	Texture Role = "texture"
	Effects Role = "effects"
	Other   Role = "other"
)

// Roles lists the roles in order with the words for them.
var Roles = []struct {
	Role  Role
	Label string
}{
	{Kick, "Kick"}, {Bass, "808 / bass"}, {Snare, "Snare, clap"}, {Hats, "Hats"}, {Perc, "Percussion"},
	{Melodic, "Melodic"}, {Texture, "Texture"}, {Effects, "Effects"}, {Other, "Not said"},
}

// Valid reports whether the role is known.
func (r Role) Valid() bool {
	for _, k := range Roles {
		if k.Role == r {
			return true
		}
	}
	return false
}

// New returns an empty song.
func New(name string, bpm float64) Song {
	return Song{Format: Format, Name: name, BPM: bpm, Leader: KickLeads, Targets: DefaultTargets()}
}

// Limits of what is taken.
const (
	MinBPM   = 30.0
	MaxBPM   = 300.0
	MaxStems = 200
	MaxName  = 120 // characters

	MaxHitEdits = 2000 // hits changed by hand, of one trigger
)

var hash = regexp.MustCompile(`^[0-9a-f]{64}$`)

// Validate returns an error in plain words where the song cannot be rendered.
func (s *Song) Validate() error {
	switch {
	case s.Format != Format:
		return fmt.Errorf("the session is of format %d; this program reads format %d", s.Format, Format)
	case strings.TrimSpace(s.Name) == "":
		return errors.New("the song needs a name")
	case len([]rune(s.Name)) > MaxName:
		return fmt.Errorf("the song's name is longer than %d characters", MaxName)
	case !(s.BPM >= MinBPM && s.BPM <= MaxBPM):
		return fmt.Errorf("a tempo of %g bpm is outside %g to %g", s.BPM, MinBPM, MaxBPM)
	case s.Leader != KickLeads && s.Leader != BassLeads:
		return fmt.Errorf("the leader %q is neither kick nor bass", s.Leader)
	case s.Rate != 0 && (s.Rate < audio.MinRate || s.Rate > audio.MaxRate):
		return fmt.Errorf("a rate of %d Hz is outside 8 to 192 kHz", s.Rate)
	case !(s.Targets.Clearance >= 0 && s.Targets.Clearance <= 40):
		return fmt.Errorf("a clearance target of %g dB is outside 0 to 40", s.Targets.Clearance)
	case !(s.Targets.MaxDepth >= 0 && s.Targets.MaxDepth <= 60):
		return fmt.Errorf("a depth cap of %g dB is outside 0 to 60", s.Targets.MaxDepth)
	case !(s.Grid >= 0 && s.Grid <= 60):
		return fmt.Errorf("a grid that begins at %g s is outside 0 to 60 s", s.Grid)
	case len(s.Stems) > MaxStems:
		return fmt.Errorf("a song holds at most %d stems", MaxStems)
	}
	if l := s.Loop; l != nil && !(l.From >= 0 && l.To > l.From && l.To <= audio.MaxSeconds) {
		return errors.New("the loop ends before it begins")
	}
	seen := map[string]bool{}
	buses, triggers := map[string]bool{"": true}, map[string]bool{}
	for _, b := range s.Buses {
		if b.ID == "" || buses[b.ID] {
			return fmt.Errorf("two buses have the id %q", b.ID)
		}
		buses[b.ID] = true
	}
	for i := range s.Triggers {
		t := &s.Triggers[i]
		triggers[t.ID] = true
		if t.Grid != "" {
			if _, err := move.NoteMS(t.Grid, s.BPM); err != nil {
				return fmt.Errorf("the trigger %q: %w", t.Name, err)
			}
		}
		if t.Bus != "" && !buses[t.Bus] {
			return fmt.Errorf("the trigger %q listens to a bus that is not there", t.Name)
		}
		if t.MIDI != nil && t.MIDI.outOfBounds() {
			return fmt.Errorf("the MIDI notes of the trigger %q are out of bounds", t.Name)
		}
		if t.Quiet != 0 && !(t.Quiet >= LeastQuiet && t.Quiet <= MostQuiet) {
			return fmt.Errorf("the trigger %q takes hits down to %g dB under the others; %g to %g are taken", t.Name, t.Quiet, LeastQuiet, MostQuiet)
		}
		if len(t.Added)+len(t.Removed) > MaxHitEdits {
			return fmt.Errorf("the trigger %q has more than %d hits changed by hand", t.Name, MaxHitEdits)
		}
	}
	for _, b := range s.Buses {
		if b.Duck == nil {
			continue
		}
		d, ok := b.Duck.Params.(*move.Duck)
		if !ok {
			return fmt.Errorf("the bus %q has a move that is no duck", b.Name)
		}
		if err := d.Validate(); err != nil {
			return fmt.Errorf("the duck on %q: %w", b.Name, err)
		}
		if !triggers[d.Trigger] {
			return fmt.Errorf("the duck on %q has a trigger that is not there", b.Name)
		}
	}
	for _, st := range s.Stems {
		switch {
		case st.ID == "" || seen[st.ID]:
			return fmt.Errorf("two stems have the id %q", st.ID)
		case !hash.MatchString(st.Audio):
			return fmt.Errorf("the stem %q names no audio", st.Name)
		case st.Was != "" && !hash.MatchString(st.Was):
			return fmt.Errorf("the stem %q names an earlier file that is none", st.Name)
		case st.MIDI != nil && st.MIDI.outOfBounds():
			return fmt.Errorf("the MIDI notes of %q are out of bounds", st.Name)
		case !st.Role.Valid():
			return fmt.Errorf("the stem %q has the unknown role %q", st.Name, st.Role)
		case !buses[st.Bus]:
			return fmt.Errorf("the stem %q goes to a bus that is not there", st.Name)
		}
		seen[st.ID] = true
		for _, m := range st.Moves {
			if m.Params == nil {
				return fmt.Errorf("a move on %q has no parameters", st.Name)
			}
			if err := m.Params.Validate(); err != nil {
				return fmt.Errorf("a move on %q: %w", st.Name, err)
			}
			trigger := ""
			switch p := m.Params.(type) {
			case *move.Duck:
				trigger = p.Trigger
			case *move.Fade:
				trigger = p.Trigger
			case *move.Part:
				trigger = p.Trigger
			case *move.Tune:
				if trigger = p.Trigger; trigger == "" {
					continue
				}
			default:
				continue
			}
			if !triggers[trigger] {
				return fmt.Errorf("a %s on %q has a trigger that is not there", m.Params.Kind(), st.Name)
			}
		}
	}
	if name := s.keyLoop(); name != "" {
		return fmt.Errorf("%q would duck to itself, by way of other ducks", name)
	}
	return s.validateRouting()
}

// Read reads the JSON form and validates it.
func Read(b []byte) (Song, error) {
	var s Song
	if err := json.Unmarshal(b, &s); err != nil {
		return Song{}, fmt.Errorf("reading the session: %w", err)
	}
	return s, s.Validate()
}

// Clone returns a deep copy, so that an edit never reaches into another revision.
func (s Song) Clone() Song {
	b, err := json.Marshal(s)
	if err == nil {
		var c Song
		if err = json.Unmarshal(b, &c); err == nil {
			return c
		}
	}
	panic(fmt.Sprintf("session: a valid song did not survive JSON: %v", err))
}

// Bypassed returns the song with every move off: the "before" of the deck.
func (s Song) Bypassed() Song {
	c := s
	c.Stems = append([]Stem(nil), s.Stems...)
	for i := range c.Stems {
		c.Stems[i].Moves = nil
	}
	c.Buses = withoutDucks(s.Buses)
	return c
}

// Untrimmed returns the song with every gain, pan and width as the files came: the "before" of
// Levels.
func (s Song) Untrimmed() Song {
	c := s
	c.Stems = append([]Stem(nil), s.Stems...)
	for i := range c.Stems {
		st := &c.Stems[i]
		st.Source, st.Clip, st.Fader, st.Pan, st.Width = 0, 0, 0, 0, 0
	}
	c.Buses = append([]Bus(nil), s.Buses...)
	for i := range c.Buses {
		c.Buses[i].Fader = 0
	}
	c.Master.Fader = 0
	return c
}

// Trimmed reports whether any gain, pan or width differs from what the files came with.
func (s *Song) Trimmed() bool {
	for i := range s.Stems {
		if st := &s.Stems[i]; st.Source != 0 || st.Clip != 0 || st.Fader != 0 || st.Pan != 0 || st.Width != 0 {
			return true
		}
	}
	return s.Master.Fader != 0 || slices.ContainsFunc(s.Buses, func(b Bus) bool { return b.Fader != 0 })
}

// Stem returns the stem with that id, nil where there is none.
func (s *Song) Stem(id string) *Stem {
	for i := range s.Stems {
		if s.Stems[i].ID == id {
			return &s.Stems[i]
		}
	}
	return nil
}

// ByRole returns the stems of a role that are not muted.
func (s *Song) ByRole(r Role) []*Stem {
	var out []*Stem
	for i := range s.Stems {
		if s.Stems[i].Role == r && !s.Stems[i].Mute {
			out = append(out, &s.Stems[i])
		}
	}
	return out
}

// Trigger returns the trigger with that id, nil where there is none.
func (s *Song) Trigger(id string) *Trigger {
	for i := range s.Triggers {
		if s.Triggers[i].ID == id {
			return &s.Triggers[i]
		}
	}
	return nil
}

// KickTrigger is the id of the trigger that a song's kick makes.
const KickTrigger = "kick"

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

// Ducked is the role that makes room: the bass where the kick leads, the kick where the bass does.
func (s *Song) Ducked() Role {
	if s.Leader == BassLeads {
		return Kick
	}
	return Bass
}

// Duck returns the song's own duck, on or off, and whether it is off; nil where there is none. It is on
// the part that makes room.
func (s *Song) Duck() (d *move.Duck, off bool) {
	if m := s.duckMove(); m != nil {
		return m.Params.(*move.Duck), m.Off
	}
	return nil, false
}

// DuckWhy is the reason that the song's duck carries.
func (s *Song) DuckWhy() string {
	if m := s.duckMove(); m != nil {
		return m.Why
	}
	return ""
}

func (s *Song) duckMove() *move.Move {
	for i := range s.Stems {
		if st := &s.Stems[i]; st.Role == s.Ducked() {
			if m := st.Move(mainDuck + st.ID); m != nil {
				return m
			}
		}
	}
	return nil
}

// DuckTrigger is the id of the trigger at which the song's own duck works: the kick's, unless another was
// chosen for it.
func (s *Song) DuckTrigger() string {
	if d, _ := s.Duck(); d != nil && s.Trigger(d.Trigger) != nil {
		return d.Trigger
	}
	return KickTrigger
}

// SetLeader says who leads. A duck made for the other leader is taken out, which is reported: it lowers
// the part that is to lead now.
func (s *Song) SetLeader(l Leader) (dropped bool) {
	if s.Leader == l {
		return false
	}
	d, _ := s.Duck()
	s.SetDuck(nil, false, "")
	s.Leader = l
	s.ownDuckOnly()
	return d != nil
}

// ownDuckOnly takes the ducks of their own off the stems that have the song's.
func (s *Song) ownDuckOnly() {
	for i := range s.Stems {
		if st := &s.Stems[i]; st.Role == s.Ducked() {
			st.SetMove(move.Move{ID: PartDuck + st.ID})
		}
	}
}

// SetDuck puts the same duck on every stem of the part that makes room, at the end of its chain; nil
// takes it away. Ducks of other parts are their own.
func (s *Song) SetDuck(d *move.Duck, off bool, why string) {
	for i := range s.Stems {
		st := &s.Stems[i]
		m := move.Move{ID: mainDuck + st.ID, Off: off, Why: why}
		if d != nil && st.Role == s.Ducked() {
			m.Params = d
		}
		st.SetMove(m)
	}
}

// Settle keeps what hangs together in order after an edit of stems or roles: the kick's
// trigger names a kick, and the duck is on the part that makes room only.
func (s *Song) Settle() {
	if st := s.TriggerStem(); st != nil {
		if t := s.Trigger(KickTrigger); t != nil {
			t.Stem = st.ID
		} else {
			s.Triggers = append(s.Triggers, Trigger{ID: KickTrigger, Name: "Kick", Stem: st.ID})
		}
	}
	s.ownDuckOnly()
	for _, st := range s.Stems {
		m := st.Move(mainDuck + st.ID)
		if m == nil {
			continue
		}
		c := *m.Params.(*move.Duck)
		s.SetDuck(&c, m.Off, m.Why)
		return
	}
}

// The ids of ducks begin with these: the bass's own, that of any other part.
const (
	mainDuck = "duck-"
	PartDuck = "part-"
)

// DuckMove returns the duck of a stem, on or off; nil where it has none.
func (s *Stem) DuckMove() (*move.Move, *move.Duck) {
	for i := range s.Moves {
		if d, ok := s.Moves[i].Params.(*move.Duck); ok {
			return &s.Moves[i], d
		}
	}
	return nil, nil
}

// BarSeconds returns the length of a bar of four beats.
func (s *Song) BarSeconds() float64 { return 240 / s.BPM }

// Position names a time as bar, beat and hundredths: "5.3.25". What lies before the first bar
// counts from bar 0 down.
func (s *Song) Position(at float64) string {
	beats := (at - s.Grid) * s.BPM / 60
	hundredths := int(math.Round(beats * 100))
	if hundredths < 0 {
		bars := (-hundredths + 399) / 400
		hundredths += 400 * bars
		return fmt.Sprintf("%d.%d.%02d", 1-bars, hundredths/100%4+1, hundredths%100)
	}
	return fmt.Sprintf("%d.%d.%02d", hundredths/400+1, hundredths/100%4+1, hundredths%100)
}

// ParsePosition reads a time as Position writes it, "5.3.25", or in seconds, "12.5 s".
func (s *Song) ParsePosition(text string) (float64, error) {
	text = strings.TrimSpace(text)
	if t, ok := strings.CutSuffix(text, "s"); ok {
		at, err := strconv.ParseFloat(strings.TrimSpace(t), 64)
		if err != nil || !(at >= 0 && at <= audio.MaxSeconds) {
			return 0, fmt.Errorf("%q is no time in the song", text)
		}
		return at, nil
	}
	var bar, beat, part int
	n, err := fmt.Sscanf(text+".0.0", "%d.%d.%d", &bar, &beat, &part)
	if beat == 0 {
		beat = 1
	}
	if err != nil || n != 3 || beat < 1 || beat > 4 || part < 0 || part > 99 {
		return 0, fmt.Errorf("%q is no place; type bar.beat.hundredths, or seconds as 12.5 s", text)
	}
	at := s.Grid + (float64(4*(bar-1)+beat-1)+float64(part)/100)*60/s.BPM
	if !(at >= 0 && at <= audio.MaxSeconds) {
		return 0, fmt.Errorf("%q lies outside the song", text)
	}
	return at, nil
}
