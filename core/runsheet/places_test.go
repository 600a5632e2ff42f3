package runsheet

import (
	"math"
	"slices"
	"testing"

	"mellowthump/core/demo"
	"mellowthump/core/find"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// A row says in which sections what it is for is not as it is asked: a snare that is too loud throughout, a rumble under the
// keys in the second half alone. Without sections nothing is said.
func TestHolds(t *testing.T) {
	outside.Slow(t)
	b := beats[2]
	half := float64(b.bars) * 8 * b.step()
	d := b.song(func(s *demo.Song) {
		peaking(stem(s, "snare").Sound, -2)
		keys := stem(s, "keys").Sound
		for i := range keys.Ch[0] {
			if at := float64(i) / beatRate; at > half {
				keys.Ch[0][i] += float32(0.06 * math.Sin(2*math.Pi*27*at))
			}
		}
		s.Loop = &session.Span{To: 2 * half}
		s.Sections = []session.Section{{Name: "Verse"}, {Name: "Hook", From: half}}
	})
	s, _, song, _ := sheetOf(t, d, Choice{})
	row := func(s *Sheet, key string) Row {
		i := slices.IndexFunc(s.Rows, func(r Row) bool { return r.Key == key })
		if i < 0 {
			t.Fatalf("no row %s, but %v", key, keys(s))
		}
		return s.Rows[i]
	}
	if r := row(s, rowOf(find.Plan)); !r.All || len(r.In) != 2 {
		t.Errorf("%s holds in %v, all %t", r.What(), r.In, r.All)
	}
	if r := row(s, "intake/rumble.keys"); r.All || !slices.Equal(r.In, []string{"Hook"}) {
		t.Errorf("%s holds in %v, all %t; own %v", r.What(), r.In, r.All, r.Own)
	}
	if song.Sections == nil {
		t.Error("the sections are gone")
	}
	d.Song.Sections = nil
	plain, _, _, _ := sheetOf(t, d, Choice{})
	for _, r := range plain.Rows {
		if len(r.In) > 0 || r.All {
			t.Errorf("%s holds in %v", r.What(), r.In)
		}
	}
}
