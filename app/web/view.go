package web

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/errgroup"

	"mellowthump/app/store"
	"mellowthump/app/web/plot"
	"mellowthump/core/dsp"
	"mellowthump/core/duck"
	"mellowthump/core/intake"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Stages are the ten stages in the order of the work.
var Stages = []struct{ Key, Name, Question, Will string }{
	{"intake", "Intake", "What did I bring, what is it, is any of it broken?", ""},
	{"levels", "Levels", "How loud is each thing at each step?", ""},
	{"pocket", "Pocket", "Do kick and bass agree?", ""},
	{"duck", "Duck", "How does the bass get out of the way, and back?", ""},
	{"room", "Room", "What else is down there, or muddy, and can be taken out unheard?", "It will find rumble, mud and masking in the other stems, and the highest cut that stays unheard."},
	{"body", "Body", "Does it punch, does each hit weigh the same, is the bass heard on a small speaker?", "It will steady hits and notes, shape attack and tail, and check each bass note on a small speaker."},
	{"width", "Width", "Is the low end mono, does anything cancel when summed?", "It will show correlation by band, what the mono sum loses, and the lowest corner that makes it safe."},
	{"compare", "Compare", "How does it stand against a finished track, and in other rooms and devices?", "It will set the song against references and small-speaker stand-ins, at matched loudness."},
	{"print", "Print", "How loud, how clipped, what goes out?", "It will print premaster, listening copy and stems, and say which stem made the limiter work."},
	{"log", "Log", "What did I change, why, did it help, can I go back?", ""},
}

// defaultBars is the length of the loop that is found by itself.
const defaultBars = 8

// view is all that a page of a song shows.
type view struct {
	*store.Song
	Stage    string
	Question string
	Lead     string
	Theme    string
	Built    string
	Swap     bool // an htmx answer: parts outside the sheet are swapped too
	Later    bool // the ledger is measured after the answer: it is not on this stage's sheet
	Rail     []railItem
	Sheet    template.HTML
	Bad      *inputError

	Facts   map[string]*intake.Analysis // by audio hash
	Length  int                         // frames
	Win     mix.Window
	Auto    bool // the loop was found, not chosen
	State   *duck.State
	Agree   *agreement
	Trouble string   // why kick and bass cannot be measured
	Levels  mix.Loud // of everything over the loop, after
	Unduck  mix.Loud // of everything without the ducks; on Duck alone
	Ledger  *levels.Ledger
	Found   []levels.Finding // about the levels
	Deck    deckView
}

type railItem struct {
	Key, Name, Digit string
	On               bool
	Count            int
	Settled          bool
	Later            bool // the count comes after the page
}

// Error returns the sentence for a field.
func (v *view) Error(field string) string {
	if v.Bad != nil && v.Bad.Field == field {
		return v.Bad.Sentence
	}
	return ""
}

// Typed returns what was typed in a field where the form was refused, else the value.
func (v *view) Typed(field, value string) string {
	if v.Bad != nil {
		if t, ok := v.Bad.Typed[field]; ok {
			return t
		}
	}
	return value
}

// view gathers what every page of a song shows.
func (s *Server) view(c *gin.Context, song *store.Song, stage string, bad *inputError) (*view, error) {
	v := &view{Song: song, Stage: stage, Bad: bad, Theme: theme(c), Built: s.built, Facts: map[string]*intake.Analysis{}}
	v.Later = isHTMX(c) && stage != "levels"
	for _, st := range Stages {
		if st.Key == stage {
			v.Question = st.Question
		}
		if stage == "duck" && v.BassLeads() {
			v.Question = strings.Replace(v.Question, "the bass", "the kick", 1)
		}
	}
	if err := s.fillFacts(c.Request.Context(), v); err != nil {
		return nil, err
	}
	part := solo(c)
	if bus := part.Bus(); bus != "" && song.Bus(bus) == nil {
		part = mix.SoloBoth
	}
	if err := s.measure(c.Request.Context(), v, part); err != nil {
		return nil, err
	}
	s.fillRail(v)
	return v, nil
}

// fillFacts loads what is known of the files, and the loop.
func (s *Server) fillFacts(ctx context.Context, v *view) error {
	for _, st := range v.Stems {
		a, err := s.Store.Facts(ctx, st.Audio)
		if err != nil {
			return fmt.Errorf("the facts of %s: %w", st.Name, err)
		}
		v.Facts[st.Audio] = a
		v.Length = max(v.Length, int(math.Ceil(a.DurationS*float64(v.Rate))))
	}
	v.Win, v.Auto = window(v)
	return nil
}

// measure renders and judges the loop, and what the deck plays of it.
func (s *Server) measure(ctx context.Context, v *view, solo mix.Solo) error {
	if len(v.Stems) == 0 {
		v.Trouble = "There are no stems yet. Drop the kick and the bass on Intake."
		return s.fillDeck(ctx, v, solo)
	}
	var g errgroup.Group // they share renders through the cache, and the processors
	g.Go(func() error { return s.fillDeck(ctx, v, solo) })
	g.Go(func() (err error) {
		v.Levels, err = s.Renderer.Loudness(ctx, &v.Song.Song, mix.SoloAll, v.Win)
		return err
	})
	if v.Stage == "duck" {
		g.Go(func() (err error) {
			plain := v.Unducked()
			v.Unduck, err = s.Renderer.Loudness(ctx, &plain, mix.SoloAll, v.Win)
			return err
		})
	}
	if !v.Later {
		g.Go(func() error { return s.fillLedger(ctx, v, v.Win) })
	}
	g.Go(func() (err error) {
		v.State, err = duck.Measure(ctx, s.Renderer, &v.Song.Song, v.Win)
		if v.Trouble = trouble(err); v.Trouble != "" {
			return nil
		}
		if err != nil {
			return err
		}
		return s.fillAgreement(ctx, v)
	})
	return g.Wait()
}

// trouble says in the user's words why nothing can be measured; empty for other errors.
func trouble(err error) string {
	switch {
	case errors.Is(err, mix.ErrNoKick):
		return "No stem is said to be the kick. Choose it on Intake, in the column “role”."
	case errors.Is(err, mix.ErrNoBass):
		return "No stem is said to be the bass. Choose it on Intake, in the column “role”."
	case errors.Is(err, mix.ErrSilent):
		return "The kick is silent in this loop. Drag the loop on the deck to where it plays, or pick another stem as the kick."
	case errors.Is(err, meter.ErrNoHits):
		return "The kick has no hits in this loop: nothing in it rises like one. Drag the loop to where it plays, or pick another stem as the kick."
	case errors.Is(err, mix.ErrNoPitch):
		return "The kick has no pitch between 25 and 400 Hz, so it has no home octave to measure in. Is it the right stem?"
	}
	return ""
}

// window returns the loop in frames, and whether it was found by itself: the 8 bars with the
// most kick and bass energy.
func window(v *view) (mix.Window, bool) {
	rate := float64(v.Rate)
	end := float64(v.Length) / rate
	if l := v.Loop; l != nil && l.From < end {
		return mix.Window{From: int(l.From * rate), To: int(math.Min(l.To, end) * rate)}, false
	}
	bar := v.BarSeconds()
	span := defaultBars * bar
	if span >= end {
		return mix.Window{From: 0, To: v.Length}, true
	}
	energy := func(from, to float64) float64 {
		sum := 0.0
		for _, st := range v.Stems {
			if st.Role != session.Kick && st.Role != session.Bass || st.Mute {
				continue
			}
			e := v.Facts[st.Audio].Energy
			for t := int(from); t < len(e) && float64(t) < to; t++ {
				part := math.Min(float64(t+1), to) - math.Max(float64(t), from)
				sum += float64(e[t]) * part
			}
		}
		return sum
	}
	best, most := 0.0, -1.0
	for at := v.Grid; at+span <= end+bar/2; at += 4 * bar {
		if e := energy(at, at+span); e > most*1.01 {
			best, most = at, e
		}
	}
	return mix.Window{From: int(best * rate), To: int(math.Min(best+span, end) * rate)}, true
}

// Bars describes the loop: "bars 5 to 12".
func (v *view) Bars() string {
	bar := v.BarSeconds() * float64(v.Rate)
	grid := v.Grid * float64(v.Rate)
	from, to := (float64(v.Win.From)-grid)/bar, (float64(v.Win.To)-grid)/bar
	if math.Abs(from-math.Round(from)) < 0.02 && math.Abs(to-math.Round(to)) < 0.02 {
		return fmt.Sprintf("bars %d to %d", int(math.Round(from))+1, int(math.Round(to)))
	}
	return fmt.Sprintf("%s to %s", clock(float64(v.Win.From)/float64(v.Rate)), clock(float64(v.Win.To)/float64(v.Rate)))
}

// Headroom is the distance of the loop's peak from full scale.
func (v *view) Headroom() meter.Figure { return -v.Levels.Peak }

// MixFreed is how far the ducks let the whole mix's peak fall: it may be raised by that.
func (v *view) MixFreed() meter.Figure { return v.Unduck.Peak - v.Levels.Peak }

// BassName is the name for the bass in pictures and sentences.
func (v *view) BassName() string { return nameOf(v.ByRole(session.Bass), "Bass") }

// BassLeads reports whether the bass leads: then the kick makes room.
func (v *view) BassLeads() bool { return v.Leader == session.BassLeads }

// KickName is the name for the kick.
func (v *view) KickName() string { return nameOf(v.ByRole(session.Kick), "Kick") }

// nameOf is the stem's own name where there is one and it is short.
func nameOf(stems []*session.Stem, plain string) string {
	if len(stems) == 1 && len([]rune(stems[0].Name)) <= 6 {
		return stems[0].Name
	}
	return plain
}

func (s *Server) fillRail(v *view) {
	for i, st := range Stages {
		r := railItem{Key: st.Key, Name: st.Name, Digit: fmt.Sprint(i + 1), On: st.Key == v.Stage}
		switch st.Key {
		case "intake":
			for _, stem := range v.Stems {
				r.Count += len(s.stemFindings(v, &stem))
			}
			r.Settled = len(v.Stems) > 0 && r.Count == 0
		case "levels":
			r = s.levelsMark(v, r)
		case "pocket":
			if v.State != nil {
				r.Count = len(pocketFindings(v))
				r.Settled = r.Count == 0
			}
		case "duck":
			if v.State != nil {
				r.Count = len(duckFindings(v))
				r.Settled = r.Count == 0
			}
		}
		v.Rail = append(v.Rail, r)
	}
}

// levelsMark marks Levels in the rail; where its ledger comes later, by what was last known.
func (s *Server) levelsMark(v *view, r railItem) railItem {
	r.Count, r.Later = len(v.Found), v.Later
	if !v.Later {
		s.counts.Store(v.ID, r.Count)
	} else if n, ok := s.counts.Load(v.ID); ok {
		r.Count = n.(int)
	}
	r.Settled = v.Ledger != nil && v.Ledger.Master.Out.Peak.Valid() && r.Count == 0
	return r
}

// fillSheet renders the stage's own part.
func (s *Server) fillSheet(c *gin.Context, v *view) error {
	var data any = v
	name := v.Stage
	var err error
	switch v.Stage {
	case "intake":
		data, err = s.intakeSheet(c, v)
	case "levels":
		data, err = s.levelsSheet(c, v)
	case "pocket":
		data = s.pocketSheet(v)
	case "duck":
		data = s.duckSheet(v)
	case "log":
		data, err = s.logSheet(c, v)
	default:
		name = "unbuilt"
		for _, st := range Stages {
			if st.Key == v.Stage {
				v.Lead = st.Will
			}
		}
	}
	if err != nil {
		return err
	}
	v.Sheet, err = s.part(name, data)
	return err
}

// stage shows one of the ten stages.
func (s *Server) stage(c *gin.Context) {
	key := c.Param("stage")
	for _, st := range Stages {
		if st.Key == key {
			if song := s.load(c); song != nil {
				s.show(c, http.StatusOK, song, key, nil)
			}
			return
		}
	}
	s.fail(c, http.StatusNotFound, "There is no such stage.")
}

// currentStage is the stage that the request came from.
func currentStage(c *gin.Context) string {
	for _, from := range []string{c.GetHeader("HX-Current-URL"), c.GetHeader("Referer")} {
		u, err := url.Parse(from)
		if err != nil {
			continue
		}
		last := u.Path[strings.LastIndex(u.Path, "/")+1:]
		for _, st := range Stages {
			if st.Key == last {
				return last
			}
		}
	}
	return stageOfASong
}

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
	Seconds  float64

	School, Trying string // a school that After tries, and its name; empty: the song as it is
}

// matchLimit bounds what the match may raise, so that a part ducked to nearly nothing is not
// blown up.
const matchLimit = 24.0

func (s *Server) fillDeck(ctx context.Context, v *view, solo mix.Solo) error {
	d := plot.Deck{Width: 914, Height: 96, Bar: v.BarSeconds(), Grid: v.Grid}
	out := deckView{Solo: solo, Offset: meter.None, LUFS: [2]meter.Figure{meter.None, meter.None}}
	if v.Length > 0 {
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
		out.From, out.To, out.Seconds = d.From, d.To, d.Seconds
		for _, h := range d.Hits {
			if h >= d.From && h < d.To {
				out.Hits = append(out.Hits, h)
			}
		}
		bypassed, of := v.Bypassed(), ""
		if v.Stage == "levels" { // there the trims are what was done
			bypassed, of = v.Untrimmed(), "&of=trims"
		}
		before, err := s.Renderer.Loudness(ctx, &bypassed, solo, v.Win)
		if err != nil {
			return err
		}
		after, err := s.Renderer.Loudness(ctx, &v.Song.Song, solo, v.Win)
		if err != nil {
			return err
		}
		out.LUFS = [2]meter.Figure{before.Integrated, after.Integrated}
		if off := before.Integrated - after.Integrated; off.Valid() {
			out.Offset = max(-matchLimit, min(matchLimit, off))
		}
		duckNow, off := v.Duck()
		out.Moved = duckNow != nil && !off
		if v.Stage == "levels" {
			out.Moved = v.Trimmed()
		}
		query := fmt.Sprintf("?rev=%d&solo=%s&from=%d&to=%d", v.Rev, solo, v.Win.From, v.Win.To)
		out.Before = "/songs/" + v.ID + "/deck/before.wav" + query + of
		out.After = "/songs/" + v.ID + "/deck/after.wav" + query
	}
	out.Song = plot.DeckStrip(d)
	v.Deck = out
	return nil
}

// sumOverview adds the overviews of a role's stems on the song's time, as they are played.
func sumOverview(v *view, role session.Role, seconds float64) []float64 {
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

func solo(c *gin.Context) mix.Solo {
	if q := mix.Solo(c.Query("solo")); q.Valid() {
		return q
	}
	if k, err := c.Cookie(soloCookie); err == nil && mix.Solo(k).Valid() {
		return mix.Solo(k)
	}
	return mix.SoloBoth
}

func theme(c *gin.Context) string {
	if t, err := c.Cookie(themeCookie); err == nil && (t == "day" || t == "night") {
		return t
	}
	return ""
}

// SoloChoices are the parts that the deck can play.
func (v *view) SoloChoices() []mix.Solo {
	out := []mix.Solo{mix.SoloKick, mix.SoloBass, mix.SoloBoth, mix.SoloAll}
	if v.Stage == "duck" {
		out = append(out, mix.SoloKey)
	}
	return out
}
