package shell

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// View gathers what every page of a song shows, and measures nothing.
func (s *Server) View(c *gin.Context, song *store.Song, stage string, bad *InputError) (*View, error) {
	bad.keepTyped(c)
	v := &View{Song: song, Stage: s.stageOf(stage), Bad: bad, Theme: theme(c), Built: s.built}
	v.Question = v.Stage.Question
	v.Part = partOf(c)
	v.Rest = restOf(c, time.Now())
	b, err := s.Bench(c.Request.Context(), &song.Song)
	if err != nil {
		return nil, err
	}
	v.Bench, v.Facts, v.Length, v.Win, v.Auto = b, b.Facts, b.Length, b.Loop, b.Auto
	if v.Stage.Ask != nil {
		v.Question = v.Stage.Ask(v)
	}
	if len(v.Stems) == 0 {
		v.Trouble = NoStems
	}
	s.fillRail(v)
	return v, nil
}

// partOf is the part of a stage that the page shows: of the address asked for, or where something is posted of the page that posts.
func partOf(c *gin.Context) string {
	if part := c.Request.URL.Query().Get("view"); part != "" || c.Request.Method == http.MethodGet {
		return part
	}
	if u, err := url.Parse(c.GetHeader("HX-Current-URL")); err == nil {
		return u.Query().Get("view")
	}
	return ""
}

// Look loads the song of a request as a stage shows it; where it cannot, it answers and returns nil.
func (s *Server) Look(c *gin.Context, stage string) *View {
	song := s.Load(c)
	if song == nil {
		return nil
	}
	v, err := s.View(c, song, stage, nil)
	if err != nil {
		s.FailWith(c, err)
		return nil
	}
	return v
}

// Bench puts a song on the bench with the facts of its files.
func (s *Server) Bench(ctx context.Context, song *session.Song) (*bench.Bench, error) {
	facts, err := factsOf(ctx, s.Store, song)
	if err != nil {
		return nil, err
	}
	return bench.New(s.Renderer, song, facts), nil
}

// judge puts the stage's findings in, open and put aside.
func (s *Server) judge(c *gin.Context, v *View) error {
	if v.Stage.Judge == nil || v.Stage.Later || len(v.Stems) == 0 {
		return nil
	}
	return s.JudgeLater(c, v)
}

// over is the window over which a page has a stage judge, by its query.
func (st *Stage) over(page url.Values, b *bench.Bench) mix.Window {
	if st.Over == nil {
		return b.Loop
	}
	return st.Over(page, b)
}

// PageQuery is the query of the page of a stage that a request asks for or comes from, with what the request says itself.
func PageQuery(c *gin.Context, stage string) url.Values {
	q := c.Request.URL.Query()
	if c.Param("stage") != "" && c.Request.Method == http.MethodGet {
		return q
	}
	for _, from := range []string{c.GetHeader("HX-Current-URL"), c.GetHeader("Referer")} {
		if u, err := url.Parse(from); err == nil && strings.HasSuffix(u.Path, "/"+stage) {
			page := u.Query()
			maps.Copy(page, q)
			return page
		}
	}
	return q
}

// JudgeLater puts the findings in of a stage whose page did not wait for them.
func (s *Server) JudgeLater(c *gin.Context, v *View) error {
	all, err := v.Stage.Findings(c.Request.Context(), v.Bench, v.Stage.over(PageQuery(c, v.Stage.Key), v.Bench))
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

// top is what the line at the top and the deck show; it is measured beside the sheet, of values: no request, no page.
type top struct {
	deck   deckView
	levels mix.Loud
}

// measureTop begins to measure the top of a page; what is there when the group has ended goes into the page then.
func (s *Server) measureTop(c *gin.Context, v *View, g *group.Group) (*top, error) {
	l, err := v.listens(c, nil)
	if err != nil { // of a cookie that is none of ours
		l = listening{Solo: mix.SoloBoth, Loop: v.Win}
	}
	match, err := s.fillDeck(c, v, l)
	if err != nil {
		return nil, err
	}
	out, ctx, on := &top{deck: v.Deck}, c.Request.Context(), v.Bench
	g.Go(func() error { return match(ctx, &out.deck) }) // they share renders through the cache, and the processors
	if len(v.Stems) > 0 {
		g.Go(func() (err error) {
			out.levels, err = on.Loudness(ctx, mix.SoloAll)
			return err
		})
	}
	return out, nil
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
	var g group.Group
	above, err := s.measureTop(c, v, &g)
	if err == nil {
		err = s.judge(c, v)
	}
	var data any
	part := v.Stage.Key
	if err == nil && len(v.Stems) == 0 && !v.Stage.Bare {
		part, data = "nostems", v
	} else if err == nil {
		data, err = v.Stage.Sheet(c, v)
	}
	if e := g.Wait(); err == nil {
		err = e
	}
	if err != nil {
		return err
	}
	v.Deck, v.Levels = above.deck, above.levels
	v.Sheet, err = s.Part(part, data)
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

// open goes to where a song is opened: to what is to be done first, the last stage's, or where nothing is in yet to the first.
func (s *Server) open(c *gin.Context) {
	song := s.Load(c)
	if song == nil {
		return
	}
	at := s.first()
	if len(song.Stems) > 0 {
		at = s.stages[len(s.stages)-1].Key
	}
	c.Redirect(http.StatusSeeOther, "/songs/"+song.ID+"/"+at)
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

func countKey(song, stage string) string { return song + " " + stage }

// fillRail lists the stages with what was last known of them.
func (s *Server) fillRail(v *View) {
	for i, st := range s.stages {
		r := railItem{Key: st.Key, Name: st.Name, Digit: fmt.Sprint((i + 1) % 10), On: st == v.Stage, Judged: st.Judge != nil && !st.Later && len(v.Stems) > 0}
		if m, ok := s.counts.Load(countKey(v.ID, st.Key)); ok && len(v.Stems) > 0 {
			r.mark = m.(mark)
		}
		v.Rail = append(v.Rail, r)
	}
}

// mark notes how many findings of the page's stage are open.
func (s *Server) mark(v *View, open int) {
	m := mark{Rev: v.Rev, Count: open, Settled: open == 0}
	s.note(context.Background(), v.ID, v.Stage.Key, m)
	for i := range v.Rail {
		if v.Rail[i].Key == v.Stage.Key {
			v.Rail[i].mark = m
		}
	}
}
