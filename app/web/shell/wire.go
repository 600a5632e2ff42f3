package shell

import (
	"context"
	"fmt"
	"html/template"
	"log/slog"
	"maps"
	"net/http"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/worker"
	"mellowthump/core/group"
	"mellowthump/core/mix"
)

// New wires a server over a data folder for those who are let in.
func New(st *store.Store, who Access, stages func(*Server) []*Stage) (*Server, error) {
	s := &Server{
		Store:    st,
		gate:     who.Gate,
		Renderer: mix.New(st, cacheBytes),
		whole:    newWhole(),
		built:    strconv.FormatInt(time.Now().Unix(), 36),
		Patience: patience,
	}
	s.stages = stages(s)
	kinds := map[string]worker.Kind{}
	for _, stage := range s.stages {
		maps.Copy(kinds, stage.Jobs)
	}
	s.Pool = worker.New(st, kinds)
	s.pages = template.New("").Funcs(s.funcs())
	if err := s.ship(); err != nil {
		return nil, fmt.Errorf("reading what ships with the program: %w", err)
	}
	if err := s.recall(context.Background()); err != nil {
		return nil, fmt.Errorf("reading what was counted: %w", err)
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.MaxMultipartMemory = pageBytes
	r.Use(gin.CustomRecovery(func(c *gin.Context, v any) {
		s.FailWith(c, group.Recovered(v))
	}))
	r.Use(s.letIn, s.tire)
	r.GET("/static/*path", s.serveStatic)
	s.routes(r)
	s.routed = r.Routes()
	r.RedirectTrailingSlash, r.RedirectFixedPath = false, false // they would answer before the door, and tell which addresses there are
	cross := http.NewCrossOriginProtection()
	cross.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		http.Error(w, "Another page asked for this, so it was not done. The song is as it was; do it on a page of this program.", http.StatusForbidden)
	}))
	s.handler = headers(s.patient(hostCheck(who.Known, cross.Handler(headAsGet(compressed(r))))))
	return s, nil
}

// Start clears away what a stop left half uploaded and takes up its jobs.
func (s *Server) Start(ctx context.Context) error {
	if err := s.Store.SweepIncoming(ctx); err != nil {
		return err
	}
	swept, err := s.Store.SweepAudio(ctx)
	if err != nil {
		slog.Error("looking for audio that no song knows of", "err", err)
	}
	if len(swept) > 0 {
		slog.Info("removed audio that no song knows of", "files", swept)
	}
	s.Pool.Background(func(ctx context.Context) {
		if err := s.Store.Refresh(ctx); err != nil && ctx.Err() == nil {
			slog.Error("measuring files anew", "err", err)
		}
	})
	if err := s.Pool.Resume(ctx); err != nil {
		return err
	}
	for _, stage := range s.stages {
		if stage.Background != nil {
			s.Pool.Background(stage.Background)
		}
	}
	return nil
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.handler.ServeHTTP(w, r) }

func (s *Server) routes(r *gin.Engine) {
	r.NoRoute(func(c *gin.Context) { s.Fail(c, http.StatusNotFound, "There is no such page.") })
	r.GET("/", s.home)
	r.GET(doorPath, s.door)
	r.POST(doorPath, s.LimitForm, s.enter)
	r.POST("/leave", s.LimitForm, s.leave)
	r.POST("/rest", s.LimitForm, s.setRest)
	r.POST("/theme", s.LimitForm, s.theme)
	r.POST("/songs", s.LimitForm, s.createSong)
	r.POST("/templates/remove", s.LimitForm, s.removeTemplate)
	r.POST("/songs/demo", s.LimitForm, s.loadDemo)
	g := r.Group("/songs/:id", s.told)
	for do, f := range map[string]func(*gin.Context){"rename": s.renameSong, "duplicate": s.duplicateSong, "template": s.keepTemplate, "archive": s.archiveSong,
		"delete": s.deleteSong, "restore": s.restoreSong, "remove": s.removeSong} {
		g.POST("/"+do, s.LimitForm, f)
	}
	g.GET("", s.open)
	g.GET("/:stage", s.stage)
	g.GET("/marks", s.marks)
	g.GET("/working/*of", s.working)
	g.POST("/loop", s.LimitForm, s.setLoop)
	g.POST("/aim", s.LimitForm, s.setAim)
	g.POST("/undo", s.LimitForm, s.undo)
	g.POST("/redo", s.LimitForm, s.redo)
	g.POST("/moves/:do", s.LimitForm, s.changeMoves)
	g.POST("/findings/:do", s.LimitForm, s.changeFindings)
	g.GET("/deck/data", s.deckData)
	g.GET("/deck/:side", s.deckAudio)
	g.GET("/deck/part/:part", s.deckPart)
	for _, stage := range s.stages {
		if stage.Routes != nil {
			stage.Routes(g)
		}
	}
}
