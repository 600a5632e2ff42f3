package move

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var filterKind = &Kind{
	Name: "filter", Label: "Filter", Does: "takes away or raises a part of the spectrum",
	Where: Anywhere, Linear: true, New: func() Params { return &Filter{Shape: dsp.Bell, Hz: 100, Slope: 24, Q: 1} },
}

// BigCut is the boost or cut in dB from which something earlier is probably wrong (common
// practice): a warning, no limit.
const BigCut = 6.0

// bigCut is the warning for a boost or cut of so many dB; empty where it needs none.
func bigCut(db float64) string {
	if math.Abs(db) <= BigCut {
		return ""
	}
	return fmt.Sprintf("Over %g dB something earlier is probably wrong: the sound itself, its level, or what plays beside it.", BigCut)
}

// Warner is implemented by parameters that may be set further than is good.
type Warner interface{ Warning() string }

// Warning says, in a sentence, that a move is set further than is good; empty where it is not.
func Warning(p Params) string {
	if w, ok := p.(Warner); ok {
		return w.Warning()
	}
	return ""
}

// Filter is a high-pass, low-pass, bell or shelf.
type Filter struct {
	Shape dsp.Shape `json:"shape"`
	Hz    float64   `json:"hz"`
	Slope int       `json:"slope_db_oct,omitempty"` // of high-pass and low-pass: 12, 24 or 48
	Q     float64   `json:"q,omitempty"`            // of bells and shelves
	DB    float64   `json:"db,omitempty"`           // likewise
}

// Kind is filter.
func (*Filter) Kind() *Kind { return filterKind }

// Bounds of bells and shelves.
const (
	bellLo, bellHi = 10.0, 20000.0 // Hz
	leastQ, mostQ  = 0.1, 30.0
	mostBell       = 24.0 // dB
)

// Fields are the shape and what belongs to it.
func (f *Filter) Fields() []field.Field {
	pass := f.Shape == dsp.Highpass || f.Shape == dsp.Lowpass
	return []field.Field{
		{Name: "shape", Label: "shape", Text: (*string)(&f.Shape), Choices: field.Choices(string(dsp.Highpass), "high-pass", string(dsp.Lowpass), "low-pass",
			string(dsp.Bell), "bell", string(dsp.LowShelf), "low shelf", string(dsp.HighShelf), "high shelf")},
		{Name: "hz", Label: "corner", Unit: "Hz", Number: &f.Hz, Lo: bellLo, Hi: bellHi, Step: 0.1},
		{Name: "slope_db_oct", Label: "slope", Whole: &f.Slope, Choices: slopes, Idle: !pass},
		{Name: "db", Label: "gain", Unit: "dB", Number: &f.DB, Lo: -mostBell, Hi: mostBell, Step: 0.1, Idle: pass},
		{Name: "q", Label: "Q", Number: &f.Q, Lo: leastQ, Hi: mostQ, Step: 0.1, Idle: pass},
	}
}

// Needs is nothing.
func (*Filter) Needs() Needs { return Needs{} }

// Memory is the time in which its poles die away.
func (f *Filter) Memory(p Place) int {
	s, err := f.Sections(float64(p.Rate))
	if err != nil {
		return 0
	}
	return dsp.Settles(s)
}

// Words says it.
func (f *Filter) Words() string {
	switch f.Shape {
	case dsp.Highpass:
		return fmt.Sprintf("high-pass at %g Hz, %d dB per octave", f.Hz, f.Slope)
	case dsp.Lowpass:
		return fmt.Sprintf("low-pass at %g Hz, %d dB per octave", f.Hz, f.Slope)
	}
	return bellWords(f.Shape, f.Hz, f.DB, f.Q)
}

func bellWords(shape dsp.Shape, hz, db, q float64) string {
	name := map[dsp.Shape]string{dsp.Bell: "bell", dsp.LowShelf: "low shelf", dsp.HighShelf: "high shelf"}[shape]
	return fmt.Sprintf("%s at %g Hz, %s dB, Q %g", name, hz, figure.Signed(db, -1), q)
}

// Warning is that of a bell or shelf over 6 dB.
func (f *Filter) Warning() string {
	if f.Shape == dsp.Highpass || f.Shape == dsp.Lowpass {
		return ""
	}
	return bigCut(f.DB)
}

// Sections returns the filter for a rate; a corner over 0.45 of it does nothing.
func (f *Filter) Sections(rate float64) ([]dsp.Biquad, error) {
	if err := Validate(f); err != nil {
		return nil, err
	}
	if f.Hz > 0.45*rate {
		return nil, nil
	}
	switch f.Shape {
	case dsp.Highpass:
		return dsp.ButterworthHighpass(f.Slope/6, f.Hz, rate)
	case dsp.Lowpass:
		return dsp.ButterworthLowpass(f.Slope/6, f.Hz, rate)
	}
	s, err := dsp.RBJ(f.Shape, f.Hz, f.Q, f.DB, rate)
	return []dsp.Biquad{s}, err
}

// Processor filters every channel alike.
func (f *Filter) Processor(p Place) (Processor, error) {
	s, err := f.Sections(float64(p.Rate))
	return &filtering{sections: s}, err
}

type filtering struct {
	sections []dsp.Biquad
	each     []*dsp.Filter
}

func (f *filtering) Latency() int { return 0 }

func (f *filtering) Process(x, _ audio.Buffer) {
	for c := range x.Ch {
		if c == len(f.each) {
			f.each = append(f.each, dsp.NewFilter(f.sections))
		}
		f.each[c].Process(x.Ch[c], x.Ch[c])
	}
}
