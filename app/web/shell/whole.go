package shell

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"runtime/debug"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/core/group"
	"mellowthump/core/mix"
)

// whole is the work over whole songs: one piece of it at a time, for it may take all the processor and much memory.
type whole struct {
	slot chan struct{}
	mu   sync.Mutex
	now  map[string]*mix.Work // by address
	rest *time.Timer
}

func newWhole() *whole { return &whole{slot: make(chan struct{}, 1), now: map[string]*mix.Work{}} }

// Whole is put before a handler that works over a whole song: it waits for its turn, ends when the page that asked is
// left, and tells how far it is (see working).
func (s *Server) Whole(c *gin.Context) {
	ctx, done := s.followed(c)
	defer done()
	mix.Doing(ctx, "Waiting for its turn")
	select {
	case s.whole.slot <- struct{}{}:
	case <-ctx.Done():
		c.Abort()
		return
	}
	defer func() { <-s.whole.slot }()
	mix.Doing(ctx, "")
	c.Request = c.Request.WithContext(ctx)
	c.Next()
}

// told is put before all that is asked of a song: what takes long tells how far it is, and waits for nobody.
func (s *Server) told(c *gin.Context) {
	if c.FullPath() != workingPath {
		ctx, done := s.followed(c)
		defer done()
		c.Request = c.Request.WithContext(ctx)
	}
	c.Next()
}

// followed lets what is done for a request be followed at its address.
func (s *Server) followed(c *gin.Context) (ctx context.Context, done func()) {
	w, at := &mix.Work{}, c.Request.URL.Path
	s.whole.mu.Lock()
	s.whole.now[at] = w
	s.whole.mu.Unlock()
	return mix.Watched(c.Request.Context(), w), func() {
		s.whole.mu.Lock()
		if s.whole.now[at] == w {
			delete(s.whole.now, at)
		}
		s.whole.mu.Unlock()
	}
}

const workingPath = "/songs/:id/working/*of"

// working says in words how far the work is that a part of a page waits for; nothing where none is done, or not for long.
func (s *Server) working(c *gin.Context) {
	s.whole.mu.Lock()
	w := s.whole.now["/songs/"+c.Param("id")+c.Param("of")]
	s.whole.mu.Unlock()
	if w == nil {
		c.Status(http.StatusNoContent)
		return
	}
	what, part := w.Now()
	if what == "" && part > 0 {
		what = "Rendering"
	}
	switch {
	case what == "":
		c.Status(http.StatusNoContent)
	case part == 0:
		c.String(http.StatusOK, "%s …", what)
	default:
		c.String(http.StatusOK, "%s, %.0f %% …", what, 100*part)
	}
}

// What is kept while nobody works.
const (
	restAfter = time.Minute
	restBytes = 192 << 20 // of renders
)

// tire gives memory back a minute after the last request.
func (s *Server) tire(c *gin.Context) {
	c.Next()
	s.whole.mu.Lock()
	defer s.whole.mu.Unlock()
	if s.whole.rest != nil {
		s.whole.rest.Stop()
	}
	s.whole.rest = group.After(restAfter, s.Rest)
}

// Rest gives back what the renders of the last songs take, but for the latest.
func (s *Server) Rest() {
	select {
	case s.whole.slot <- struct{}{}:
		defer func() { <-s.whole.slot }()
	default: // somebody works
		return
	}
	if freed := s.Renderer.Rest(restBytes); freed > 0 {
		debug.FreeOSMemory()
		slog.Debug("gave memory back", "of renders", fmt.Sprintf("%d MB", freed>>20))
	}
}
