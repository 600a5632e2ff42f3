package move

import (
	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
)

var midSideKind = &Kind{
	Name: "midside", Label: "Mid or side filter", Does: "a bell or shelf on the mid or the side of a stereo sound alone",
	Where: Anywhere, Linear: true, New: func() Params { return &MidSide{Channels: "side", Shape: dsp.LowShelf, Hz: 120, Q: 0.7} },
}

// MidSide is a bell or shelf that works on the mid, (L + R) / 2, or the side, (L - R) / 2, of a stereo sound and
// leaves the other as it is, to the bit. A mono sound is all mid.
type MidSide struct {
	Channels string    `json:"channels"` // "mid" or "side"
	Shape    dsp.Shape `json:"shape"`    // bell, lowshelf or highshelf
	Hz       float64   `json:"hz"`
	DB       float64   `json:"db"`
	Q        float64   `json:"q"`
}

// Kind is midside.
func (*MidSide) Kind() *Kind { return midSideKind }

// Fields are the part and the filter.
func (m *MidSide) Fields() []field.Field {
	return []field.Field{
		{Name: "channels", Label: "part", Text: &m.Channels, Choices: channelChoices},
		{Name: "shape", Label: "shape", Text: (*string)(&m.Shape),
			Choices: field.Choices(string(dsp.Bell), "bell", string(dsp.LowShelf), "low shelf", string(dsp.HighShelf), "high shelf")},
		{Name: "hz", Label: "corner", Unit: "Hz", Number: &m.Hz, Lo: bellLo, Hi: bellHi, Step: 0.1},
		{Name: "db", Label: "gain", Unit: "dB", Number: &m.DB, Lo: -mostBell, Hi: mostBell, Step: 0.1},
		{Name: "q", Label: "Q", Number: &m.Q, Lo: leastQ, Hi: mostQ, Step: 0.1},
	}
}

// Needs is nothing.
func (*MidSide) Needs() Needs { return Needs{} }

func (m *MidSide) sections(rate float64) ([]dsp.Biquad, error) {
	if err := Validate(m); err != nil {
		return nil, err
	}
	return (&Filter{Shape: m.Shape, Hz: m.Hz, Q: m.Q, DB: m.DB}).Sections(rate)
}

// Memory is the time in which its poles die away.
func (m *MidSide) Memory(p Place) int {
	s, err := m.sections(float64(p.Rate))
	if err != nil {
		return 0
	}
	return dsp.Settles(s)
}

// Words says it.
func (m *MidSide) Words() string {
	return m.Channels + " alone: " + bellWords(m.Shape, m.Hz, m.DB, m.Q)
}

// Warning is that of a bell or shelf over 6 dB.
func (m *MidSide) Warning() string { return bigCut(m.DB) }

// Processor filters the part and puts it back.
func (m *MidSide) Processor(p Place) (Processor, error) {
	s, err := m.sections(float64(p.Rate))
	return &midSide{side: m.Channels == "side", filter: dsp.NewFilter(s)}, err
}

type midSide struct {
	side   bool
	filter *dsp.Filter
	part   []float32
	turned []float32
}

func (*midSide) Latency() int { return 0 }

func (m *midSide) Process(x, _ audio.Buffer) {
	if len(x.Ch) == 1 {
		if !m.side {
			m.filter.Process(x.Ch[0], x.Ch[0])
		}
		return
	}
	l, r := x.Ch[0], x.Ch[1][:x.Frames()]
	m.part = append(m.part[:0], l...)
	if m.side {
		for i, v := range r {
			m.part[i] = (l[i] - v) / 2
		}
	} else {
		for i, v := range r {
			m.part[i] = (l[i] + v) / 2
		}
	}
	m.turned = append(m.turned[:0], m.part...)
	m.filter.Process(m.turned, m.part)
	for i, v := range m.turned { // what the filter adds: the other part is not touched
		d := v - m.part[i]
		l[i] += d
		if m.side {
			r[i] -= d
		} else {
			r[i] += d
		}
	}
}
