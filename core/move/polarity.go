package move

import "mellowthump/core/audio"

// KindPolarity turns a stem upside down.
const KindPolarity Kind = "polarity"

// Polarity turns the sign of every sample.
type Polarity struct{}

// Kind is KindPolarity.
func (*Polarity) Kind() Kind { return KindPolarity }

// Validate never fails.
func (*Polarity) Validate() error { return nil }

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
