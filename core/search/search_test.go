package search

import (
	"errors"
	"math"
	"testing"
)

// The least number that holds is found, of any edge, with as many questions as halving takes; an error ends it.
func TestLeast(t *testing.T) {
	for edge := 1; edge <= 200; edge++ {
		asked := 0
		n, err := Least(0, 200, func(n int) (bool, error) { asked++; return n >= edge, nil })
		if n != edge || err != nil || asked > 8 {
			t.Errorf("%d is found as %d after %d questions (%v)", edge, n, asked, err)
		}
	}
	broken := errors.New("broken")
	if _, err := Least(0, 10, func(int) (bool, error) { return false, broken }); err != broken {
		t.Errorf("the error is %v", err)
	}
}

// The root of two lies between the ends, which are as near as is asked.
func TestEdge(t *testing.T) {
	lo, hi := Edge(0, 10, 1e-9, func(x float64) bool { return x*x >= 2 })
	if lo > math.Sqrt2 || hi < math.Sqrt2 || hi-lo > 1e-9 {
		t.Errorf("%.12f to %.12f", lo, hi)
	}
}
