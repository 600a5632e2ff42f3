package move

import (
	"fmt"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/field"
)

var partKind = &Kind{
	Own:  true,
	Name: "part", Label: "Head or tail", Does: "keeps one part of every hit of a combined sample",
	Where: OnStem, Linear: true, New: func() Params { return &Part{Keep: Head, At: 90, Fade: 20} },
}

// The parts of a combined sample.
const (
	Head = "head" // the struck start
	Tail = "tail" // what rings on
)

// Part keeps the head or the tail of every hit, with a crossfade between them: the two together are the
// sound as it was.
type Part struct {
	Keep    string  `json:"keep"`
	Trigger string  `json:"trigger"` // whose hits
	At      float64 `json:"at_ms"`   // the middle of the crossfade, after the hit
	Fade    float64 `json:"fade_ms"` // its length
}

// Kind is part.
func (*Part) Kind() *Kind { return partKind }

// Fields are the part that stays and the crossfade.
func (p *Part) Fields() []field.Field {
	return []field.Field{
		{Name: "keep", Label: "part", Text: &p.Keep, Choices: field.Choices(Head, "head", Tail, "tail")},
		{Name: "trigger", Label: "hits of", Text: &p.Trigger, Trigger: true},
		{Name: "at_ms", Label: "crossfade at", Unit: "ms", Number: &p.At, Lo: 0, Hi: DuckPost, Step: 1},
		{Name: "fade_ms", Label: "length", Unit: "ms", Number: &p.Fade, Lo: 1, Hi: 200, Step: 1},
	}
}

// Needs is the hits of the file.
func (p *Part) Needs() Needs { return Needs{Trigger: p.Trigger, Hits: SharedHits} }

// Memory is none: the hits are known.
func (*Part) Memory(Place) int { return 0 }

// Check refuses a crossfade that begins before its hit.
func (p *Part) Check() error {
	if p.At-p.Fade/2 < 0 {
		return fmt.Errorf("a crossfade of %g ms does not lie around %g ms after the hit", p.Fade, p.At)
	}
	return nil
}

// Words says it.
func (p *Part) Words() string {
	return fmt.Sprintf("%s kept, crossfade of %g ms around %g ms after the hit", p.Keep, p.Fade, p.At)
}

// head returns the gain of the head some ms after a hit, with left ms until the next one.
func (p *Part) head(since, left float64) float32 {
	g := float32(0)
	switch from := p.At - p.Fade/2; {
	case since <= from:
		g = 1
	case since < from+p.Fade:
		g = float32(1 - (since-from)/p.Fade)
	}
	if left < fadeIn { // the next head comes in over a moment
		g = max(g, float32(1-left/fadeIn))
	}
	return g
}

// Processor keeps the part at each of p's hits. What comes before the first hit is head.
func (p *Part) Processor(place Place) (Processor, error) {
	return &parting{part: *p, place: place, at: place.Start}, Validate(p)
}

type parting struct {
	part  Part
	place Place
	at    int
}

func (f *parting) Latency() int { return 0 }

func (f *parting) Process(x, _ audio.Buffer) {
	perMS := float64(f.place.Rate) / 1000
	k := sort.SearchInts(f.place.Hits, f.at+1) - 1
	for i := range x.Frames() {
		n := f.at + i
		for k+1 < len(f.place.Hits) && f.place.Hits[k+1] <= n {
			k++
		}
		g := float32(1)
		if k >= 0 {
			left := fadeIn
			if k+1 < len(f.place.Hits) {
				left = float64(f.place.Hits[k+1]-n) / perMS
			}
			g = f.part.head(float64(n-f.place.Hits[k])/perMS, left)
		}
		if f.part.Keep == Tail {
			g = 1 - g
		}
		for c := range x.Ch {
			x.Ch[c][i] *= g
		}
	}
	f.at += x.Frames()
}
