package move

import (
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var nudgeKind = &Kind{
	Own:  true,
	Name: "nudge", Label: "Nudge", Does: "moves a stem in time, later or earlier",
	Where: OnStem, Linear: true, New: func() Params { return &Nudge{} },
}

// NudgeMost is how far a stem may be moved to either side, ms.
const NudgeMost = 100.0

// Nudge moves a stem later (positive) or earlier, to fractions of a sample.
type Nudge struct {
	MS float64 `json:"ms"`
}

// Kind is nudge.
func (*Nudge) Kind() *Kind { return nudgeKind }

// Fields is the time.
func (n *Nudge) Fields() []field.Field {
	return []field.Field{{Name: "ms", Label: "nudge", Unit: "ms", Number: &n.MS, Lo: -NudgeMost, Hi: NudgeMost, Step: 0.01}}
}

// Needs is nothing.
func (*Nudge) Needs() Needs { return Needs{} }

// Memory is what is yet to come out, and what the taps reach back to.
func (n *Nudge) Memory(p Place) int {
	return max(0, int(math.Ceil(n.MS*float64(p.Rate)/1000))) + dsp.SincTaps
}

// Words says it.
func (n *Nudge) Words() string { return figure.Signed(n.MS, -1) + " ms later" }

// Processor delays by the nudge and a latency that makes it possible to go back in time.
func (n *Nudge) Processor(p Place) (Processor, error) {
	if err := Validate(n); err != nil {
		return nil, err
	}
	frames := n.MS * float64(p.Rate) / 1000
	whole := math.Floor(frames + 1e-9)
	fraction := frames - whole
	d := &delay{}
	if fraction > 1e-6 {
		taps := dsp.FractionalDelay(fraction)
		d.taps = taps[:]
		whole -= dsp.SincTaps/2 - 1 // the taps delay by that much themselves
	}
	if whole < 0 {
		d.latency, whole = int(-whole), 0
	}
	d.frames = int(whole)
	return d, nil
}

// delay delays by whole frames and a fraction.
type delay struct {
	frames, latency int
	taps            []float32
	past            [][]float32 // of each channel: what is yet to come out, and what the taps reach back to
}

func (d *delay) Latency() int { return d.latency }

func (d *delay) Process(x, _ audio.Buffer) {
	back := d.frames
	if d.taps != nil {
		back += len(d.taps) - 1
	}
	if d.past == nil {
		d.past = make([][]float32, len(x.Ch))
		for c := range d.past {
			d.past[c] = make([]float32, back)
		}
	}
	for c, ch := range x.Ch {
		w := append(d.past[c], ch...)
		for i := range ch {
			if d.taps == nil {
				ch[i] = w[i]
				continue
			}
			var s float32
			at := w[i : i+len(d.taps)] // the newest that counts comes last
			for k, h := range d.taps {
				s += h * at[len(at)-1-k]
			}
			ch[i] = s
		}
		d.past[c] = append(d.past[c][:0], w[len(w)-back:]...)
	}
}
