//go:build !(goexperiment.simd && amd64)

package move

// addWide is add for as many frames as are worked out side by side, and returns how many these are.
func (g *driving) addWide(_, _ []float32, _ int) int { return 0 }
