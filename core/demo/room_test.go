package demo

import (
	"context"
	"testing"
	"time"

	"mellowthump/core/room"
)

// On the demo the cellar is full, and the bell's rumble and the texture are what may go.
func TestRoomOnSlowFerry(t *testing.T) {
	r, song, w := rendered()
	w.From, w.To = 894422, 1490704 // bars 13 to 20, the loop that is found
	begin := time.Now()
	c, err := room.Measure(context.Background(), r, &song, w)
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%v: under %.1f dB", time.Since(begin), c.Under)
	parts, err := c.Shares(context.Background(), r, &song, w)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range parts {
		t.Logf("%+v", p)
	}
	begin = time.Now()
	cuts, err := room.Cuts(context.Background(), r, &song, w)
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%v", time.Since(begin))
	for _, k := range cuts {
		t.Logf("%s: low %+v, high %+v", k.Stem, k.Low, k.High)
	}
}
