package shell

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/core/find"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Edit changes the song of a request and answers with the stage's page. What is refused is a sentence at a field of the
// form; what was typed stays.
func (s *Server) Edit(c *gin.Context, stage, field string, e session.Edit) {
	song, err := s.Store.Edit(c.Request.Context(), c.Param("id"), Base(c), e)
	s.edited(c, stage, field, song, err)
}

// edited answers after an edit with the song that it made.
func (s *Server) edited(c *gin.Context, stage, field string, song *store.Song, err error) {
	var no *store.Refused
	switch {
	case errors.As(err, &no):
		s.Answer(c, stage, http.StatusUnprocessableEntity, BadInput(field, no.Err))
	case err != nil:
		s.FailWith(c, err)
	case !IsHTMX(c):
		s.Answer(c, stage, http.StatusOK, nil)
	default:
		s.show(c, http.StatusOK, song, stage, nil)
	}
}

// WorkOut works an edit out on the song as its sender saw it, beside the database, and makes it. What f says in a
// sentence (see BadInput) is shown where the edit was made; other errors are the program's.
func (s *Server) WorkOut(c *gin.Context, stage, field string, f func(*session.Song) (session.Edit, error)) {
	song := s.LoadSeen(c)
	if song == nil {
		return
	}
	seen := song.Song.Clone()
	e, err := f(&seen)
	var bad *InputError
	switch {
	case errors.As(err, &bad):
		s.Answer(c, stage, http.StatusUnprocessableEntity, bad)
	case err != nil:
		s.FailWith(c, err)
	default:
		song, err = s.Store.EditOn(c.Request.Context(), song, e)
		s.edited(c, stage, field, song, err)
	}
}

// setLoop chooses the judged stretch in seconds or as bars, or gives it back to the program, and the deck plays it.
func (s *Server) setLoop(c *gin.Context) {
	stage := s.CurrentStage(c)
	followJudged(c)
	if c.PostForm("auto") != "" {
		s.Edit(c, stage, "loop", session.Loop{})
		return
	}
	s.WorkOut(c, stage, "loop", func(song *session.Song) (session.Edit, error) {
		from, to, err := readLoop(c, song)
		span := session.Span{From: from, To: to}
		if err == nil {
			err = span.CheckLoop()
		}
		if err != nil {
			return nil, BadInput("loop", err)
		}
		return session.Loop{Span: &span, Said: Clock(from) + " to " + Clock(to)}, nil
	})
}

// setAim chooses what is asked of kick and bass, for all stages.
func (s *Server) setAim(c *gin.Context) {
	s.WorkOut(c, s.CurrentStage(c), "aim", func(song *session.Song) (session.Edit, error) {
		t := song.Targets
		t.Aim = c.PostForm("aim")
		return session.SetTargets{Targets: t}, nil
	})
}

var errLoop = errors.New("a loop lies within the song and is at least a quarter of a second long")

// readLoop reads both ends: places as a person types them (first bar and the last that is in it), or seconds.
func readLoop(c *gin.Context, song *session.Song) (from, to float64, err error) {
	if first, ok := c.GetPostForm("first"); ok {
		return readPlaces(song, first, c.PostForm("last"))
	}
	from, err1 := strconv.ParseFloat(c.PostForm("from"), 64)
	to, err2 := strconv.ParseFloat(c.PostForm("to"), 64)
	if err1 != nil || err2 != nil {
		err = errLoop
	}
	return from, to, err
}

// readPlaces reads a loop as a person types it.
func readPlaces(song *session.Song, first, last string) (from, to float64, err error) {
	if from, err = song.ParsePosition(first); err != nil {
		return 0, 0, err
	}
	if to, err = song.ParsePosition(last); err != nil {
		return 0, 0, err
	}
	if _, e := strconv.Atoi(last); e == nil { // a bar alone is in it to its end
		to += song.BarSeconds()
	}
	return from, to, nil
}

func (s *Server) undo(c *gin.Context) {
	s.step(c, s.Store.Undo(c.Request.Context(), c.Param("id"), Base(c)))
}
func (s *Server) redo(c *gin.Context) {
	s.step(c, s.Store.Redo(c.Request.Context(), c.Param("id"), Base(c)))
}

func (s *Server) step(c *gin.Context, err error) {
	if err != nil {
		s.FailWith(c, err)
		return
	}
	s.Answer(c, s.CurrentStage(c), http.StatusOK, nil)
}

// changeMoves puts moves into a chain, changes them, turns them off and takes them out: on every stage, at every place,
// for every kind.
func (s *Server) changeMoves(c *gin.Context) {
	stage, at, id := s.CurrentStage(c), session.ParseAt(c.PostForm("at")), c.PostForm("move")
	switch c.Param("do") {
	case "add":
		add := session.AddMove{At: at, Kind: c.PostForm("kind")}
		if st := s.stageOf(stage); st != nil && at == (session.At{}) {
			add.Of = st.OnMaster
		}
		s.Edit(c, stage, "chain", add)
	case "switch":
		s.Edit(c, stage, "chain", session.SwitchMove{At: at, ID: id})
	case "drop":
		s.Edit(c, stage, "chain", session.DropMove{At: at, ID: id})
	case "set":
		s.WorkOut(c, stage, "chain", func(song *session.Song) (session.Edit, error) {
			chain, _ := song.Chain(at)
			if chain == nil || chain.Move(id) == nil {
				return nil, BadInput("chain", errors.New("that move is no longer there"))
			}
			m := *chain.Move(id)
			m.Params = move.Copy(m.Params)
			if err := move.Read(m.Params, func(name string) (string, bool) { return c.GetPostForm(name) }); err != nil {
				return nil, BadInput("chain", fmt.Errorf("%s: %w", m.Params.Kind().Lower(), err))
			}
			return session.SetMove{At: at, Move: m}, nil
		})
	default:
		s.Fail(c, http.StatusNotFound, "There is no such page.")
	}
}

// changeFindings mends what a finding names, puts it aside with a reason, or takes it back: on every stage.
func (s *Server) changeFindings(c *gin.Context) {
	current, id := s.CurrentStage(c), c.PostForm("finding")
	stage := s.stageOf(c.PostForm("stage"))
	if stage == nil || stage.Judge == nil {
		s.Fail(c, http.StatusNotFound, "There is no such stage.")
		return
	}
	if c.Param("do") == "reopen" {
		s.Edit(c, current, "finding", session.Reopen{Stage: stage.Key, Finding: id})
		return
	}
	s.WorkOut(c, current, "finding", func(song *session.Song) (session.Edit, error) {
		f, err := s.finding(c.Request.Context(), song, stage, PageQuery(c, stage.Key), id)
		if err != nil {
			return nil, err
		}
		switch {
		case c.Param("do") == "dismiss":
			return session.Dismiss{Dismissal: session.Dismissal{Stage: stage.Key, Finding: f.ID, What: f.What, Why: c.PostForm("why")}}, nil
		case c.Param("do") == "apply" && len(f.Fix) > 0:
			return f.Edit(), nil
		}
		return nil, BadInput("finding", errUnknown)
	})
}

// finding judges a stage anew and returns the finding with an id.
func (s *Server) finding(ctx context.Context, song *session.Song, stage *Stage, page url.Values, id string) (find.Finding, error) {
	b, err := s.Bench(ctx, song)
	if err != nil {
		return find.Finding{}, err
	}
	all, err := stage.Findings(ctx, b, stage.over(page, b))
	if err != nil {
		return find.Finding{}, err
	}
	f, ok := find.Of(all, id)
	if !ok {
		return f, BadInput("finding", errors.New("that finding is no longer open; reload to see the song as it is now"))
	}
	return f, nil
}
