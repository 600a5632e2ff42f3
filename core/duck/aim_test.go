package duck_test

import (
	"testing"

	"mellowthump/core/duck"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
	"mellowthump/internal/songs"
)

// The less is asked, the less is taken: of an 808 that stands 8 dB louder than it was brought, clear takes less than apart and just heard less
// than clear; each reaches its share over the song. Where nothing is hidden, nothing is ducked.
func TestFitReachesTheAim(t *testing.T) {
	outside.Slow(t)
	r, song, w := songs.FerryLoop()
	playback := song.RoomRules().Playback
	hidden := func(s *session.Song) float64 {
		p, err := r.Pair(t.Context(), s, w)
		if err != nil {
			t.Fatal(err)
		}
		h, err := pair.HiddenIn(t.Context(), r, p, playback)
		if err != nil {
			t.Fatal(err)
		}
		return float64(h.P90)
	}
	for i := range song.Stems {
		if song.Stems[i].Role == session.Bass {
			song.Stems[i].Fader = 8
		}
	}
	before := hidden(song)
	last := 0.0
	for _, aim := range []string{session.AimThere, session.AimClear, session.AimApart} {
		asked := song.Clone()
		asked.Targets.Aim, asked.Targets.MaxDepth = aim, 24
		f, err := duck.FitSchool(t.Context(), r, &asked, w, move.CurveSchool)
		if err != nil || f.Duck == nil || !f.Reached {
			t.Fatalf("%q: %v, %+v", aim, err, f)
		}
		asked.SetDuck(f.Duck, false, "")
		now := hidden(&asked)
		t.Logf("%s: %.0f %% hidden, then %.1f %%; %.2f dB lost: %s", asked.Targets.AimName(), before, now, float64(f.Loss), f.Reason)
		if share, ok := pair.Asked(&asked); ok && now > share {
			t.Errorf("%q: %.1f %% are hidden, %.0f asked", aim, now, share)
		}
		if float64(f.Loss) <= last {
			t.Errorf("%q takes %.2f dB, the aim before it %.2f", aim, float64(f.Loss), last)
		}
		last = float64(f.Loss)
	}
	quiet := song.Clone()
	for i := range quiet.Stems {
		if quiet.Stems[i].Role == session.Bass {
			quiet.Stems[i].Fader = -20
		}
	}
	quiet.Targets.Aim = session.AimClear
	if f, err := duck.FitSchool(t.Context(), r, &quiet, w, move.CurveSchool); err != nil || f.Duck != nil || !f.Reached {
		t.Errorf("where nothing is hidden: %v %+v", err, f)
	}
}
