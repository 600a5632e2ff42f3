package shell

import (
	"fmt"
	"net/http"
	"sync"

	"github.com/gin-gonic/gin"

	"mellowthump/core/bench"
	"mellowthump/core/find"
)

// railItem is a stage in the rail with its mark.
type railItem struct {
	Key, Name, Digit string
	On               bool
	mark
	Judged bool // the stage judges at all: its mark is fetched after the page
}

// mark is what is known of a stage's findings.
type mark struct {
	Rev     int64
	Count   int
	Settled bool
}

func countKey(song, stage string) string { return song + " " + stage }

// fillRail lists the stages with what was last known of them.
func (s *Server) fillRail(v *View) {
	for i, st := range s.stages {
		r := railItem{Key: st.Key, Name: st.Name, Digit: fmt.Sprint((i + 1) % 10), On: st == v.Stage, Judged: st.Findings != nil && len(v.Stems) > 0}
		if m, ok := s.counts.Load(countKey(v.ID, st.Key)); ok && r.Judged {
			r.mark = m.(mark)
		}
		v.Rail = append(v.Rail, r)
	}
}

// mark notes how many findings of the page's stage are open.
func (s *Server) mark(v *View, open int) {
	m := mark{Rev: v.Rev, Count: open, Settled: open == 0}
	s.counts.Store(countKey(v.ID, v.Stage.Key), m)
	for i := range v.Rail {
		if v.Rail[i].Key == v.Stage.Key {
			v.Rail[i].mark = m
		}
	}
}

// MarksLater reports whether some stage's mark is of another revision: then the marks are fetched after the page.
func (v *View) MarksLater() bool {
	for _, r := range v.Rail {
		if r.Judged && r.Rev != v.Rev {
			return true
		}
	}
	return false
}

// marks answers with the marks of all stages. What was counted for this revision is not counted again.
func (s *Server) marks(c *gin.Context) {
	song := s.Load(c)
	if song == nil {
		return
	}
	v, err := s.View(c, song, s.first(), nil)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	var wg sync.WaitGroup
	errs := make([]error, len(v.Rail))
	for i := range v.Rail {
		if r := &v.Rail[i]; r.Judged && r.Rev != v.Rev {
			wg.Go(func() { errs[i] = s.countStage(c, v.Bench, v.ID, v.Rev, r) })
		}
	}
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			s.FailWith(c, err)
			return
		}
	}
	s.Write(c, http.StatusOK, "marks", v)
}

// countStage judges one stage and counts what is open.
func (s *Server) countStage(c *gin.Context, b *bench.Bench, song string, rev int64, r *railItem) error {
	stage := s.stageOf(r.Key)
	all, err := stage.Findings(c, b)
	m := mark{Rev: rev}
	switch {
	case bench.Trouble(err) != "": // nothing to judge, nothing settled
	case err != nil:
		return err
	default:
		open, _ := find.Open(b.Song, all)
		m.Count = find.Count(open)
		m.Settled = m.Count == 0
	}
	s.counts.Store(countKey(song, r.Key), m)
	r.mark = m
	return nil
}
