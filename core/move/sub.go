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

var subKind = &Kind{
	Name: "sub", Label: "Sub under hits", Does: "puts a low tone of its own under every hit",
	Where: OnStem, New: func() Params { return &Sub{Hz: 40, Level: -18, Attack: 4, Length: 250} },
}

// Sub adds a tone under every hit: level * sin(2 pi hz t) (1 - exp(-t / attack)) 10^(-3 t / length), t from the hit on; its
// length is that in which it has fallen by 60 dB, and it is gone in the 4 ms before the next hit. At -60 dBFS it is a null.
type Sub struct {
	Trigger string  `json:"trigger"` // whose hits
	Hz      float64 `json:"hz"`
	Level   float64 `json:"level_db"` // dBFS, where the stem's clip gain is done
	Attack  float64 `json:"attack_ms"`
	Length  float64 `json:"length_ms"`
}

const (
	subSilent = -60.0 // dBFS
	subOut    = 4.0   // ms
)

// Kind is sub.
func (*Sub) Kind() *Kind { return subKind }

// Fields are the hits and the tone.
func (s *Sub) Fields() []field.Field {
	return []field.Field{
		{Name: "trigger", Label: "hits of", Text: &s.Trigger, Trigger: true},
		{Name: "hz", Label: "tone at", Unit: "Hz", Number: &s.Hz, Lo: 20, Hi: 120, Step: 0.1},
		{Name: "level_db", Label: "level", Unit: "dB", Number: &s.Level, Lo: subSilent, Hi: 0, Step: 0.5},
		{Name: "attack_ms", Label: "attack", Unit: "ms", Number: &s.Attack, Lo: 0.5, Hi: 100, Step: 0.5},
		{Name: "length_ms", Label: "length", Unit: "ms", Number: &s.Length, Lo: 20, Hi: 2000, Step: 5},
	}
}

// Needs is the stem's own hits.
func (s *Sub) Needs() Needs { return Needs{Trigger: s.Trigger, Hits: OwnHits} }

// Memory is none: the hits are known.
func (*Sub) Memory(Place) int { return 0 }

// Words says it.
func (s *Sub) Words() string {
	return fmt.Sprintf("a tone of %s Hz under every hit, %s dBFS, gone in %s ms", figure.Short(s.Hz), figure.Short(s.Level), figure.Short(s.Length))
}

// Processor adds the tone to every channel.
func (s *Sub) Processor(p Place) (Processor, error) {
	return &subbing{of: *s, place: p, at: p.Start, level: dsp.Gain(s.Level)}, Validate(s)
}

type subbing struct {
	of    Sub
	place Place
	at    int
	level float64
}

func (*subbing) Latency() int { return 0 }

func (g *subbing) Process(x, _ audio.Buffer) {
	defer func() { g.at += x.Frames() }()
	if g.of.Level <= subSilent {
		return
	}
	rate := float64(g.place.Rate)
	most := int(1.5 * g.of.Length / 1000 * rate) // -90 dB
	for i := range x.Frames() {
		n := g.at + i
		k := sort.SearchInts(g.place.Hits, n+1) - 1
		if k < 0 || n-g.place.Hits[k] > most {
			continue
		}
		t := float64(n-g.place.Hits[k]) / rate
		v := g.level * math.Sin(2*math.Pi*g.of.Hz*t) * (1 - math.Exp(-1000*t/g.of.Attack)) * math.Pow(10, -3000*t/g.of.Length)
		if k+1 < len(g.place.Hits) {
			if left := 1000 * float64(g.place.Hits[k+1]-n) / rate; left < subOut {
				v *= left / subOut
			}
		}
		for c := range x.Ch {
			x.Ch[c][i] += float32(v)
		}
	}
}
