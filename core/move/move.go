// Package move holds what can be done to a stem: one file a kind of move, each with its
// parameters, their validation and the processor that carries it out.
package move

import (
	"encoding/json"
	"fmt"

	"mellowthump/core/audio"
)

// Kind names a kind of move.
type Kind string

// KindDuck lowers a stem at the hits of a trigger.
const KindDuck Kind = "duck"

// Params are the parameters of one kind of move. Each kind is one type.
type Params interface {
	Kind() Kind
	// Validate returns an error in plain words where a value is out of its range.
	Validate() error
	// Processor returns a processor that starts at p.Start.
	Processor(p Place) (Processor, error)
}

// Processor changes blocks of audio in place. key is the trigger signal, empty where the
// move has none. State carries over from block to block; Latency is in frames.
type Processor interface {
	Process(x, key audio.Buffer)
	Latency() int
}

// Leader is implemented by parameters whose processor must start some frames before the first one
// that counts: filters settle, envelopes fill.
type Leader interface {
	Lead(p Place) int
}

// Place says where a processor works.
type Place struct {
	Rate  int     // frames per second
	BPM   float64 // for times in note values
	Hits  []int   // frames, of the move's trigger, ascending
	Start int     // frame of the first block's first sample
}

// Move is one step in a stem's chain.
type Move struct {
	ID     string `json:"id"`
	Off    bool   `json:"off,omitempty"`
	Why    string `json:"why,omitempty"` // the finding that led to it
	Params Params `json:"-"`
}

type moveJSON struct {
	Kind Kind `json:"kind"`
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
	return json.Marshal(moveJSON{Kind: m.Params.Kind(), plain: plain(m), Params: p})
}

// UnmarshalJSON reads what MarshalJSON writes; it refuses kinds it does not know.
func (m *Move) UnmarshalJSON(b []byte) error {
	var j moveJSON
	if err := json.Unmarshal(b, &j); err != nil {
		return err
	}
	*m = Move(j.plain)
	switch j.Kind {
	case KindDuck:
		m.Params = &Duck{}
	case KindPart:
		m.Params = &Part{}
	case KindPolarity:
		m.Params = &Polarity{}
	case KindNudge:
		m.Params = &Nudge{}
	case KindTune:
		m.Params = &Tune{}
	case KindFilter:
		m.Params = &Filter{}
	case KindFade:
		m.Params = &Fade{}
	default:
		return fmt.Errorf("move %q is of the unknown kind %q", j.ID, j.Kind)
	}
	return json.Unmarshal(j.Params, m.Params)
}
