package shell

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
	"mellowthump/core/bench"
	"mellowthump/core/duck"
	"mellowthump/core/find"
	"mellowthump/core/intake"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// View is all that a page of a song shows. What a stage measures it puts in itself (NeedPair and so on): a page measures
// only what its own stage shows, and what the line at its top and the deck do.
type View struct {
	*store.Song
	Stage    *Stage
	Question string
	Lead     string
	Theme    string
	Built    string
	Swap     bool // an htmx answer: parts outside the sheet are swapped too
	Rail     []railItem
	Sheet    template.HTML
	Bad      *InputError

	Bench   *bench.Bench
	Facts   map[string]*intake.Analysis // by audio hash
	Length  int                         // frames
	Win     mix.Window
	Auto    bool // the loop was found, not chosen
	State   *duck.State
	Agree   *bench.Agreement
	Trouble string   // why kick and bass cannot be measured
	Levels  mix.Loud // of everything over the loop, after
	Found   []find.Finding
	Aside   []find.Dismissed
	Deck    deckView
}

// Error returns the sentence for a field.
func (v *View) Error(field string) string {
	if v.Bad != nil && v.Bad.Field == field {
		return v.Bad.Sentence
	}
	return ""
}

// Typed returns what was typed in a field where the form was refused, else the value.
func (v *View) Typed(field, value string) string {
	if v.Bad != nil {
		if t, ok := v.Bad.Typed[field]; ok {
			return t
		}
	}
	return value
}

// View gathers what every page of a song shows, and measures nothing.
func (s *Server) View(c *gin.Context, song *store.Song, stage string, bad *InputError) (*View, error) {
	v := &View{Song: song, Stage: s.stageOf(stage), Bad: bad, Theme: theme(c), Built: s.built}
	v.Question = v.Stage.Question
	b, err := s.Bench(c.Request.Context(), &song.Song)
	if err != nil {
		return nil, err
	}
	v.Bench, v.Facts, v.Length, v.Win, v.Auto = b, b.Facts, b.Length, b.Loop, b.Auto
	if v.Stage.Ask != nil {
		v.Question = v.Stage.Ask(v)
	}
	if len(v.Stems) == 0 {
		v.Trouble = "There are no stems yet. Drop the kick and the bass on Intake."
	}
	s.fillRail(v)
	return v, nil
}

// Bench puts a song on the bench with the facts of its files.
func (s *Server) Bench(ctx context.Context, song *session.Song) (*bench.Bench, error) {
	facts, err := factsOf(ctx, s.Store, song)
	if err != nil {
		return nil, err
	}
	return bench.New(s.Renderer, song, facts), nil
}

// NeedPair judges kick and bass over the loop; where they cannot be, Trouble says why and State stays nil.
func (v *View) NeedPair(ctx context.Context) error {
	if len(v.Stems) == 0 || v.State != nil || v.Trouble != "" {
		return nil
	}
	st, err := v.Bench.Pair(ctx)
	if v.Trouble = bench.Trouble(err); v.Trouble != "" {
		return nil
	}
	v.State = st
	return err
}

// NeedAgreement is NeedPair with what is found about pitch and phase.
func (v *View) NeedAgreement(ctx context.Context) error {
	if err := v.NeedPair(ctx); err != nil || v.State == nil {
		return err
	}
	a, err := v.Bench.Agreement(ctx)
	v.Agree = a
	return err
}

// judge puts the stage's findings in, open and put aside.
func (s *Server) judge(c *gin.Context, v *View) error {
	if v.Stage.Findings == nil || len(v.Stems) == 0 {
		return nil
	}
	all, err := v.Stage.Findings(c, v.Bench)
	if bench.Trouble(err) != "" {
		return nil
	}
	if err != nil {
		return err
	}
	v.Found, v.Aside = find.Open(&v.Song.Song, all)
	s.mark(v, find.Count(v.Found))
	return nil
}

// top measures what the line at the top and the deck show.
func (s *Server) top(c *gin.Context, v *View) error {
	part := solo(c)
	if bus := part.Bus(); bus != "" && v.Song.Bus(bus) == nil {
		part = mix.SoloBoth
	}
	ctx := c.Request.Context()
	var g errgroup.Group // they share renders through the cache, and the processors
	g.Go(func() error { return s.fillDeck(ctx, v, part) })
	if len(v.Stems) > 0 {
		g.Go(func() (err error) {
			v.Levels, err = v.Bench.Loudness(ctx, mix.SoloAll)
			return err
		})
	}
	return g.Wait()
}

// show writes a stage: the whole page, or for htmx the sheet and what else changed with it.
func (s *Server) show(c *gin.Context, status int, song *store.Song, stage string, bad *InputError) {
	v, err := s.View(c, song, stage, bad)
	if err == nil {
		err = s.fill(c, v)
	}
	if err != nil {
		s.FailWith(c, err)
		return
	}
	name := "page"
	if IsHTMX(c) {
		name = "frame"
		v.Swap = true
	}
	s.Write(c, status, name, v)
}

// fill measures what a page shows, and draws its sheet.
func (s *Server) fill(c *gin.Context, v *View) error {
	var g errgroup.Group
	g.Go(func() error { return s.top(c, v) })
	err := s.judge(c, v)
	var data any = v
	name := "unbuilt"
	if err == nil && v.Stage.Sheet != nil {
		name = v.Stage.Key
		data, err = v.Stage.Sheet(c, v)
	} else if err == nil {
		v.Lead = v.Stage.Will
	}
	if e := g.Wait(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	v.Sheet, err = s.part(name, data)
	return err
}

// stage shows one of the stages.
func (s *Server) stage(c *gin.Context) {
	if s.stageOf(c.Param("stage")) == nil {
		s.Fail(c, http.StatusNotFound, "There is no such stage.")
		return
	}
	if song := s.Load(c); song != nil {
		s.show(c, http.StatusOK, song, c.Param("stage"), nil)
	}
}

// Answer shows a stage after an edit: the changed parts for htmx, else a redirect.
func (s *Server) Answer(c *gin.Context, stage string, status int, bad *InputError) {
	if !IsHTMX(c) && bad == nil {
		c.Redirect(http.StatusSeeOther, "/songs/"+c.Param("id")+"/"+stage)
		return
	}
	if song := s.Load(c); song != nil {
		s.show(c, status, song, stage, bad)
	}
}

// Show shows a stage of a song that was loaded.
func (s *Server) Show(c *gin.Context, song *store.Song, stage string) {
	s.show(c, http.StatusOK, song, stage, nil)
}

// CurrentStage is the stage that the request came from.
func (s *Server) CurrentStage(c *gin.Context) string {
	for _, from := range []string{c.GetHeader("HX-Current-URL"), c.GetHeader("Referer")} {
		u, err := url.Parse(from)
		if err != nil {
			continue
		}
		if last := u.Path[strings.LastIndex(u.Path, "/")+1:]; s.stageOf(last) != nil {
			return last
		}
	}
	return s.first()
}

// Bars describes the loop: "bars 5 to 12".
func (v *View) Bars() string {
	bar := v.BarSeconds() * float64(v.Rate)
	grid := v.Grid * float64(v.Rate)
	from, to := (float64(v.Win.From)-grid)/bar, (float64(v.Win.To)-grid)/bar
	if math.Abs(from-math.Round(from)) < 0.02 && math.Abs(to-math.Round(to)) < 0.02 {
		return fmt.Sprintf("bars %d to %d", int(math.Round(from))+1, int(math.Round(to)))
	}
	return fmt.Sprintf("%s to %s", Clock(float64(v.Win.From)/float64(v.Rate)), Clock(float64(v.Win.To)/float64(v.Rate)))
}

// Headroom is the distance of the loop's peak from full scale.
func (v *View) Headroom() meter.Figure { return -v.Levels.Peak }

// BassName is the name for the bass in pictures and sentences.
func (v *View) BassName() string { return v.Bench.BassName() }

// KickName is the name for the kick.
func (v *View) KickName() string { return v.Bench.KickName() }

// BassLeads reports whether the bass leads: then the kick makes room.
func (v *View) BassLeads() bool { return v.Leader == session.BassLeads }

// Title is the page's title: stage and song.
func (v *View) Title() string { return v.Stage.Name + " · " + v.Name }

// Chain is what the page shows of a chain.
type Chain struct {
	View *View
	At   session.At
	Name string
	Rows []ChainRow
	More []*move.Kind // what may be put in
}

// ChainRow is a move of a chain with its form.
type ChainRow struct {
	move.Move
	Fields []move.Field
}

// ChainAt is the chain of a place, for the template "chain".
func (v *View) ChainAt(at session.At) *Chain {
	chain, name := v.Song.Chain(at)
	if chain == nil {
		return nil
	}
	out := &Chain{View: v, At: at, Name: name, More: move.On(at.Where())}
	for _, m := range *chain {
		row := ChainRow{Move: m}
		for _, f := range m.Params.Fields() {
			if !f.Idle {
				row.Fields = append(row.Fields, f)
			}
		}
		out.Rows = append(out.Rows, row)
	}
	return out
}

// Words says the move.
func (r ChainRow) Words() string { return move.Words(r.Params) }

// Kind is the move's kind.
func (r ChainRow) Kind() *move.Kind { return r.Params.Kind() }

// errUnknown is for forms that no page of this program sends.
var errUnknown = errors.New("the page asked for something unknown")

// ErrUnknown is for forms that no page of this program sends.
func ErrUnknown() error { return errUnknown }
