// Package meter measures sound: levels, loudness, pitch, onsets.
package meter

import (
	"math"
	"slices"
	"sort"
	"strconv"
)

// Figure is a measured number. NaN means "no value" (silence, or nothing to measure) and
// is written to JSON as null, as are infinities.
type Figure float64

// None is the figure without a value.
var None = Figure(math.NaN())

// Valid reports whether there is a value.
func (f Figure) Valid() bool { return !math.IsNaN(float64(f)) && !math.IsInf(float64(f), 0) }

// MarshalJSON writes the number with up to six decimals, or null.
func (f Figure) MarshalJSON() ([]byte, error) {
	if !f.Valid() {
		return []byte("null"), nil
	}
	return strconv.AppendFloat(nil, math.Round(float64(f)*1e6)/1e6, 'f', -1, 64), nil
}

// UnmarshalJSON reads a number or null.
func (f *Figure) UnmarshalJSON(b []byte) error {
	if string(b) == "null" {
		*f = None
		return nil
	}
	v, err := strconv.ParseFloat(string(b), 64)
	*f = Figure(v)
	return err
}

// Percentile returns the p-quantile (0 to 1) of the valid figures by linear interpolation
// between order statistics, position p (n-1); None where there are none.
func Percentile(x []Figure, p float64) Figure {
	s := sorted(x)
	if len(s) == 0 {
		return None
	}
	at := p * float64(len(s)-1)
	i := int(at)
	if i+1 >= len(s) {
		return Figure(s[len(s)-1])
	}
	return Figure(s[i] + (at-float64(i))*(s[i+1]-s[i]))
}

// Median is the 0.5-quantile.
func Median(x []Figure) Figure { return Percentile(x, 0.5) }

// Middle is the middle of some numbers, the upper of two; NaN where there are none.
func Middle(x []float64) float64 {
	s := slices.Sorted(slices.Values(x))
	if len(s) == 0 {
		return math.NaN()
	}
	return s[len(s)/2]
}

func sorted(x []Figure) []float64 {
	s := make([]float64, 0, len(x))
	for _, v := range x {
		if v.Valid() {
			s = append(s, float64(v))
		}
	}
	sort.Float64s(s)
	return s
}
