package shell

import (
	"context"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"net/url"
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/dsp"
	"mellowthump/core/intake"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// deckView is what the deck shows and plays.
type deckView struct {
	Song     template.HTML
	Solo     mix.Solo
	Before   string // addresses of the audio
	After    string
	Offset   meter.Figure // dB that After is turned by
	LUFS     [2]meter.Figure
	Hits     []float64 // s, in the loop
	Moved    bool      // After differs from Before
	From, To float64   // s
	First    string    // the loop's ends as places
	Last     string

	School, Trying string // what After tries, and its name; empty: the song as it is
}

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

// Doubtful lists the kick's hits that are kept apart: by its own threshold, but for those that were put in by hand.
func (v *View) Doubtful() []intake.Doubtful {
	t, st := v.Trigger(session.KickTrigger), v.TriggerStem()
	if t == nil || st == nil || st.MIDI != nil || v.Facts[st.Audio] == nil {
		return nil
	}
	by := st.Nudged() / 1000
	var out []intake.Doubtful
	for _, d := range intake.DoubtfulHits(v.Facts[st.Audio].Hits, t.QuietDB()) {
		d.At += by
		put := false
		for _, at := range t.Added {
			put = put || math.Abs(at-d.At) <= move.HitNear
		}
		if !put {
			out = append(out, d)
		}
	}
	return out
}

// SoloChoices are the parts that the deck can play.
func (v *View) SoloChoices() []mix.Solo {
	return append([]mix.Solo{mix.SoloKick, mix.SoloBass, mix.SoloBoth, mix.SoloAll}, v.Stage.Solos...)
}

func solo(c *gin.Context) mix.Solo {
	if q := mix.Solo(c.Query("solo")); q.Valid() {
		return q
	}
	if k, err := c.Cookie(soloCookie); err == nil && mix.Solo(k).Valid() {
		return mix.Solo(k)
	}
	return mix.SoloBoth
}

// try gives a song what the deck is to try.
func (s *Server) try(ctx context.Context, song *session.Song, what string) (string, error) {
	if what == "" {
		return "", nil
	}
	return s.tries().Try(ctx, song, what)
}

// deckData answers with the deck's addresses and offset for another solo.
func (s *Server) deckData(c *gin.Context) {
	song := s.Load(c)
	if song == nil {
		return
	}
	c.SetSameSite(http.SameSiteStrictMode)
	c.SetCookie(soloCookie, string(solo(c)), cookieSeconds, "/", "", false, true)
	what := c.Query("school")
	name, err := s.try(c.Request.Context(), &song.Song, what)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	v, err := s.View(c, song, s.CurrentStage(c), nil)
	if err == nil {
		err = s.top(c, v)
	}
	if err != nil {
		s.FailWith(c, err)
		return
	}
	if what != "" {
		v.Deck.School, v.Deck.Trying = what, name
		v.Deck.After += "&school=" + url.QueryEscape(what)
	}
	s.Write(c, http.StatusOK, "deckdata", v)
}

// deckAudio plays one side of the deck: the loop of a revision as a 24-bit WAV. The address
// holds all that the sound depends on, so it may be kept.
func (s *Server) deckAudio(c *gin.Context) {
	side := c.Param("side")
	if side != "before.wav" && side != "after.wav" {
		s.Fail(c, http.StatusNotFound, "The deck has two sides, before and after.")
		return
	}
	rev, err := strconv.ParseInt(c.Query("rev"), 10, 64)
	from, err1 := strconv.Atoi(c.Query("from"))
	to, err2 := strconv.Atoi(c.Query("to"))
	if err != nil || err1 != nil || err2 != nil || from < 0 || to <= from || to-from > audio.MaxSeconds*audio.MaxRate {
		s.Fail(c, http.StatusBadRequest, "That is no address of the deck's.")
		return
	}
	ctx := c.Request.Context()
	song, err := s.Store.At(ctx, c.Param("id"), rev)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	length, err := s.Renderer.Length(&song)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	if from >= length {
		s.Fail(c, http.StatusBadRequest, "That is no address of the deck's.")
		return
	}
	if _, err := s.try(ctx, &song, c.Query("school")); err != nil {
		s.FailWith(c, err)
		return
	}
	if side == "before.wav" {
		if of := s.stageOf(c.Query("of")); of != nil && of.Before != nil {
			song = of.Before(song)
		} else {
			song = song.Bypassed()
		}
	}
	b, _, err := s.Renderer.Heard(ctx, &song, solo(c), mix.Window{From: from, To: min(to, length)})
	if err != nil {
		s.FailWith(c, err)
		return
	}
	c.Header("Cache-Control", "private, max-age=3600, immutable")
	SendWAV(c, b, wav.Int24)
}

// SendWAV answers with a buffer as a WAV.
func SendWAV(c *gin.Context, b audio.Buffer, depth wav.Depth) {
	data := b.Frames() * len(b.Ch) * int(depth) / 8
	c.Header("Content-Type", "audio/wav")
	c.Header("Content-Length", strconv.Itoa(len(wav.Header(b.Rate, len(b.Ch), b.Frames(), depth))+data+data%2))
	c.Status(http.StatusOK)
	if err := wav.Write(c.Writer, b, depth); err != nil {
		c.Abort() // the other end has gone, or it will see that the file is short
	}
}
