// Package shell is what all pages of a song share: the server, the page around a stage's sheet, edits, moves, findings,
// the deck, and files. A stage is a value (Stage) made in a package of its own; nothing here knows which there are.
package shell

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/worker"
	"mellowthump/core/mix"
)

const (
	cacheBytes    = 1 << 30 // of renders
	pageBytes     = 1 << 20 // of a form without files
	staticMaxAge  = "public, max-age=31536000, immutable"
	soloCookie    = "solo"
	themeCookie   = "theme"
	cookieSeconds = 365 * 24 * 3600
)

// Server holds what the handlers work on.
type Server struct {
	Store    *store.Store
	Renderer *mix.Renderer
	Pool     *worker.Pool

	stages  []*Stage
	pages   *template.Template
	handler http.Handler
	built   string   // changes with every start, for addresses of static files
	counts  sync.Map // by song and stage: open findings, as last counted
}

// New wires a server over a data folder. hosts are the Host headers that are answered; templates and static are the
// files of all stages.
func New(st *store.Store, hosts []string, templates, static fs.FS, stages func(*Server) []*Stage) (*Server, error) {
	s := &Server{Store: st, Renderer: mix.New(st, cacheBytes), built: strconv.FormatInt(time.Now().Unix(), 36)}
	s.stages = stages(s)
	kinds := map[string]worker.Kind{}
	for _, stage := range s.stages {
		maps.Copy(kinds, stage.Jobs)
	}
	s.Pool = worker.New(st, kinds)
	var err error
	if s.pages, err = template.New("").Funcs(s.funcs()).ParseFS(templates, "templates/*.html"); err != nil {
		return nil, fmt.Errorf("reading the templates: %w", err)
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.MaxMultipartMemory = pageBytes
	r.Use(gin.CustomRecovery(func(c *gin.Context, v any) {
		slog.Error("a handler stopped short", "path", c.Request.URL.Path, "panic", v)
		s.Fail(c, http.StatusInternalServerError, "Something went wrong inside the program. Your song is as it was.")
	}))
	r.Use(headers)
	if err := s.serveStatic(r, static); err != nil {
		return nil, err
	}
	s.routes(r)
	s.handler = hostCheck(hosts, http.NewCrossOriginProtection().Handler(headAsGet(compressed(r))))
	return s, nil
}

// Start clears away what a stop left half uploaded and takes up its jobs.
func (s *Server) Start(ctx context.Context) error {
	if err := s.Store.SweepIncoming(ctx); err != nil {
		return err
	}
	s.Pool.Background(func(ctx context.Context) {
		if err := s.Store.Refresh(ctx); err != nil && ctx.Err() == nil {
			slog.Error("measuring files anew", "err", err)
		}
	})
	return s.Pool.Resume(ctx)
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.handler.ServeHTTP(w, r) }

// first is the key of the stage that a song opens on.
func (s *Server) first() string { return s.stages[0].Key }

func (s *Server) routes(r *gin.Engine) {
	r.NoRoute(func(c *gin.Context) { s.Fail(c, http.StatusNotFound, "There is no such page.") })
	r.GET("/", s.home)
	r.POST("/theme", s.theme)
	r.POST("/songs", LimitForm, s.createSong)
	g := r.Group("/songs/:id")
	g.GET("", func(c *gin.Context) {
		c.Redirect(http.StatusSeeOther, "/songs/"+c.Param("id")+"/"+s.first())
	})
	g.GET("/:stage", s.stage)
	g.GET("/marks", s.marks)
	g.POST("/loop", LimitForm, s.setLoop)
	g.POST("/undo", LimitForm, s.undo)
	g.POST("/redo", LimitForm, s.redo)
	g.POST("/moves/:do", LimitForm, s.changeMoves)
	g.POST("/findings/:do", LimitForm, s.changeFindings)
	g.GET("/deck/data", s.deckData)
	g.GET("/deck/:side", s.deckAudio)
	for _, stage := range s.stages {
		if stage.Routes != nil {
			stage.Routes(g)
		}
	}
}

// headers sets what every answer carries.
func headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Security-Policy", "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; media-src 'self' blob:; form-action 'self'; base-uri 'none'; frame-ancestors 'none'")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "same-origin")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cache-Control", "no-store")
}

// hostCheck refuses names that are not this server's, against DNS rebinding.
func hostCheck(hosts []string, next http.Handler) http.Handler {
	known := map[string]bool{}
	for _, h := range hosts {
		known[h] = true
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !known[r.Host] {
			http.Error(w, "This name does not belong to this program. Open the address that it printed.", http.StatusMisdirectedRequest)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// LimitForm bounds a form without files.
func LimitForm(c *gin.Context) {
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, pageBytes)
}

// IsHTMX reports whether a page's own script asks.
func IsHTMX(c *gin.Context) bool { return c.GetHeader("HX-Request") == "true" }

// Load reads the song of a request; where it cannot, it answers and returns nil.
func (s *Server) Load(c *gin.Context) *store.Song {
	song, err := s.Store.Load(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.FailWith(c, err)
		return nil
	}
	return song
}

// FailWith answers with what an error means to the user.
func (s *Server) FailWith(c *gin.Context, err error) {
	var no *store.Refused
	var bad *InputError
	switch {
	case errors.Is(err, context.Canceled) && c.Request.Context().Err() != nil:
		c.Abort() // nobody waits for it any more
	case errors.Is(err, store.ErrNotFound):
		s.Fail(c, http.StatusNotFound, "There is no such song here. It may belong to another data folder.")
	case errors.Is(err, store.ErrConflict):
		s.Fail(c, http.StatusConflict, "The song was changed in another tab meanwhile, so this edit was not made. Reload to see it as it is now, then edit again.")
	case errors.Is(err, store.ErrNothing):
		s.Fail(c, http.StatusConflict, "There is nothing further to undo or redo.")
	case errors.As(err, &no), errors.As(err, &bad):
		s.Fail(c, http.StatusUnprocessableEntity, Sentence(err.Error()))
	default:
		slog.Error("a request failed", "path", c.Request.URL.Path, "err", err)
		s.Fail(c, http.StatusInternalServerError, "That did not work: "+err.Error()+". The song is as it was.")
	}
}

// Fail answers with one sentence: in the page's notice line, or as a page of its own.
func (s *Server) Fail(c *gin.Context, status int, sentence string) {
	c.Abort()
	if IsHTMX(c) {
		c.Header("HX-Retarget", "#notice")
		c.Header("HX-Reswap", "innerHTML")
		s.Write(c, status, "notice", sentence)
		return
	}
	s.Write(c, status, "failure", map[string]any{"Sentence": sentence, "Theme": theme(c), "Built": s.built})
}
