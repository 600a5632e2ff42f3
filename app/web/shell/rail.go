package shell

import (
	"context"
	"log/slog"
	"net/http"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/mix"
)

// marks answers with the marks of all stages. What was counted for this revision is not counted again.
func (s *Server) marks(c *gin.Context) {
	v := s.Look(c, s.first())
	if v == nil {
		return
	}
	var g group.Group
	for i := range v.Rail {
		if r := &v.Rail[i]; r.Judged && r.Rev != v.Rev {
			stage := s.stageOf(r.Key)
			over := stage.over(PageQuery(c, stage.Key), v.Bench)
			g.Go(func() error { return s.countStage(c.Request.Context(), stage, v.Bench, over, v.ID, v.Rev, r) })
		}
	}
	if err := g.Wait(); err != nil {
		s.FailWith(c, err)
		return
	}
	s.Write(c, http.StatusOK, "marks", v)
}

// countStage judges one stage and counts what is open.
func (s *Server) countStage(ctx context.Context, stage *Stage, b *bench.Bench, over mix.Window, song string, rev int64, r *railItem) error {
	var all []find.Finding
	err := group.Try(func() (err error) { all, err = stage.Findings(ctx, b, over); return err })
	m := mark{Rev: rev}
	switch {
	case group.Stopped(err): // its own page says so
		return nil
	case bench.Trouble(err) != "": // nothing to judge, nothing settled
	case err != nil:
		return err
	default:
		open, _ := find.Open(b.Song, all)
		m.Count = find.Count(open)
		m.Settled = m.Count == 0
	}
	s.note(ctx, song, r.Key, m)
	r.mark = m
	return nil
}

// note keeps a mark, for the rail and for the list of songs, also over a stop of the program.
func (s *Server) note(ctx context.Context, song, stage string, m mark) {
	if was, ok := s.counts.Swap(countKey(song, stage), m); ok && was.(mark) == m {
		return
	}
	if err := s.Store.SetMark(ctx, store.Mark{SongID: song, Stage: stage, Rev: m.Rev, Open: m.Count}); err != nil && ctx.Err() == nil {
		slog.Error("keeping a mark", "song", song, "err", err)
	}
}

// recall takes up the marks that were kept.
func (s *Server) recall(ctx context.Context) error {
	all, err := s.Store.Marks(ctx)
	for _, m := range all {
		s.counts.Store(countKey(m.SongID, m.Stage), mark{Rev: m.Rev, Count: m.Open, Settled: m.Open == 0})
	}
	return err
}
