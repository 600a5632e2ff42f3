package web

import (
	"fmt"
	"net/url"
	"testing"
	"time"
)

// While one song is being fitted, two others are edited: no edit waits for the fit.
func TestEditsBesideAFit(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/targets", url.Values{"clearance": {"30"}, "depth": {"4"}}) // out of reach: every way is tried
	others := []string{b.song(), b.song()}
	fitted := make(chan time.Duration)
	go func() {
		begin := time.Now()
		b.edit(id, "/duck/fit", url.Values{"school": {"curve"}})
		fitted <- time.Since(begin)
	}()
	longest, edits := time.Duration(0), 0
	for {
		select {
		case fit := <-fitted:
			if edits < 10 || longest > fit/4 {
				t.Errorf("during %v of fits %d edits were made, the longest took %v", fit, edits, longest)
			}
			return
		default:
		}
		begin := time.Now()
		other := others[edits%2]
		edits++
		if status, body := b.edit(other, "/settings", url.Values{"name": {fmt.Sprint("Song ", edits)}, "bpm": {"120"}, "key": {""}, "felt": {""}}); status != 200 {
			t.Fatalf("an edit answers %d %.200s", status, body)
		}
		longest = max(longest, time.Since(begin))
	}
}
