package pair

import (
	"context"
	"fmt"
	"strings"

	"mellowthump/core/bench"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Hidden is how much of the kick the bass hides at each hit, in the order of the hits that are judged, %, and in the worst tenth of
// them.
type Hidden struct {
	Hits        []meter.Figure
	Median, P90 meter.Figure
}

// HiddenIn measures it in a pair, played at a level in dB SPL.
func HiddenIn(ctx context.Context, r *mix.Renderer, p *mix.Pair, playback float64) (Hidden, error) {
	m := p.Meter
	ear, err := r.Ear(ctx, m.Rate, playback)
	if err != nil {
		return Hidden{}, err
	}
	at := func(what, key string, s meter.Sound) ([][][]float32, error) {
		return mix.Cached(ctx, r.Cache, mix.Key(what, key, playback), func() ([][][]float32, int, error) {
			x, err := ear.AtHits(s, m.Hits, m.Windows)
			return x, 4 * len(ear.Hz) * 5 * len(x), err
		})
	}
	return mix.Cached(ctx, r.Cache, mix.Key("hidden", p.Key(), playback), func() (out Hidden, bytes int, err error) {
		kick, err := at("kick at hits", p.KickKey(), m.KickSound())
		if err != nil {
			return out, 0, err
		}
		bass, err := ear.AtHits(p.Bass, m.Hits, m.Windows)
		if err != nil {
			return out, 0, err
		}
		out.Hits = ear.Hidden(kick, bass)
		out.Median, out.P90 = meter.Median(out.Hits), meter.Percentile(out.Hits, 0.9)
		return out, 8 * len(out.Hits), nil
	})
}

// HiddenOn measures it over the loop, without the ducks and with them; of a bass that leads there is none.
func HiddenOn(ctx context.Context, b *bench.Bench) (before, after Hidden, err error) {
	st, err := On(ctx, b)
	if err != nil || b.Song.Leader == session.BassLeads {
		before.P90, after.P90 = meter.None, meter.None
		return before, after, err
	}
	playback := b.Song.RoomRules().Playback
	if before, err = HiddenIn(ctx, b.Renderer, st.Without, playback); err != nil {
		return before, after, err
	}
	after, err = HiddenIn(ctx, b.Renderer, st.Pair, playback)
	return before, after, err
}

// What is asked of it in 9 of 10 hits, %: own choice.
const (
	Stands  = 5.0  // the kick stands
	IsThere = 10.0 // it is there
)

// Asked is how much of the kick the bass may hide, by the song's aim, %; ok is false where the aim is a clearance.
func Asked(s *session.Song) (share float64, ok bool) {
	if s.Leader == session.BassLeads {
		return 0, false
	}
	switch s.Targets.Aim {
	case session.AimClear:
		return Stands, true
	case session.AimThere:
		return IsThere, true
	}
	return 0, false
}

// Within reports whether no more is hidden than a share, as it is shown, to a whole percent; of a kick that nobody hears alone nothing is.
func (h Hidden) Within(share float64) bool { return !h.P90.Valid() || float64(h.P90) < share+0.5 }

// Says says what is heard of the kick beside the bass; empty where nothing was measured.
func (h Hidden) Says(kick, bass string) string {
	p := figure.Signed(float64(h.P90), figure.Of("hidden").Decimals)
	said := ""
	switch {
	case !h.P90.Valid():
		return ""
	case h.Within(Stands):
		said = fmt.Sprintf("%s stands: %s hides %s %% of it at most, in 9 of 10 hits. ", kick, bass, p)
	case h.Within(IsThere):
		said = fmt.Sprintf("%s is there: %s hides up to %s %% of it, in 9 of 10 hits. ", kick, bass, p)
	default:
		said = fmt.Sprintf("%s hides %s %% of %s and more in one hit of ten. ", bass, p, kick)
	}
	return strings.ToUpper(said[:1]) + said[1:]
}
