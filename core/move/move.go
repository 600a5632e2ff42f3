// Package move holds what can be done to a stem, a bus or the master: one file a kind of move, each with
// its fields, what it needs, how far back it remembers, and the processor that carries it out. A new kind is
// its own file and one line in Kinds.
package move

import (
	"encoding/json"
	"fmt"

	"mellowthump/core/audio"
	"mellowthump/core/field"
)

// Kinds are all kinds of moves, in the order in which they stand in a chain: what changes the sound of a hit
// first, then its place, then what bounds the sound, ducking last.
var Kinds = []*Kind{
	partKind,
	polarityKind,
	tuneKind,
	alignKind,
	filterKind,
	midSideKind,
	sideCutKind,
	monoBelowKind,
	widthKind,
	ringKind,
	keyedBellKind,
	fadeKind,
	nudgeKind,
	gainsKind,
	dropKind,
	subKind,
	attackKind,
	attackBandsKind,
	parallelKind,
	bandsKind,
	compressKind,
	driveKind,
	softClipKind,
	limitKind,
	duckKind,
}

// Kind is one kind of move.
type Kind struct {
	Name   string // in JSON
	Label  string // in the program's words
	Does   string // what it does, a sentence
	Where  Where
	Linear bool          // what comes out of a sum is the sum of what comes out of its parts
	Own    bool          // it holds what is of one recording alone: times, notes, a pitch; a template leaves it out
	Slow   bool          // it takes so long that what follows it in a chain is worked out apart
	New    func() Params // with its defaults
}

// Where says in which chains a kind may stand.
type Where int

// The places of chains.
const (
	OnStem Where = 1 << iota
	OnBus
	OnMaster

	Anywhere = OnStem | OnBus | OnMaster
)

// String names the places, "stem, bus, master".
func (w Where) String() string {
	out := ""
	for _, k := range []struct {
		at   Where
		name string
	}{{OnStem, "stem"}, {OnBus, "bus"}, {OnMaster, "master"}} {
		switch {
		case w&k.at == 0:
		case out == "":
			out = k.name
		default:
			out += ", " + k.name
		}
	}
	return out
}

var byName, placeOf = index(Kinds)

// index orders the kinds by name; one that is incomplete or there twice is a mistake in the program.
func index(kinds []*Kind) (map[string]*Kind, map[*Kind]int) {
	names, places := map[string]*Kind{}, map[*Kind]int{}
	for i, k := range kinds {
		if k == nil || k.Name == "" || k.Label == "" || k.Does == "" || k.Where == 0 || k.New == nil || names[k.Name] != nil {
			panic(fmt.Sprintf("move: kind %d of the list is incomplete, or there twice", i+1))
		}
		if of := k.New().Kind(); of != k {
			panic(fmt.Sprintf("move: what the kind %q makes is of another kind", k.Name))
		}
		names[k.Name], places[k] = k, i
	}
	return names, places
}

// KindOf returns the kind of that name, nil where there is none.
func KindOf(name string) *Kind { return byName[name] }

// Place returns where in a chain the kind stands.
func (k *Kind) Place() int { return placeOf[k] }

// On lists the kinds that may stand at a place, in the order of a chain.
func On(w Where) []*Kind {
	var out []*Kind
	for _, k := range Kinds {
		if k.Where&w != 0 {
			out = append(out, k)
		}
	}
	return out
}

// Params are the parameters of one kind of move. Each kind is one type.
type Params interface {
	Kind() *Kind
	// Fields points into the parameters: names, units, bounds.
	Fields() []field.Field
	// Needs says what of the song the move needs to be known.
	Needs() Needs
	// Memory returns the number of frames before p.Start that what comes out from there on depends on, to
	// within 100 dB under full scale.
	Memory(p Place) int
	// Processor returns a processor that starts at p.Start.
	Processor(p Place) (Processor, error)
}

// Checker is implemented by parameters whose fields must agree with each other, or that hold more than fields.
type Checker interface{ Check() error }

// Worded is implemented by parameters that say themselves better than their fields do.
type Worded interface{ Words() string }

// Listener is implemented by parameters that listen to a trigger's sound: a gain follows from that sound alone,
// whatever it is laid on, so it is worked out once for the sound and for the readouts.
type Listener interface {
	Params
	// Listen returns what turns the trigger's sound into a gain, from p.Start on.
	Listen(p Place) (Listening, error)
	// Listens returns the frames of the trigger's past on which the gain from p.Start on depends.
	Listens(p Place) int
	// Carrier returns the parameters that carry a known gain out: their key is that gain, as amplitude.
	Carrier() Params
}

// Listening turns a trigger's sound into a gain, block by block.
type Listening interface {
	// Gains returns the gain, as amplitude, for a block of the key; what it returns is the listener's own until
	// the next call.
	Gains(key []float32) []float32
	// Ahead is by how many frames the gain comes before the sound that it is laid on: the look-ahead.
	Ahead() int
}

// Needs is what of the song a move needs to be known.
type Needs struct {
	Trigger string // id of the song's trigger; empty: none
	Hits    Hits   // which hits of it
	Sound   bool   // its sound: the parameters are a Listener
}

// Hits says which hits of a trigger a move goes by.
type Hits int

// The hits of a trigger.
const (
	NoHits     Hits = iota
	SongHits        // as they are heard in the song
	OwnHits         // those of the stem's own file, before its nudge, where the stem gives the trigger's hits
	SharedHits      // those of the file, where a stem of the same file gives them: head and tail of one sample
)

// Processor changes blocks of audio in place. key is the gain that a Listener's carrier lays on the sound, empty
// for all other kinds. State carries over from block to block; Latency is in frames.
type Processor interface {
	Process(x, key audio.Buffer)
	Latency() int
}

// Place says where a processor works.
type Place struct {
	Rate  int     // frames per second
	BPM   float64 // for times in note values
	Hits  []int   // frames, of the move's trigger, ascending
	Start int     // frame of the first block's first sample
}

// Move is one step in a chain.
type Move struct {
	ID     string `json:"id"`
	Off    bool   `json:"off,omitempty"`
	Why    string `json:"why,omitempty"` // the finding that led to it
	Params Params `json:"-"`
}

type moveJSON struct {
	Kind string `json:"kind"`
	plain
	Params json.RawMessage `json:"params"`
}

type plain Move

// MarshalJSON writes {id, kind, params, off, why}.
func (m Move) MarshalJSON() ([]byte, error) {
	if m.Params == nil {
		return nil, fmt.Errorf("move %q has no parameters", m.ID)
	}
	p, err := json.Marshal(m.Params)
	if err != nil {
		return nil, err
	}
	return json.Marshal(moveJSON{Kind: m.Params.Kind().Name, plain: plain(m), Params: p})
}

// UnmarshalJSON reads what MarshalJSON writes; it refuses kinds it does not know.
func (m *Move) UnmarshalJSON(b []byte) error {
	var j moveJSON
	if err := json.Unmarshal(b, &j); err != nil {
		return err
	}
	*m = Move(j.plain)
	k := KindOf(j.Kind)
	if k == nil {
		return fmt.Errorf("move %q is of the unknown kind %q", j.ID, j.Kind)
	}
	m.Params = k.blank()
	if len(j.Params) == 0 {
		return fmt.Errorf("move %q has no parameters", j.ID)
	}
	return json.Unmarshal(j.Params, m.Params)
}
