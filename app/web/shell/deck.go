package shell

import (
	"context"
	"fmt"
	"math"
	"net/url"
	"strconv"

	"mellowthump/app/web/plot"
	"mellowthump/core/dsp"
	"mellowthump/core/intake"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// matchLimit bounds what the match may raise, so that a part ducked to nearly nothing is not
// blown up.
const matchLimit = 24.0

func (s *Server) fillDeck(ctx context.Context, v *View, solo mix.Solo) error {
	d := plot.Deck{Width: 914, Height: 96, Bar: v.BarSeconds(), Grid: v.Grid}
	out := deckView{Solo: solo, Offset: meter.None, LUFS: [2]meter.Figure{meter.None, meter.None}}
	if v.Length > 0 {
		if err := s.fillStrip(v, &d, &out); err != nil {
			return err
		}
		if err := s.matched(ctx, v, &out); err != nil {
			return err
		}
		query := fmt.Sprintf("?rev=%d&solo=%s&from=%d&to=%d", v.Rev, url.QueryEscape(string(solo)), v.Win.From, v.Win.To)
		of := ""
		if v.Stage.Before != nil {
			of = "&of=" + v.Stage.Key
		}
		out.Before = "/songs/" + v.ID + "/deck/before.wav" + query + of
		out.After = "/songs/" + v.ID + "/deck/after.wav" + query
	}
	out.Song = plot.DeckStrip(d)
	v.Deck = out
	return nil
}

// fillStrip puts the song's overview, its hits and its loop into the deck's strip.
func (s *Server) fillStrip(v *View, d *plot.Deck, out *deckView) error {
	rate := float64(v.Rate)
	d.Seconds = float64(v.Length) / rate
	d.From, d.To = float64(v.Win.From)/rate, float64(v.Win.To)/rate
	d.Kick, d.Bass = sumOverview(v, session.Kick, d.Seconds), sumOverview(v, session.Bass, d.Seconds)
	if v.TriggerStem() != nil {
		hits, err := s.Renderer.Hits(&v.Song.Song, session.KickTrigger)
		if err != nil {
			return err
		}
		for _, h := range hits {
			d.Hits = append(d.Hits, float64(h)/rate)
		}
		for _, h := range v.Doubtful() {
			d.Doubtful = append(d.Doubtful, h.At)
		}
	}
	out.From, out.To, d.Loop = d.From, d.To, v.Bars()
	out.First, out.Last = loopEnds(v)
	for _, h := range d.Hits {
		if h >= d.From && h < d.To {
			out.Hits = append(out.Hits, h)
		}
	}
	return nil
}

// loopEnds names the loop's ends as a person types them: the first bar and the last that is in it, or places.
func loopEnds(v *View) (first, last string) {
	bar, rate := v.BarSeconds(), float64(v.Rate)
	from, to := (float64(v.Win.From)/rate-v.Grid)/bar, (float64(v.Win.To)/rate-v.Grid)/bar
	if math.Abs(from-math.Round(from)) < 0.02 && math.Abs(to-math.Round(to)) < 0.02 && from > -0.5 {
		return strconv.Itoa(int(math.Round(from)) + 1), strconv.Itoa(int(math.Round(to)))
	}
	return v.Position(float64(v.Win.From) / rate), v.Position(float64(v.Win.To) / rate)
}

// matched measures both sides and what After is turned by.
func (s *Server) matched(ctx context.Context, v *View, out *deckView) error {
	before, moved := v.Song.Song.Bypassed(), v.Song.Song.Moved
	if v.Stage.Before != nil {
		before, moved = v.Stage.Before(v.Song.Song), func() bool { return v.Stage.Moved(&v.Song.Song) }
	}
	a, err := s.Renderer.Loudness(ctx, &before, out.Solo, v.Win)
	if err != nil {
		return err
	}
	b, err := s.Renderer.Loudness(ctx, &v.Song.Song, out.Solo, v.Win)
	if err != nil {
		return err
	}
	out.LUFS = [2]meter.Figure{a.Integrated, b.Integrated}
	if off := a.Integrated - b.Integrated; off.Valid() {
		out.Offset = max(-matchLimit, min(matchLimit, off))
	}
	out.Moved = moved()
	return nil
}

// sumOverview adds the overviews of a role's stems on the song's time, as they are played.
func sumOverview(v *View, role session.Role, seconds float64) []float64 {
	stems := v.ByRole(role)
	if len(stems) == 0 {
		return nil
	}
	out := make([]float64, intake.OverviewSteps)
	for _, st := range stems {
		a := v.Facts[st.Audio]
		gain := dsp.Gain(st.Source + st.Clip + st.Fader)
		for i, p := range a.Overview {
			k := int((float64(i) + 0.5) / float64(len(a.Overview)) * a.DurationS / seconds * float64(len(out)))
			if k < len(out) {
				out[k] = math.Max(out[k], float64(p)*gain)
			}
		}
	}
	for i := 1; i+1 < len(out); i++ { // a short file's parts may skip a column
		if out[i] == 0 && out[i-1] > 0 && out[i+1] > 0 {
			out[i] = out[i-1]
		}
	}
	return out
}
