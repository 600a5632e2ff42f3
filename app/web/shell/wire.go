package shell

import (
	"context"
	"fmt"
	"html/template"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/worker"
	"mellowthump/core/mix"
)

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
