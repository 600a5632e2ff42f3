package move

import (
	"mellowthump/core/audio"
	"mellowthump/core/field"
)

var polarityKind = &Kind{
	Name: "polarity", Label: "Polarity", Does: "turns the sign of every sample",
	Where: OnStem | OnBus, Linear: true, New: func() Params { return &Polarity{} },
}

// Polarity turns the sign of every sample.
type Polarity struct{}

// Kind is polarity.
func (*Polarity) Kind() *Kind { return polarityKind }

// Fields are none.
func (*Polarity) Fields() []field.Field { return nil }

// Needs is nothing.
func (*Polarity) Needs() Needs { return Needs{} }

// Memory is none.
func (*Polarity) Memory(Place) int { return 0 }

// Words says it.
func (*Polarity) Words() string { return "polarity turned over" }

// Processor turns blocks over.
func (*Polarity) Processor(Place) (Processor, error) { return flip{}, nil }

type flip struct{}

func (flip) Process(x, _ audio.Buffer) {
	for c := range x.Ch {
		for i, v := range x.Ch[c] {
			x.Ch[c][i] = -v
		}
	}
}

func (flip) Latency() int { return 0 }
