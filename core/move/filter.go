package move

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
)

// KindFilter takes away or raises a part of the spectrum.
const KindFilter Kind = "filter"

// BigCut is the boost or cut in dB from which something earlier is probably wrong (common
// practice): a warning, no limit.
const BigCut = 6.0

// Filter is a high-pass, low-pass, bell or shelf.
type Filter struct {
	Shape dsp.Shape `json:"shape"`
	Hz    float64   `json:"hz"`
	Slope int       `json:"slope_db_oct,omitempty"` // of high-pass and low-pass: 12, 24 or 48
	Q     float64   `json:"q,omitempty"`            // of bells and shelves
	DB    float64   `json:"db,omitempty"`           // likewise
}

// Kind is KindFilter.
func (*Filter) Kind() Kind { return KindFilter }

// Validate bounds every value.
func (f *Filter) Validate() error {
	if !(f.Hz >= 10 && f.Hz <= 20000) {
		return fmt.Errorf("a corner of %g Hz is outside 10 to 20000", f.Hz)
	}
	switch f.Shape {
	case dsp.Highpass, dsp.Lowpass:
		if f.Slope != 12 && f.Slope != 24 && f.Slope != 48 {
			return fmt.Errorf("a slope of %d dB per octave is none of 12, 24 and 48", f.Slope)
		}
	case dsp.Bell, dsp.LowShelf, dsp.HighShelf:
		if !(f.Q >= 0.1 && f.Q <= 30) {
			return fmt.Errorf("a Q of %g is outside 0.1 to 30", f.Q)
		}
		if !(math.Abs(f.DB) <= 24) {
			return fmt.Errorf("a gain of %g dB is outside -24 to 24", f.DB)
		}
	default:
		return fmt.Errorf("no filter has the shape %q", f.Shape)
	}
	return nil
}

// Sections returns the filter for a rate; a corner over 0.45 of it does nothing.
func (f *Filter) Sections(rate float64) ([]dsp.Biquad, error) {
	if err := f.Validate(); err != nil {
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

// Lead is the time in which the filter settles: some periods of its corner.
func (f *Filter) Lead(p Place) int { return int(filterSettles * float64(p.Rate) / f.Hz * max(1, f.Q)) }

const filterSettles = 12.0

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
