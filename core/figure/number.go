// Package figure holds what the program shows as numbers: how they are written, and every figure once, with its name,
// unit, decimals and definition. Pages, takes, exports and docs/numbers.md read it.
package figure

import (
	"math"
	"strconv"
	"strings"
)

// Signed writes a number to so many decimals, or as many as it has where that is -1, with a true minus; what rounds to
// zero has no sign.
func Signed(v float64, decimals int) string {
	t := strconv.FormatFloat(v, 'f', decimals, 64)
	if t, minus := strings.CutPrefix(t, "-"); minus {
		if strings.Trim(t, "0.") == "" {
			return t
		}
		return "−" + t
	}
	return t
}

// Plus is Signed with a plus before what is over zero.
func Plus(v float64, decimals int) string {
	t := Signed(v, decimals)
	if v > 0 && strings.Trim(t, "0.") != "" {
		return "+" + t
	}
	return t
}

// Short is Signed to a tenth, and without decimals where it is whole.
func Short(v float64) string { return strings.TrimSuffix(Signed(v, 1), ".0") }

// ShortPlus is Short with its sign.
func ShortPlus(v float64) string { return strings.TrimSuffix(Plus(v, 1), ".0") }

// Tenth rounds to a tenth: what is set by hand is set so.
func Tenth(v float64) float64 { return math.Round(v*10)/10 + 0 }
