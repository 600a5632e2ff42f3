package move

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var (
	sideCutKind = &Kind{
		Name: "sidecut", Label: "Side low cut", Does: "takes the low end out of the side; the mid stays as it is",
		Where: Anywhere, Linear: true, New: func() Params { return &SideCut{Hz: 120, Slope: 24} },
	}
	monoBelowKind = &Kind{
		Name: "monobelow", Label: "Mono below", Does: "makes everything under a corner mono, mid and side in phase",
		Where: Anywhere, Linear: true, New: func() Params { return &MonoBelow{Hz: 120} },
	}
	widthKind = &Kind{
		Name: "width", Label: "Mid and side level", Does: "makes a stereo sound wider or narrower",
		Where: Anywhere, Linear: true, New: func() Params { return &Width{} },
	}
	alignKind = &Kind{
		Own:  true,
		Name: "align", Label: "Channel delay", Does: "delays one channel against the other, or turns one over",
		Where: Anywhere, Linear: true, New: func() Params { return &Align{Turn: TurnNone} },
	}
)

// sides parts a block into its side, (L - R) / 2; false where it has one channel.
func sides(x audio.Buffer, to []float32) ([]float32, bool) {
	if len(x.Ch) < 2 {
		return to, false
	}
	to = to[:0]
	for i, v := range x.Ch[0] {
		to = append(to, (v-x.Ch[1][i])/2)
	}
	return to, true
}

// SideCut is a Butterworth high-pass on the side, (L - R) / 2. The mid is what it was: left and right together are unchanged. Where the
// middle has no low end, as with a channel that is upside down there, that of the left or the right goes to both sides: then that
// channel is what it was. A mono sound passes through.
type SideCut struct {
	Hz    float64 `json:"hz"`
	Slope int     `json:"slope_db_oct"`     // 12, 24 or 48
	Low   string  `json:"low_of,omitempty"` // whose low end both sides play: LowMid, LowLeft, LowRight
}

// Whose low end is left.
const (
	LowMid   = ""
	LowLeft  = "left"
	LowRight = "right"
)

// Kind is sidecut.
func (*SideCut) Kind() *Kind { return sideCutKind }

// Fields are the corner and the slope.
func (s *SideCut) Fields() []field.Field {
	return []field.Field{
		{Name: "hz", Label: "side over", Unit: "Hz", Number: &s.Hz, Lo: 20, Hi: 2000, Step: 1},
		{Name: "slope_db_oct", Label: "slope", Whole: &s.Slope, Choices: slopes},
		{Name: "low_of", Label: "low end of", Text: &s.Low, Choices: field.Choices(LowMid, "the middle", LowLeft, "the left", LowRight, "the right")},
	}
}

// Needs is nothing.
func (*SideCut) Needs() Needs { return Needs{} }

// Sections are its filter's.
func (s *SideCut) Sections(rate float64) ([]dsp.Biquad, error) {
	return dsp.ButterworthHighpass(s.Slope/6, s.Hz, rate)
}

// Memory is the time in which its poles die away.
func (s *SideCut) Memory(p Place) int {
	f, err := s.Sections(float64(p.Rate))
	if err != nil {
		return 0
	}
	return dsp.Settles(f)
}

// Words says it.
func (s *SideCut) Words() string {
	if s.Low != LowMid {
		return fmt.Sprintf("the low end of the %s on both sides under %s Hz, %d dB per octave", s.Low, figure.Short(s.Hz), s.Slope)
	}
	return fmt.Sprintf("the side high-passed at %s Hz, %d dB per octave", figure.Short(s.Hz), s.Slope)
}

// Processor filters the side.
func (s *SideCut) Processor(p Place) (Processor, error) {
	if err := Validate(s); err != nil {
		return nil, err
	}
	f, err := s.Sections(float64(p.Rate))
	out := &sideCutting{filter: dsp.NewFilter(f), left: 1, right: 1}
	switch s.Low {
	case LowLeft:
		out.left, out.right = 0, 2
	case LowRight:
		out.left, out.right = 2, 0
	}
	return out, err
}

type sideCutting struct {
	filter      *dsp.Filter
	left, right float32 // how much of what the filter takes each channel is given
	side, over  []float32
}

func (*sideCutting) Latency() int { return 0 }

func (g *sideCutting) Process(x, _ audio.Buffer) {
	side, ok := sides(x, g.side)
	if !ok {
		return
	}
	g.side, g.over = side, append(g.over[:0], side...)
	g.filter.Process(g.over, side)
	for i, v := range g.over { // what the filter takes: given to both alike, the mid is not touched
		d := v - side[i]
		x.Ch[0][i] += g.left * d
		x.Ch[1][i] -= g.right * d
	}
}

// MonoBelow takes the side out under a corner by the high part of a Linkwitz-Riley crossover of the 4th order, and takes the
// mid through that crossover's all-pass, so that both have one phase at every frequency. A mono sound passes through
// untouched.
type MonoBelow struct {
	Hz float64 `json:"hz"`
}

// Kind is monobelow.
func (*MonoBelow) Kind() *Kind { return monoBelowKind }

// Fields are the corner.
func (m *MonoBelow) Fields() []field.Field {
	return []field.Field{{Name: "hz", Label: "mono under", Unit: "Hz", Number: &m.Hz, Lo: 20, Hi: 2000, Step: 1}}
}

// Needs is nothing.
func (*MonoBelow) Needs() Needs { return Needs{} }

// Memory is the time in which its poles die away.
func (m *MonoBelow) Memory(p Place) int {
	c, err := corner(m.Hz, float64(p.Rate))
	if err != nil {
		return 0
	}
	return dsp.Settles(c.high) + dsp.Settles(c.low)
}

// Words says it.
func (m *MonoBelow) Words() string { return fmt.Sprintf("mono under %s Hz", figure.Short(m.Hz)) }

// Processor filters mid and side.
func (m *MonoBelow) Processor(p Place) (Processor, error) {
	if err := Validate(m); err != nil {
		return nil, err
	}
	c, err := corner(m.Hz, float64(p.Rate))
	if err != nil {
		return nil, err
	}
	return &monoing{low: dsp.NewFilter(c.low), high: dsp.NewFilter(c.high), side: dsp.NewFilter(c.high)}, nil
}

type monoing struct {
	low, high, side *dsp.Filter
	s, m, up        []float32
}

func (*monoing) Latency() int { return 0 }

func (g *monoing) Process(x, _ audio.Buffer) {
	s, ok := sides(x, g.s)
	if !ok {
		return
	}
	g.s, g.m = s, g.m[:0]
	for i, v := range x.Ch[0] {
		g.m = append(g.m, (v+x.Ch[1][i])/2)
	}
	g.up = append(g.up[:0], g.m...)
	g.high.Process(g.up, g.m)
	g.low.Process(g.m, g.m)
	g.side.Process(g.s, g.s)
	for i, v := range g.s {
		mid := g.m[i] + g.up[i]
		x.Ch[0][i], x.Ch[1][i] = mid+v, mid-v
	}
}

// Width turns mid and side of a stereo sound up or down; at -60 dB one of them is gone. At 0 dB it is a null to the bit.
type Width struct {
	Mid  float64 `json:"mid_db"`
	Side float64 `json:"side_db"`
}

const widthGone = -60.0 // dB

// Kind is width.
func (*Width) Kind() *Kind { return widthKind }

// Fields are the two levels.
func (w *Width) Fields() []field.Field {
	return []field.Field{
		{Name: "mid_db", Label: "mid", Unit: "dB", Number: &w.Mid, Lo: widthGone, Hi: 12, Step: 0.5},
		{Name: "side_db", Label: "side", Unit: "dB", Number: &w.Side, Lo: widthGone, Hi: 12, Step: 0.5},
	}
}

// Needs is nothing.
func (*Width) Needs() Needs { return Needs{} }

// Memory is none.
func (*Width) Memory(Place) int { return 0 }

// Words says it.
func (w *Width) Words() string {
	return fmt.Sprintf("mid %s dB, side %s dB", figure.ShortPlus(w.Mid), figure.ShortPlus(w.Side))
}

// Processor turns them.
func (w *Width) Processor(Place) (Processor, error) {
	gain := func(db float64) float32 {
		if db <= widthGone {
			return 0
		}
		return float32(dsp.Gain(db))
	}
	return &widening{still: *w == Width{}, mid: gain(w.Mid), side: gain(w.Side)}, Validate(w)
}

type widening struct {
	still     bool
	mid, side float32
}

func (*widening) Latency() int { return 0 }

func (g *widening) Process(x, _ audio.Buffer) {
	switch {
	case g.still:
	case len(x.Ch) == 1:
		for i := range x.Ch[0] {
			x.Ch[0][i] *= g.mid
		}
	default:
		for i, l := range x.Ch[0] {
			r := x.Ch[1][i]
			m, s := (l+r)/2*g.mid, (l-r)/2*g.side
			x.Ch[0][i], x.Ch[1][i] = m+s, m-s
		}
	}
}

// Which channel is turned over.
const (
	TurnNone  = "none"
	TurnLeft  = "left"
	TurnRight = "right"
)

// AlignMost is the longest delay between channels, ms.
const AlignMost = 50.0

// Align delays a channel against the other, by whole frames, or turns one over. A mono sound passes through.
type Align struct {
	Left float64 `json:"left_later_ms"` // under 0: the right one later
	Turn string  `json:"turn"`          // "none", "left" or "right"
}

// Kind is align.
func (*Align) Kind() *Kind { return alignKind }

// Fields are the delay and the channel that is turned over.
func (a *Align) Fields() []field.Field {
	return []field.Field{
		{Name: "left_later_ms", Label: "left later by", Unit: "ms", Number: &a.Left, Lo: -AlignMost, Hi: AlignMost, Step: 0.01},
		{Name: "turn", Label: "turned over", Text: &a.Turn, Choices: field.Choices(TurnNone, "none", TurnLeft, "left", TurnRight, "right")},
	}
}

// Needs is nothing.
func (*Align) Needs() Needs { return Needs{} }

func (a *Align) frames(rate int) int { return int(math.Round(a.Left * float64(rate) / 1000)) }

// Memory is the delay.
func (a *Align) Memory(p Place) int { n := a.frames(p.Rate); return max(n, -n) }

// Words says it.
func (a *Align) Words() string {
	var out string
	switch {
	case a.Left > 0:
		out = fmt.Sprintf("left %.2f ms later", a.Left)
	case a.Left < 0:
		out = fmt.Sprintf("right %.2f ms later", -a.Left)
	}
	if a.Turn != TurnNone {
		if out != "" {
			out += ", "
		}
		out += a.Turn + " turned over"
	}
	if out == "" {
		return "channels as they are"
	}
	return out
}

// Processor delays the one channel and turns the one over.
func (a *Align) Processor(p Place) (Processor, error) {
	g := &aligning{}
	n := a.frames(p.Rate)
	if g.ch = 0; n < 0 {
		g.ch, n = 1, -n
	}
	g.past = make([]float32, n)
	if g.turn = -1; a.Turn == TurnLeft {
		g.turn = 0
	} else if a.Turn == TurnRight {
		g.turn = 1
	}
	return g, Validate(a)
}

type aligning struct {
	ch, turn int
	past     []float32
}

func (*aligning) Latency() int { return 0 }

func (g *aligning) Process(x, _ audio.Buffer) {
	if len(x.Ch) < 2 {
		return
	}
	if n := len(g.past); n > 0 {
		w := append(g.past, x.Ch[g.ch]...)
		copy(x.Ch[g.ch], w)
		g.past = append(make([]float32, 0, n+x.Frames()), w[len(w)-n:]...)
	}
	if g.turn >= 0 {
		for i, v := range x.Ch[g.turn] {
			x.Ch[g.turn][i] = -v
		}
	}
}
