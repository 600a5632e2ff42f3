package move

import (
	"fmt"
	"math"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
)

// KindFade shortens the tail of every hit.
const KindFade Kind = "fade"

// fadeFloor is the gain at which a fade ends, dB; after it there is silence until the next hit.
const fadeFloor = -60.0

// Fade lowers a stem's tail after every hit: as it is until From, gone by To, in ms after the hit.
// The next hit starts anew.
type Fade struct {
	Trigger string  `json:"trigger"` // whose hits
	From    float64 `json:"from_ms"`
	To      float64 `json:"to_ms"`
}

// Kind is KindFade.
func (*Fade) Kind() Kind { return KindFade }

// Validate bounds the times.
func (f *Fade) Validate() error {
	if !(f.From >= 0 && f.To > f.From && f.To <= DuckPost) {
		return fmt.Errorf("a fade from %g to %g ms does not lie in 0 to %g ms after the hit", f.From, f.To, DuckPost)
	}
	return nil
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
	return &fading{fade: *f, place: p, at: p.Start}, f.Validate()
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
