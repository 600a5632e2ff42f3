// Package web is the application in the browser: gin handlers, one file a stage, over the
// store, the renderer and the worker.
package web

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"log/slog"
	"net/http"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/worker"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

//go:embed templates/*.html
var templateFiles embed.FS

//go:embed static
var staticFiles embed.FS

// Limits of what is taken in at once.
const (
	MaxFileBytes    = 2 << 30 // 2 GiB a file
	MaxFilesAt      = 200     // files in one drop
	MaxDecodedBytes = 8 << 30 // of one decoded file
	cacheBytes      = 1 << 30 // of renders
	pageBytes       = 1 << 20 // of a form without files
	staticMaxAge    = "public, max-age=86400"
	soloCookie      = "solo"
	themeCookie     = "theme"
	stageOfASong    = "intake"
	cookieSeconds   = 365 * 24 * 3600
)

// Server holds what the handlers work on.
type Server struct {
	Store    *store.Store
	Renderer *mix.Renderer
	Pool     *worker.Pool
	pages    *template.Template
	handler  http.Handler
	built    string   // changes with every start, for addresses of static files
	counts   sync.Map // by song: findings about its levels, as last shown
}

// New wires a server over a data folder. hosts are the Host headers that are answered.
func New(st *store.Store, hosts []string) (*Server, error) {
	s := &Server{Store: st, Renderer: mix.New(st, cacheBytes), built: strconv.FormatInt(time.Now().Unix(), 36)}
	s.Pool = worker.New(st, map[string]worker.Kind{importJob: {Run: s.runImport}, midiJob: {Run: s.runImport, Light: true}, referenceJob: {Run: s.runImport}})
	var err error
	if s.pages, err = template.New("").Funcs(s.funcs()).ParseFS(templateFiles, "templates/*.html"); err != nil {
		return nil, fmt.Errorf("reading the templates: %w", err)
	}
	gin.SetMode(gin.ReleaseMode)
	r := gin.New()
	r.MaxMultipartMemory = pageBytes
	r.Use(gin.CustomRecovery(func(c *gin.Context, v any) {
		slog.Error("a handler stopped short", "path", c.Request.URL.Path, "panic", v)
		s.fail(c, http.StatusInternalServerError, "Something went wrong inside the program. Your song is as it was.")
	}))
	r.Use(headers)
	static, err := fs.Sub(staticFiles, "static")
	if err != nil {
		return nil, err
	}
	files := http.FileServerFS(static)
	r.GET("/static/*path", func(c *gin.Context) {
		c.Header("Cache-Control", staticMaxAge)
		http.StripPrefix("/static/", files).ServeHTTP(c.Writer, c.Request)
	})
	s.routes(r)
	s.handler = hostCheck(hosts, http.NewCrossOriginProtection().Handler(r))
	return s, nil
}

// Start clears away what a stop left half uploaded and takes up its jobs.
func (s *Server) Start(ctx context.Context) error {
	if err := s.Store.SweepIncoming(ctx); err != nil {
		return err
	}
	return s.Pool.Resume(ctx)
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.handler.ServeHTTP(w, r) }

func (s *Server) routes(r *gin.Engine) {
	r.NoRoute(func(c *gin.Context) { s.fail(c, http.StatusNotFound, "There is no such page.") })
	r.GET("/", s.home)
	r.POST("/theme", s.theme)
	r.POST("/songs", limitForm, s.createSong)
	g := r.Group("/songs/:id")
	g.GET("", func(c *gin.Context) {
		c.Redirect(http.StatusSeeOther, "/songs/"+c.Param("id")+"/"+stageOfASong)
	})
	g.GET("/:stage", s.stage)
	g.POST("/stems", s.upload)
	g.POST("/stems/:stem/remove", limitForm, s.removeStem)
	g.POST("/stems/:stem/role", limitForm, s.setRole)
	g.POST("/stems/:stem/replace", s.upload)
	g.GET("/stems/:stem/more", s.stemMore)
	g.POST("/stems/:stem/midi/drop", limitForm, s.dropMIDI)
	g.POST("/roles", limitForm, s.setRoles)
	g.POST("/take-proposal", limitForm, s.takeProposal)
	g.GET("/imports", s.imports)
	g.POST("/imports/:job/cancel", limitForm, s.cancelImport)
	g.POST("/imports/forget", limitForm, s.forgetImports)
	g.POST("/settings", limitForm, s.setSettings)
	g.POST("/loop", limitForm, s.setLoop)
	g.POST("/undo", limitForm, s.undo)
	g.POST("/redo", limitForm, s.redo)
	g.POST("/takes", limitForm, s.saveTake)
	g.POST("/takes/:take/return", limitForm, s.returnToTake)
	g.GET("/deck/data", s.deckData)
	g.GET("/deck/:side", s.deckAudio)
	g.POST("/duck/points", limitForm, s.setPoints)
	g.POST("/duck/preview", limitForm, s.previewPoints)
	g.POST("/duck/add", limitForm, s.addPoint)
	g.POST("/duck/remove", limitForm, s.removePoint)
	g.POST("/duck/fit", limitForm, s.fit)
	g.POST("/duck/targets", limitForm, s.setTargets)
	g.POST("/duck/switch", limitForm, s.switchDuck)
	g.POST("/duck/drop", limitForm, s.dropDuck)
	g.POST("/levels/gain", limitForm, s.setGain)
	g.POST("/levels/stem/:stem", limitForm, s.setStemRouting)
	g.GET("/levels/count", s.levelsCount)
	g.POST("/levels/bus", limitForm, s.addBus)
	g.POST("/levels/bus/:bus", limitForm, s.setBus)
	g.POST("/levels/bus/:bus/remove", limitForm, s.removeBus)
	g.POST("/levels/master", limitForm, s.setMaster)
	g.POST("/levels/fix", limitForm, s.fixLevels)
	g.POST("/levels/rules", limitForm, s.setRules)
	g.POST("/pocket/leader", limitForm, s.setLeader)
	g.POST("/pocket/apply", limitForm, s.applyPocket)
	g.GET("/pocket/options", s.kickOptions)
	g.GET("/pocket/places", s.places)
	g.GET("/levels/sum", s.runningSum)
	g.GET("/levels/whole", s.wholeSong)
	g.GET("/levels/plan", s.previewPlan)
	g.POST("/levels/plan", limitForm, s.applyPlan)
	g.POST("/levels/plan/forget", limitForm, s.forgetPlan)
	g.GET("/levels/plan.csv", s.planCSV)
	g.GET("/levels/noise.wav", s.pinkNoise)
	g.POST("/references", s.uploadReference)
	g.GET("/references", s.references)
	g.POST("/references/:ref/remove", limitForm, s.removeReference)
	g.POST("/duck/keyed", limitForm, s.setKeyed)
	g.POST("/duck/per-note", limitForm, s.perNote)
	g.POST("/duck/handover", limitForm, s.setHandover)
	g.POST("/duck/stop-false", limitForm, s.stopFalse)
	g.POST("/duck/cell", limitForm, s.setCell)
	g.POST("/duck/trigger", limitForm, s.addTrigger)
	g.POST("/duck/main-trigger", limitForm, s.mainTrigger)
	g.POST("/duck/trigger/:trigger/remove", limitForm, s.removeTrigger)
	g.POST("/duck/hit", limitForm, s.setHit)
	g.POST("/duck/quiet", limitForm, s.setQuiet)
	g.GET("/duck/schools", s.schools)
	g.GET("/duck/back", s.cameBack)
	g.GET("/duck/gain.mid", s.duckMIDI)
	g.GET("/duck/gain.wav", s.duckGain)
	g.GET("/duck/click.wav", s.duckClick)
	g.GET("/duck/settings.txt", s.duckSheetText)
	g.GET("/duck/cost", s.duckCost)
	g.GET("/duck/curve.csv", s.duckCurve)
	g.GET("/duck/ducked.wav", s.duckedStem)
	g.GET("/duck/hits.mid", s.duckHits)
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

func limitForm(c *gin.Context) {
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, pageBytes)
}

func isHTMX(c *gin.Context) bool { return c.GetHeader("HX-Request") == "true" }

// load reads the song of a request; where it cannot, it answers and returns nil.
func (s *Server) load(c *gin.Context) *store.Song {
	song, err := s.Store.Load(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.failWith(c, err)
		return nil
	}
	return song
}

// failWith answers with what an error means to the user.
func (s *Server) failWith(c *gin.Context, err error) {
	switch {
	case errors.Is(err, context.Canceled) && c.Request.Context().Err() != nil:
		c.Abort() // nobody waits for it any more
	case errors.Is(err, store.ErrNotFound):
		s.fail(c, http.StatusNotFound, "There is no such song here. It may belong to another data folder.")
	case errors.Is(err, store.ErrConflict):
		s.fail(c, http.StatusConflict, "The song was changed in another tab meanwhile, so this edit was not made. Reload to see it as it is now, then edit again.")
	case errors.Is(err, store.ErrNothing):
		s.fail(c, http.StatusConflict, "There is nothing further to undo or redo.")
	default:
		slog.Error("a request failed", "path", c.Request.URL.Path, "err", err)
		s.fail(c, http.StatusInternalServerError, "That did not work: "+err.Error()+". The song is as it was.")
	}
}

// fail answers with one sentence: in the page's notice line, or as a page of its own.
func (s *Server) fail(c *gin.Context, status int, sentence string) {
	c.Abort()
	if isHTMX(c) {
		c.Header("HX-Retarget", "#notice")
		c.Header("HX-Reswap", "innerHTML")
		s.write(c, status, "notice", sentence)
		return
	}
	s.write(c, status, "failure", map[string]any{"Sentence": sentence, "Theme": theme(c), "Built": s.built})
}

// edit changes the song of a request and answers with the stage's page. A sentence that f
// returns as an error is shown where the edit was made; what was typed stays.
func (s *Server) edit(c *gin.Context, stage string, f func(*session.Song) (string, error)) {
	base, _ := strconv.ParseInt(c.PostForm("rev"), 10, 64)
	if base == 0 {
		base = -1 // an edit that does not say what it saw is one that saw nothing
	}
	_, err := s.Store.Edit(c.Request.Context(), c.Param("id"), base, f)
	var bad *inputError
	if errors.As(err, &bad) {
		s.answer(c, stage, http.StatusUnprocessableEntity, bad)
		return
	}
	if err != nil {
		s.failWith(c, err)
		return
	}
	s.answer(c, stage, http.StatusOK, nil)
}

// inputError is a sentence about something typed: shown at its field, the typed text kept.
type inputError struct {
	Field    string
	Sentence string
	Typed    map[string]string
}

func (e *inputError) Error() string { return e.Sentence }

// badInput makes an inputError that keeps the form.
func badInput(c *gin.Context, field string, err error) error {
	typed := map[string]string{}
	for k, v := range c.Request.PostForm {
		if len(v) > 0 {
			typed[k] = v[0]
		}
	}
	return &inputError{Field: field, Sentence: sentence(err.Error()), Typed: typed}
}

// answer shows a stage after an edit: the changed parts for htmx, else a redirect.
func (s *Server) answer(c *gin.Context, stage string, status int, bad *inputError) {
	if !isHTMX(c) && bad == nil {
		c.Redirect(http.StatusSeeOther, "/songs/"+c.Param("id")+"/"+stage)
		return
	}
	song := s.load(c)
	if song == nil {
		return
	}
	s.show(c, status, song, stage, bad)
}

// show writes a stage: the whole page, or for htmx the sheet and what else changed with it.
func (s *Server) show(c *gin.Context, status int, song *store.Song, stage string, bad *inputError) {
	v, err := s.view(c, song, stage, bad)
	if err != nil {
		s.failWith(c, err)
		return
	}
	if err := s.fillSheet(c, v); err != nil {
		s.failWith(c, err)
		return
	}
	name := "page"
	if isHTMX(c) {
		name = "frame"
		v.Swap = true
	}
	s.write(c, status, name, v)
}
