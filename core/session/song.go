// Package session holds the song as one value: all that a render needs, as plain data, and the edits that change it.
package session

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"mellowthump/core/audio"
	"mellowthump/core/move"
)

// Song is everything a render needs besides the audio itself.
type Song struct {
	Format  int     `json:"format"`
	Name    string  `json:"name"`
	BPM     float64 `json:"bpm"`
	FeltBPM float64 `json:"felt_bpm,omitempty"` // where a half-time feel is counted differently
	Key     string  `json:"key,omitempty"`
	Grid    float64 `json:"grid_offset_s,omitempty"` // where the first bar begins
	Leader  Leader  `json:"leader"`

	FromHits *FromHits `json:"tempo_from_hits,omitempty"` // nil: tempo and first bar were said by a person

	Rate   int   `json:"rate_hz"`        // the rate everything is rendered at; 0 until a stem is in
	Loop   *Span `json:"loop,omitempty"` // nil: the 8 bars with the most kick and bass
	Rules  `json:"rules"`
	Stems  []Stem `json:"stems"`
	Buses  []Bus  `json:"buses,omitempty"`
	Master Master `json:"master,omitzero"`
	Plan   *Plan  `json:"plan,omitempty"` // trims that are being set outside

	Raised float64 `json:"raised_db,omitempty"` // by how much the mix was raised for what its ducks freed
	FitOf  string  `json:"fit_of,omitempty"`    // what the song was when its duck was fitted, see Fitted

	Dismissed  []Dismissal `json:"dismissed,omitempty"`  // findings that were put aside
	References []Reference `json:"references,omitempty"` // finished tracks to compare with
	Voice      *Reference  `json:"voice,omitempty"`      // to leave room for; in no mix
	Triggers   []Trigger   `json:"triggers,omitempty"`
	Sections   []Section   `json:"sections,omitempty"` // in order of time
	Slots      []Slot      `json:"slots,omitempty"`    // places for stems that a template knows and that are not there yet
}

// FromHits is where a song stands of which nobody said the tempo: it takes that of its hits as soon as they are sure.
type FromHits struct {
	Sure float64 `json:"sure,omitempty"`       // 0 to 1; 0: not taken yet
	BPM  float64 `json:"was_bpm,omitempty"`    // before it was taken
	Grid float64 `json:"was_grid_s,omitempty"` // as well
}

// Taken reports whether the tempo is that of the hits.
func (f *FromHits) Taken() bool { return f != nil && f.Sure > 0 }

// Leader says whether kick or bass leads the low end.
type Leader string

// The two leaders.
const (
	KickLeads Leader = "kick"
	BassLeads Leader = "bass"
)

// Span is a stretch of the song in seconds.
type Span struct {
	From float64 `json:"from_s"`
	To   float64 `json:"to_s"`
}

// Stem is one part of the beat.
type Stem struct {
	ID     string     `json:"id"`
	Name   string     `json:"name"`
	Role   Role       `json:"role"`
	Said   bool       `json:"role_said,omitempty"` // the role was said by the user, or follows from what they did: it is no guess
	Audio  string     `json:"audio"`               // SHA-256 of the file, hex
	Was    string     `json:"was,omitempty"`       // the file before, where a new version was dropped on it
	Holds  string     `json:"holds,omitempty"`     // what the file holds already, where it was exported from here or bounced elsewhere
	Back   *Back      `json:"back,omitempty"`      // of a file that was bounced elsewhere: what it was planned for
	Source float64    `json:"source_db,omitempty"` // gain where the sound is made
	Clip   float64    `json:"clip_db,omitempty"`
	Fader  float64    `json:"fader_db,omitempty"`
	Pan    float64    `json:"pan,omitempty"`          // -1 left, 0 middle, 1 right
	Width  float64    `json:"width_change,omitempty"` // of the sides' level: -1 mono, 0 as it is, 1 twice
	Locks  []Step     `json:"locks,omitempty"`        // steps automated elsewhere
	Mute   bool       `json:"mute,omitempty"`
	Bus    string     `json:"bus,omitempty"` // id; empty: straight to the master
	Sends  []Send     `json:"sends,omitempty"`
	MIDI   *MIDI      `json:"midi,omitempty"` // what it plays, where a MIDI file was attached
	Moves  move.Chain `json:"moves,omitempty"`
	Apart  *Apart     `json:"apart,omitempty"` // of a part of a stem that was taken apart
}

// Bus is a group of stems and of other buses, or a return that stems are sent to.
type Bus struct {
	ID    string  `json:"id"`
	Name  string  `json:"name"`
	Fader float64 `json:"fader_db,omitempty"`
	Bus   string  `json:"bus,omitempty"` // id of the bus it goes to; empty: the master
	Locks []Step  `json:"locks,omitempty"`
	Mute  bool    `json:"mute,omitempty"`

	Moves move.Chain `json:"moves,omitempty"` // before its fader
}

// Reference is a finished track that the song is compared with. It is no part of the mix.
type Reference struct {
	ID    string `json:"id"`
	Name  string `json:"name"`
	Audio string `json:"audio"` // SHA-256 of the file, hex

	Stretch *Span `json:"stretch,omitempty"` // what of it is compared; nil: all of it
}

// Ends are the two times of a span, 0 and 0 where there is none.
func (s *Span) Ends() (from, to float64) {
	if s == nil {
		return 0, 0
	}
	return s.From, s.To
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

// New returns an empty song.
func New(name string, bpm float64) Song {
	return Song{Format: Format, Name: name, BPM: bpm, Leader: KickLeads, Rules: Rules{Targets: DefaultTargets()}}
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

// Files are the hashes of all audio that a song names, each once: its stems', the versions before them, its references'.
func (s *Song) Files() []string {
	var out []string
	add := func(sha string) {
		if sha != "" && !slices.Contains(out, sha) {
			out = append(out, sha)
		}
	}
	for _, st := range s.Stems {
		add(st.Audio)
		add(st.Was)
		if st.Back != nil {
			add(st.Back.Of)
		}
	}
	for _, r := range s.References {
		add(r.Audio)
	}
	if s.Voice != nil {
		add(s.Voice.Audio)
	}
	return out
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

// Named returns the last stem of a name, whatever its case; nil where none has it.
func (s *Song) Named(name string) *Stem {
	for i := len(s.Stems) - 1; i >= 0; i-- {
		if strings.EqualFold(s.Stems[i].Name, name) {
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

// Format is the version of the JSON form that is written; Read brings older ones up to it.
const Format = 3

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
