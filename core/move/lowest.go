package move

import (
	"mellowthump/core/audio"
	"mellowthump/core/field"
)

// Lowest is several drawn ducks at one place, each at the hits of its own trigger: where they overlap the lower gain counts, so
// that a part that ducks to kick and snare does not go down twice where both strike. A render makes it of a chain's ducks; no
// chain holds one.
type Lowest struct {
	Ducks []*Duck // at tempo
	Hits  [][]int // of each, frames
}

// Kind is that of its ducks.
func (*Lowest) Kind() *Kind { return duckKind }

// Fields are none of its own.
func (*Lowest) Fields() []field.Field { return nil }

// Needs is nothing: its hits are with it.
func (*Lowest) Needs() Needs { return Needs{} }

// Memory is none: its hits are known.
func (*Lowest) Memory(Place) int { return 0 }

// Gain is the lowest of its ducks' gains, as amplitude, n frames from p.Start on; p's own hits do not matter.
func (l *Lowest) Gain(p Place, n int) ([]float32, error) {
	q, err := l.gains(p)
	if err != nil {
		return nil, err
	}
	g := make([]float32, n)
	q.fill(g)
	return g, nil
}

// Processor lowers by it.
func (l *Lowest) Processor(p Place) (Processor, error) { return l.gains(p) }

func (l *Lowest) gains(p Place) (*lowestGain, error) {
	out := &lowestGain{}
	for i, d := range l.Ducks {
		c, err := d.AtTempo(p.BPM)
		if err != nil {
			return nil, err
		}
		p.Hits = l.Hits[i]
		out.each = append(out.each, newDuckGain(c, p))
	}
	return out, nil
}

type lowestGain struct {
	each   []*duckGain
	sum, g []float32
}

func (*lowestGain) Latency() int { return 0 }

// fill writes the lowest gain of the next frames.
func (l *lowestGain) fill(out []float32) {
	for i, d := range l.each {
		if i == 0 {
			d.fill(out)
			continue
		}
		if len(l.g) < len(out) {
			l.g = make([]float32, len(out))
		}
		g := l.g[:len(out)]
		d.fill(g)
		for k, v := range g {
			out[k] = min(out[k], v)
		}
	}
}

// Process lowers x.
func (l *lowestGain) Process(x, _ audio.Buffer) {
	if len(l.sum) < x.Frames() {
		l.sum = make([]float32, x.Frames())
	}
	g := l.sum[:x.Frames()]
	l.fill(g)
	for _, ch := range x.Ch {
		for i := range ch {
			ch[i] *= g[i]
		}
	}
}
