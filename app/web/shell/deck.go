package shell

import (
	"context"
	"html/template"
	"math"
	"strconv"

	"mellowthump/app/web/plot"
	"mellowthump/core/dsp"
	"mellowthump/core/facts"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// What the match may turn After by, dB: a part ducked to nearly nothing, or what was taken away, is not blown up (own choice, for
// care of ears and speakers); turned down it may be more.
const (
	matchUp   = 12.0
	matchDown = 24.0
)

// fillStrip puts in the song's overview with its hits, the loop and the judged stretch.
func (s *Server) fillStrip(v *View) error {
	rate := float64(v.Rate)
	d := &v.Deck
	d.From, d.To = float64(d.Loop.From)/rate, float64(d.Loop.To)/rate
	d.Bars = v.barsOf(d.Loop)
	d.First, d.Last = v.loopEnds(d.Loop)
	var hits, doubtful []float64
	if v.TriggerStem() != nil {
		all, err := s.Renderer.Hits(&v.Song.Song, session.KickTrigger)
		if err != nil {
			return err
		}
		for _, h := range all {
			hits = append(hits, float64(h)/rate)
		}
		for _, h := range v.Doubtful() {
			doubtful = append(doubtful, h.At)
		}
	}
	for _, h := range hits {
		if h >= d.From && h < d.To {
			d.Hits = append(d.Hits, h)
		}
	}
	d.Song = v.deckStrip(hits, doubtful)
	return nil
}

// deckStrip draws the song with its loop.
func (v *View) deckStrip(hits, doubtful []float64) template.HTML {
	p := plot.Deck{Width: 914, Height: 96, Bar: v.BarSeconds(), Grid: v.Grid, Hits: hits, Doubtful: doubtful}
	if v.Length > 0 {
		rate := float64(v.Rate)
		p.Seconds = float64(v.Length) / rate
		p.From, p.To, p.Loop = v.Deck.From, v.Deck.To, v.Deck.Bars
		p.Judged = [2]float64{float64(v.Win.From) / rate, float64(v.Win.To) / rate}
		p.Kick, p.Bass = SumOverview(v, session.Kick, p.Seconds), SumOverview(v, session.Bass, p.Seconds)
	}
	return plot.DeckStrip(p)
}

// loopEnds names a loop's ends as a person types them: the first bar and the last that is in it, or places.
func (v *View) loopEnds(w mix.Window) (first, last string) {
	bar, rate := v.BarSeconds(), float64(v.Rate)
	from, to := (float64(w.From)/rate-v.Grid)/bar, (float64(w.To)/rate-v.Grid)/bar
	if math.Abs(from-math.Round(from)) < 0.02 && math.Abs(to-math.Round(to)) < 0.02 && from > -0.5 {
		return strconv.Itoa(int(math.Round(from)) + 1), strconv.Itoa(int(math.Round(to)))
	}
	return v.Position(float64(w.From) / rate), v.Position(float64(w.To) / rate)
}

// matched measures both sides and what After is turned by.
func (s *Server) matched(ctx context.Context, before, after *session.Song, d *deckView) error {
	a, err := s.Renderer.Loudness(ctx, before, d.Solo, d.Loop)
	if err != nil {
		return err
	}
	b, err := s.Renderer.Loudness(ctx, after, d.Solo, d.Loop)
	if err != nil {
		return err
	}
	if d.Taken {
		if b, err = s.Renderer.TakenLoudness(ctx, before, after, d.Solo, d.Loop); err != nil {
			return err
		}
	}
	if d.Ear != "" && !d.Taken {
		if a.Integrated, err = s.earLoudness(ctx, before, d); err == nil {
			b.Integrated, err = s.earLoudness(ctx, after, d)
		}
		if err != nil {
			return err
		}
	}
	d.LUFS = [2]meter.Figure{a.Integrated, b.Integrated}
	if off := a.Integrated - b.Integrated; off.Valid() {
		d.Offset = max(-matchDown, min(matchUp, off))
	}
	alike, err := s.Renderer.Alike(before, after, d.Solo)
	d.Moved = !alike
	return err
}

// SumOverview adds the overviews of a role's stems on the song's time, as they are played.
func SumOverview(v *View, role session.Role, seconds float64) []float64 {
	stems := v.ByRole(role)
	if len(stems) == 0 {
		return nil
	}
	out := make([]float64, facts.OverviewSteps)
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
