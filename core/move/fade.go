package move

import (
	"fmt"
	"math"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
)

var fadeKind = &Kind{
	Name: "fade", Label: "Tail fade", Does: "lowers the tail of every hit",
	Where: OnStem, Linear: true, New: func() Params { return &Fade{From: 150, To: 300} },
}

// fadeFloor is the gain at which a fade ends, dB; after it there is silence until the next hit.
const fadeFloor = -60.0

// Fade lowers a stem's tail after every hit: as it is until From, gone by To, in ms after the hit.
// The next hit starts anew.
type Fade struct {
	Trigger string  `json:"trigger"` // whose hits
	From    float64 `json:"from_ms"`
	To      float64 `json:"to_ms"`
}

// Kind is fade.
func (*Fade) Kind() *Kind { return fadeKind }

// Fields are the hits and the two ends.
func (f *Fade) Fields() []field.Field {
	return []field.Field{
		{Name: "trigger", Label: "hits of", Text: &f.Trigger, Trigger: true},
		{Name: "from_ms", Label: "from", Unit: "ms", Number: &f.From, Lo: 0, Hi: DuckPost, Step: 1},
		{Name: "to_ms", Label: "gone by", Unit: "ms", Number: &f.To, Lo: 0, Hi: DuckPost, Step: 1},
	}
}

// Needs is the stem's own hits.
func (f *Fade) Needs() Needs { return Needs{Trigger: f.Trigger, Hits: OwnHits} }

// Memory is none: the hits are known.
func (*Fade) Memory(Place) int { return 0 }

// Check refuses a fade that ends before it begins.
func (f *Fade) Check() error {
	if f.To <= f.From {
		return fmt.Errorf("a fade from %g to %g ms does not lie in 0 to %g ms after the hit", f.From, f.To, DuckPost)
	}
	return nil
}

// Words says it.
func (f *Fade) Words() string {
	return fmt.Sprintf("fade from %.0f ms after the hit, gone by %.0f ms", f.From, f.To)
}

// GainDB returns the gain at a time in ms after a hit: half a cosine in amplitude.
func (f *Fade) GainDB(ms float64) float64 {
	g := f.gain(ms)
	if g <= dsp.Gain(fadeFloor) {
		return fadeFloor
	}
	return dsp.DB(g)
}

func (f *Fade) gain(ms float64) float64 {
	switch {
	case ms <= f.From:
		return 1
	case ms >= f.To:
		return 0
	}
	return 0.5 + 0.5*math.Cos(math.Pi*(ms-f.From)/(f.To-f.From))
}

// Processor fades after each of p's hits. What comes before the first hit stays.
func (f *Fade) Processor(p Place) (Processor, error) {
	return &fading{fade: *f, place: p, at: p.Start}, Validate(f)
}

type fading struct {
	fade  Fade
	place Place
	at    int
}

func (f *fading) Latency() int { return 0 }

func (f *fading) Process(x, _ audio.Buffer) {
	perMS := float64(f.place.Rate) / 1000
	for i := range x.Frames() {
		n := f.at + i
		k := sort.SearchInts(f.place.Hits, n+1) - 1
		if k < 0 {
			continue
		}
		since := float64(n-f.place.Hits[k]) / perMS
		if since <= f.fade.From {
			continue
		}
		g := float32(f.fade.gain(since))
		// the next hit's own start comes in over a moment, not with a click
		if k+1 < len(f.place.Hits) {
			if left := float64(f.place.Hits[k+1]-n) / perMS; left < fadeIn {
				g += (1 - g) * float32(1-left/fadeIn)
			}
		}
		for c := range x.Ch {
			x.Ch[c][i] *= g
		}
	}
	f.at += x.Frames()
}

const fadeIn = 1.0 // ms
