// Package shell is what all pages of a song share: the server, the page around a stage's sheet, edits, moves, findings,
// the deck, and files. A stage is a value (Stage) made in a package of its own; nothing here knows which there are.
package shell

import (
	"html/template"
	"io/fs"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/gate"
	"mellowthump/app/store"
	"mellowthump/app/worker"
	"mellowthump/core/mix"
)

const (
	cacheBytes    = 720 << 20 // of renders
	pageBytes     = 1 << 20   // of a form without files
	mostUploads   = 64        // at once
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
	Patience time.Duration // for the next byte of what is sent; 30 s
	// Looks tells when, and at what time, the bounce folders are looked at: each half second where it is nil.
	Looks <-chan time.Time

	stages  []*Stage
	pages   *template.Template
	ships   shipped
	handler http.Handler
	uploads atomic.Int64 // being read
	routed  gin.RoutesInfo
	whole   *whole
	gate    *gate.Gate // nil: whoever reaches the address is in
	built   string     // changes with every start, for addresses of static files
	counts  sync.Map   // by song and stage: open findings, as last counted
	drawn   sync.Map   // by song: its picture in the list
}

// Built changes with every start, for addresses of static files.
func (s *Server) Built() string { return s.built }

// Static reads a file that ships with the program.
func (s *Server) Static(name string) ([]byte, error) {
	if f, ok := s.ships.files[name]; ok {
		return f.plain, nil
	}
	return nil, fs.ErrNotExist
}

// IsHTMX reports whether a page's own script asks.
func IsHTMX(c *gin.Context) bool { return c.GetHeader("HX-Request") == "true" }

// Routes are all that is answered.
func (s *Server) Routes() gin.RoutesInfo { return s.routed }

// Stages are the server's stages in the order of the work.
func (s *Server) Stages() []*Stage { return s.stages }

// stageOf returns the stage of that key, nil where there is none.
func (s *Server) stageOf(key string) *Stage {
	for _, st := range s.stages {
		if st.Key == key {
			return st
		}
	}
	return nil
}

// first is the key of the stage that a song opens on.
func (s *Server) first() string { return s.stages[0].Key }

// CurrentStage is the stage that the request came from.
func (s *Server) CurrentStage(c *gin.Context) string {
	for _, from := range []string{c.GetHeader("HX-Current-URL"), c.GetHeader("Referer")} {
		u, err := url.Parse(from)
		if err != nil {
			continue
		}
		if last := u.Path[strings.LastIndex(u.Path, "/")+1:]; s.stageOf(last) != nil {
			return last
		}
	}
	return s.first()
}

func theme(c *gin.Context) string {
	if t, err := c.Cookie(themeCookie); err == nil && (t == "day" || t == "night") {
		return t
	}
	return ""
}

func solo(c *gin.Context) mix.Solo {
	if q := mix.Solo(c.Query("solo")); q.Valid() {
		return q
	}
	if k, err := c.Cookie(soloCookie); err == nil && mix.Solo(k).Valid() {
		return mix.Solo(k)
	}
	return mix.SoloBoth
}
