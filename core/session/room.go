package session

import (
	"errors"
	"fmt"
	"math"
	"strings"

	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/move"
)

// Room is what Room goes by. The defaults are common practice, with no published source.
type Room struct {
	Cellar   float64 `json:"cellar_db"`    // the rest under kick and bass in 20 to 150 Hz
	Slope    int     `json:"slope_db_oct"` // of the cuts: 12 or 24
	Playback float64 `json:"playback_db"`  // SPL at which a sound of -20 dBFS RMS is taken to be played
}

// CommonRoom is what a new song goes by.
func CommonRoom() Room { return Room{Cellar: 18, Slope: 24, Playback: 83} }

// RoomRules returns the song's own, or those of common practice.
func (s *Song) RoomRules() Room {
	if s.Room != nil {
		return *s.Room
	}
	return CommonRoom()
}

// Fields are its values.
func (r *Room) Fields() []field.Field {
	return []field.Field{
		{Name: "cellar", Label: "distance under kick and bass", Unit: "dB", Number: &r.Cellar, Lo: 0, Hi: 60, Step: 1},
		{Name: "slope", Label: "slope", Unit: "dB per octave", Whole: &r.Slope, Choices: field.Choices("12", "12 dB per octave", "24", "24 dB per octave")},
		{Name: "playback", Label: "playback level", Unit: "dB", Number: &r.Playback, Lo: 40, Hi: 110, Step: 1},
	}
}

// SetRoom sets what Room goes by.
type SetRoom struct{ Room Room }

// Apply sets it.
func (e SetRoom) Apply(s *Song) (string, error) {
	if e.Room == s.RoomRules() {
		return "", nil
	}
	s.Room = &e.Room
	return fmt.Sprintf("Ask %g dB of room, cuts of %d dB per octave, played at %g dB", e.Room.Cellar, e.Room.Slope, e.Room.Playback), nil
}

// The ids of what Room does to a stem begin with roomMove; its cuts have these.
const (
	roomMove = "room-"
	RoomLow  = roomMove + "low"
	RoomHigh = roomMove + "high"
	RoomBell = roomMove + "bell"  // against mud or box
	RoomLift = roomMove + "lift"  // of kick and bass that complement each other
	RoomRing = roomMove + "ring-" // and its frequency: a bell while it rings
	RoomFor  = roomMove + "for-"  // and a stem's id: a dip so that it is heard
)

// OfRoom reports whether a move is one of Room's.
func OfRoom(m move.Move) bool { return strings.HasPrefix(m.ID, roomMove) }

// Unroomed returns the song without what Room did: the "before" of Room.
func (s Song) Unroomed() Song {
	return s.Without(OfRoom)
}

// Uncut returns the song without Room's cuts.
func (s Song) Uncut() Song {
	return s.Without(func(m move.Move) bool { return m.ID == RoomLow || m.ID == RoomHigh })
}

// Unbelled returns the song without Room's bells.
func (s Song) Unbelled() Song {
	return s.Without(func(m move.Move) bool { return m.ID == RoomBell })
}

// Uncomplemented returns the song without the bells by which kick and bass complement each other.
func (s Song) Uncomplemented() Song {
	return s.Without(func(m move.Move) bool { return m.ID == RoomLift })
}

// Unrung returns the song without Room's bells against ringing.
func (s Song) Unrung() Song {
	return s.Without(func(m move.Move) bool { return strings.HasPrefix(m.ID, RoomRing) })
}

// RoomCut returns the corner of a stem's cut, Hz; 0 where it has none, or it is off.
func (s *Stem) RoomCut(id string) float64 {
	if m := s.Move(id); m != nil && !m.Off {
		if f, ok := m.Params.(*move.Filter); ok {
			return f.Hz
		}
	}
	return 0
}

// CutRoom cuts a stem at a corner, RoomLow from below or RoomHigh from above; a corner of 0 takes the cut out.
type CutRoom struct {
	Stem, ID string
	Hz       float64
	Why      string
}

// Bounds of the corners, Hz.
const (
	LowCutMost   = 2000.0
	HighCutLeast = 200.0
)

// Apply cuts it.
func (e CutRoom) Apply(s *Song) (string, error) {
	st := s.Stem(e.Stem)
	if st == nil || e.ID != RoomLow && e.ID != RoomHigh {
		return "", errNoStem
	}
	what, shape := "under", dsp.Highpass
	if e.ID == RoomHigh {
		what, shape = "over", dsp.Lowpass
	}
	was := st.Move(e.ID)
	switch {
	case e.Hz == 0 && was == nil:
		return "", nil
	case e.Hz == 0:
		st.SetMove(move.Move{ID: e.ID})
		return fmt.Sprintf("%s: nothing is cut %s any more", st.Name, map[bool]string{true: "from below", false: "from above"}[e.ID == RoomLow]), nil
	case e.ID == RoomLow && !(e.Hz >= 10 && e.Hz <= LowCutMost):
		return "", fmt.Errorf("a low cut at %g Hz is out of bounds; 10 to %g Hz are taken", e.Hz, LowCutMost)
	case e.ID == RoomHigh && !(e.Hz >= HighCutLeast && e.Hz <= 20000):
		return "", fmt.Errorf("a high cut at %g Hz is out of bounds; %g to 20000 Hz are taken", e.Hz, HighCutLeast)
	}
	hz := math.Round(e.Hz*10) / 10
	f := &move.Filter{Shape: shape, Hz: hz, Slope: s.RoomRules().Slope}
	if was != nil && !was.Off && move.Changed(was.Params, f) == "" {
		return "", nil
	}
	st.SetMove(move.Move{ID: e.ID, Params: f, Why: e.Why})
	return fmt.Sprintf("Cut %s %s %s Hz", st.Name, what, figure.Short(hz)), nil
}

// SetVoice brings a voice to leave room for, in the place of the one that is there; without audio it takes that out.
type SetVoice struct{ File, Audio string }

// Apply brings it.
func (e SetVoice) Apply(s *Song) (string, error) {
	switch {
	case e.Audio == "" && s.Voice == nil:
		return "", nil
	case e.Audio == "":
		s.Voice = nil
		return "Take the voice out", nil
	case s.Voice != nil && s.Voice.Audio == e.Audio:
		return "", errors.New("it is the voice that is there")
	}
	s.Voice = &Reference{ID: "voice", Name: StemName(e.File), Audio: e.Audio}
	return "Leave room for the voice " + s.Voice.Name, nil
}

// Uncomplement takes out the bells by which kick and bass complement each other.
type Uncomplement struct{}

// Apply takes them out.
func (Uncomplement) Apply(s *Song) (string, error) {
	said := ""
	for i := range s.Stems {
		if st := &s.Stems[i]; st.Move(RoomLift) != nil {
			st.SetMove(move.Move{ID: RoomLift})
			said = "Kick and bass as they were at the fundamental"
		}
	}
	return said, nil
}

// KeyTo puts a keyed bell into a chain whose trigger is a stem: the kick's own, one that the song has of that stem alone, or
// a new one.
type KeyTo struct {
	At   At
	Stem string // whose sound it listens to
	Move move.Move
}

// Apply puts it in.
func (e KeyTo) Apply(s *Song) (string, error) {
	st := s.Stem(e.Stem)
	p, ok := e.Move.Params.(*move.KeyedBell)
	if st == nil || !ok {
		return "", errNoStem
	}
	k := *p
	if k.Trigger = s.TriggerOf(e.Stem); k.Trigger == "" {
		if _, err := (AddTrigger{Trigger{Stem: e.Stem}}).Apply(s); err != nil {
			return "", err
		}
		k.Trigger = s.Triggers[len(s.Triggers)-1].ID
	}
	m := e.Move
	m.Params = &k
	return SetMove{At: e.At, Move: m}.Apply(s)
}

// TriggerOf names the trigger that a stem alone gives, as it is heard there; empty where there is none.
func (s *Song) TriggerOf(stem string) string {
	if st := s.TriggerStem(); st != nil && st.ID == stem && s.Trigger(KickTrigger) != nil {
		return KickTrigger
	}
	for _, t := range s.Triggers {
		if t.Stem == stem && t.ID != KickTrigger && len(t.Stems) == 0 && t.Bus == "" && t.At == "" && !t.Clicks() && len(t.Added)+len(t.Removed) == 0 {
			return t.ID
		}
	}
	return ""
}
