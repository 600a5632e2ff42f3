package move

import (
	"fmt"
	"math"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var gainsKind = &Kind{
	Own:  true,
	Name: "gains", Label: "Own gains", Does: "gives every hit or note a gain of its own",
	Where: OnStem, Linear: true, New: func() Params { return &Gains{} },
}

// Bounds of own gains.
const (
	GainsMost = 24.0  // dB
	GainsMute = -90.0 // dB: silence, the least
	GainsJoin = 5.0   // ms before a hit in which the gain moves to its own
	gainsMany = 20000 // hits
)

// Gains gives every hit or note a gain of its own, from its start on; in the 5 ms before it, in a straight line of amplitude, the
// gain moves there. Before the first one nothing is changed.
type Gains struct {
	Steps []GainStep `json:"steps"`
}

// GainStep is the gain from a time in the song on.
type GainStep struct {
	At float64 `json:"at_s"`
	DB float64 `json:"db"`
}

// Kind is gains.
func (*Gains) Kind() *Kind { return gainsKind }

// Fields are none: the gains have no field.
func (*Gains) Fields() []field.Field { return nil }

// Doc names what the fields do not.
func (*Gains) Doc() string { return "`steps`, `[{at_s, db}]`, in order" }

// Needs is nothing: the times are its own.
func (*Gains) Needs() Needs { return Needs{} }

// Memory is none.
func (*Gains) Memory(Place) int { return 0 }

// Most is the largest of the gains by its size, dB.
func (g *Gains) Most() float64 {
	most := 0.0
	for _, s := range g.Steps {
		if math.Abs(s.DB) > math.Abs(most) {
			most = s.DB
		}
	}
	return most
}

// Words says it.
func (g *Gains) Words() string {
	return fmt.Sprintf("own gains at %d hits, at most %s dB", len(g.Steps), figure.Plus(g.Most(), 1))
}

// Check bounds the steps.
func (g *Gains) Check() error {
	if len(g.Steps) > gainsMany {
		return fmt.Errorf("more than %d gains", gainsMany)
	}
	for i, s := range g.Steps {
		if !(s.DB >= GainsMute && s.DB <= GainsMost) || !(s.At >= 0 && s.At <= audio.MaxSeconds) || i > 0 && s.At <= g.Steps[i-1].At {
			return fmt.Errorf("gain %d is out of bounds", i+1)
		}
	}
	return nil
}

// Processor lays the gains on every channel alike.
func (g *Gains) Processor(p Place) (Processor, error) {
	if err := Validate(g); err != nil {
		return nil, err
	}
	out := &gaining{at: p.Start, join: max(1, int(math.Round(GainsJoin*float64(p.Rate)/1000)))}
	for _, s := range g.Steps {
		gain := float32(dsp.Gain(s.DB))
		if s.DB == GainsMute {
			gain = 0
		}
		out.steps, out.gain = append(out.steps, int(math.Round(s.At*float64(p.Rate)))), append(out.gain, gain)
	}
	return out, nil
}

type gaining struct {
	steps []int
	gain  []float32
	at    int
	join  int
}

func (*gaining) Latency() int { return 0 }

func (g *gaining) Process(x, _ audio.Buffer) {
	k := sort.SearchInts(g.steps, g.at+1) - 1
	for i := range x.Frames() {
		n := g.at + i
		for k+1 < len(g.steps) && g.steps[k+1] <= n {
			k++
		}
		gain := float32(1)
		if k >= 0 {
			gain = g.gain[k]
		}
		if k+1 < len(g.steps) {
			if left := g.steps[k+1] - n; left < g.join {
				gain += (g.gain[k+1] - gain) * float32(g.join-left) / float32(g.join)
			}
		}
		if gain == 1 {
			continue
		}
		for c := range x.Ch {
			x.Ch[c][i] *= gain
		}
	}
	g.at += x.Frames()
}
