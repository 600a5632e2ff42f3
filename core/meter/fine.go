package meter

import (
	"math"

	"mellowthump/core/dsp"
)

// fineBand is the width of a fine band: a semitone.
const fineBand = 1.0 / 12

// The fine spectrum's range: a semitone from 25 Hz to 300 Hz.
const (
	FineLow  = 25.96 // Hz, G#0
	FineBins = 43
)

// FineHz returns the middle of a fine band, Hz.
func FineHz(i int) float64 { return FineLow * math.Pow(2, float64(i)*fineBand) }

// FineSpectrum returns the amplitude of a sound over the hits' windows in bands of a semitone, the
// root of the mean power over the hits; the windows are tapered at their ends.
func (m *HitMeter) FineSpectrum(x Sound) ([]float64, error) {
	const size = 1 << 13
	factor := max(1, m.Rate/2000)
	fs := float64(m.Rate) / float64(factor)
	lp, err := dsp.ButterworthLowpass(8, min(400, 0.4*fs), float64(m.Rate))
	if err != nil {
		return nil, err
	}
	fft, filter := dsp.NewFFT(size), dsp.NewFilter(lp)
	frame, power := make([]float64, size), make([]float64, size/2+1)
	var c []complex128
	var room scratch
	i := 0
	err = Together(m.ends, func(part int, y [][]float32) error {
		low := room.of(len(y[0]))
		filter.Process(low, y[0])
		for ; i < len(m.Hits) && m.Hits[i] < m.ends[part]; i++ {
			h, n := m.Hits[i]-m.from(part), m.Windows[i]/factor
			for k := range frame {
				frame[k] = 0
				if k < n {
					taper := math.Min(1, float64(n-k)/(0.3*float64(n)+1))
					frame[k] = float64(low[h+k*factor]) * taper
				}
			}
			c = fft.Coefficients(c, frame)
			for k, v := range c {
				power[k] += real(v)*real(v) + imag(v)*imag(v)
			}
		}
		return nil
	}, Filled(x, m.kick.Frames()))
	if err != nil {
		return nil, err
	}
	out := make([]float64, FineBins)
	for i := range out {
		lo, hi := FineHz(i)*math.Pow(2, -fineBand/2)*size/fs, FineHz(i)*math.Pow(2, fineBand/2)*size/fs
		for k := int(lo + 0.5); k <= int(hi+0.5) && k < len(power); k++ {
			out[i] += power[k] * max(0, min(hi, float64(k)+0.5)-max(lo, float64(k)-0.5))
		}
		out[i] = math.Sqrt(out[i] / float64(max(1, len(m.Hits))) / (hi - lo))
	}
	return out, nil
}
