package shell

import (
	"net/http"
	"sync"

	"github.com/gin-gonic/gin"

	"mellowthump/core/bench"
	"mellowthump/core/find"
)

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
