package outside

import "math"

// sin of a phase in turns.
func sin(turns float64) float64 { return math.Sin(2 * math.Pi * turns) }
