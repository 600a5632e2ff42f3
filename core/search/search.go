// Package search halves its way to where something begins to hold.
package search

// Least returns the least whole number over lo and up to hi for which ok holds, where it holds from some number on; it is not
// asked of hi, for which it does. An error ends the search.
func Least(lo, hi int, ok func(n int) (bool, error)) (int, error) {
	for hi-lo > 1 {
		mid := (lo + hi) / 2
		is, err := ok(mid)
		if err != nil {
			return hi, err
		}
		if is {
			hi = mid
		} else {
			lo = mid
		}
	}
	return hi, nil
}

// Edge returns the two ends of a stretch of lo to hi, no longer than within, between which ok begins to hold; it does not hold at lo
// and does at hi, of which it is not asked.
func Edge(lo, hi, within float64, ok func(x float64) bool) (not, is float64) {
	for hi-lo > within {
		if mid := (lo + hi) / 2; ok(mid) {
			hi = mid
		} else {
			lo = mid
		}
	}
	return lo, hi
}
