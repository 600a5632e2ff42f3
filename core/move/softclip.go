package move

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var softClipKind = &Kind{
	Name: "softclip", Label: "Soft clip", Does: "rounds off what rises over a threshold",
	Where: Anywhere, New: func() Params { return &SoftClip{Threshold: -1, Knee: 3} },
}

// SoftClip rounds off what rises over a threshold, eight times oversampled. With the threshold T and the start of
// the knee a = T less the knee, in amplitude, it leaves what is under a as it is, turns u from a to 2T - a into
// u - (u - a)^2 / (4 (T - a)), and holds T from there on: straight and level are met without a corner. A knee of
// 0 dB cuts. Where nothing rises over a, the sound is left as it is to the bit.
type SoftClip struct {
	Threshold float64 `json:"threshold_db"` // dBFS
	Knee      float64 `json:"knee_db"`
}

// Kind is softclip.
func (*SoftClip) Kind() *Kind { return softClipKind }

// Fields are threshold and knee.
func (s *SoftClip) Fields() []field.Field {
	return []field.Field{
		{Name: "threshold_db", Label: "threshold", Unit: "dBFS", Number: &s.Threshold, Lo: -24, Hi: 24, Step: 0.1},
		{Name: "knee_db", Label: "knee", Unit: "dB", Number: &s.Knee, Lo: 0, Hi: 12, Step: 0.5},
	}
}

// Needs is nothing.
func (*SoftClip) Needs() Needs { return Needs{} }

// Memory is that of the filters to the higher rate and back.
func (*SoftClip) Memory(Place) int { return 2 * clipTaps }

// Words says it.
func (s *SoftClip) Words() string {
	return fmt.Sprintf("soft clip over %s dBFS, knee of %g dB", figure.Signed(s.Threshold, -1), s.Knee)
}

const (
	clipTimes = 8  // by which the rate is raised
	clipTaps  = 32 // of each phase: a Kaiser-windowed sinc (beta 9), flat to about 0.4 of the rate
)

// clipPhases are the phases of the filter that raises the rate: phase k lies k eighths behind a frame. clipBound is
// how far the sound between samples may rise over the highest of the samples around it: the phases' largest sum of
// magnitudes.
var clipPhases, clipBound = func() (h [clipTimes][clipTaps]float32, bound float32) {
	k := newKernel(clipTaps, 9)
	for i := range h {
		copy(h[i][:], k.phases[i])
	}
	return h, k.bound
}()

// Processor clips each channel on its own; it is as late as its filters are long.
func (s *SoftClip) Processor(p Place) (Processor, error) {
	t := dsp.Gain(s.Threshold)
	return &clipping{top: t, knee: t * dsp.Gain(-s.Knee)}, Validate(s)
}

type clipping struct {
	top, knee float64
	each      []*clipChannel
}

// clipChannel is one channel's state: the samples that are still needed, and the corrections that are not yet due.
type clipChannel struct {
	past  []float32 // the last clipTaps - 1 samples before the block
	fixes []float32 // what is taken off the frames that come out next
	quiet int       // samples since one that could be clipped
}

// Latency is that of the way up and back: each phase lies between clipTaps/2 - 1 and clipTaps/2 frames back.
func (*clipping) Latency() int { return clipTaps - 1 }

// shave returns what the curve takes off an amplitude.
func (c *clipping) shave(v float32) float32 {
	u := math.Abs(float64(v))
	if u <= c.knee {
		return 0
	}
	off := u - c.top
	if u < 2*c.top-c.knee {
		off = (u - c.knee) * (u - c.knee) / (4 * (c.top - c.knee))
	}
	if v < 0 {
		return float32(off)
	}
	return float32(-off)
}

// Process delays the sound and takes off what the curve does, worked out at the higher rate and brought back by the
// same filter: straight sound stays what it is.
func (c *clipping) Process(x, _ audio.Buffer) {
	for ch := range x.Ch {
		if ch == len(c.each) {
			c.each = append(c.each, &clipChannel{past: make([]float32, clipTaps-1), quiet: clipTaps})
		}
		c.channel(c.each[ch], x.Ch[ch])
	}
}

func (c *clipping) channel(s *clipChannel, x []float32) {
	w := append(s.past, x...)
	loud := float32(c.knee) / clipBound
	for len(s.fixes) < len(x)+clipTaps {
		s.fixes = append(s.fixes, 0)
	}
	for i, v := range x {
		if max(v, -v) > loud {
			s.quiet = 0
		} else {
			s.quiet++
		}
		if s.quiet < clipTaps {
			c.fix(s.fixes[i:i+clipTaps], w[i:i+clipTaps])
		}
	}
	for i := range x { // w[i] is the sample clipTaps - 1 frames back
		x[i] = w[i] + s.fixes[i]
	}
	n := copy(s.fixes, s.fixes[len(x):])
	for i := n; i < len(s.fixes); i++ {
		s.fixes[i] = 0
	}
	s.past = append(s.past[:0], w[len(w)-(clipTaps-1):]...)
}

// clipShort is by how much a peak may be over what twice the rate sees of it: 1 / cos(pi / 4), and a little.
const clipShort = 1.45

// fix works out the eight points between two frames, at from the newest clipTaps samples, and spreads what the curve
// takes off them over the frames around: fixes[j] belongs to the frame that comes out j frames from now.
func (c *clipping) fix(fixes, w []float32) {
	a, b, half := w[clipTaps/2-1], w[clipTaps/2], float32(0)
	for i, g := range clipPhases[clipTimes/2] {
		half += g * w[i]
	}
	if clipShort*float64(max(a, -a, b, -b, half, -half)) <= c.knee { // nothing between them can be clipped
		return
	}
	for k := range clipPhases {
		h := &clipPhases[k]
		var v float32
		for i, g := range h { // the point k eighths after w[clipTaps/2-1]
			v += g * w[i]
		}
		off := c.shave(v)
		if off == 0 {
			continue
		}
		off /= clipTimes
		for i, g := range h {
			fixes[i] += g * off
		}
	}
}
