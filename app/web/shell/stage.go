package shell

import (
	"context"

	"github.com/gin-gonic/gin"

	"mellowthump/app/worker"
	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Stage is one of the stages of the work: all that the shell needs to know of it. Its template, its script, its handlers
// and its end-to-end test bear its key.
type Stage struct {
	Key, Name, Question string
	Will                string // of a stage that is not built: what it will do

	// Ask words the question for a song; nil: Question.
	Ask func(*View) string
	// Findings judges the song; nil: the stage judges nothing. Where kick and bass cannot be judged, the error says why
	// (bench.Trouble).
	Findings func(c *gin.Context, b *bench.Bench) ([]find.Finding, error)
	// Sheet measures what the stage shows and returns what its template shows.
	Sheet func(c *gin.Context, v *View) (any, error)
	// Before is what the deck's Before side plays on this stage, and Moved whether After differs from it; nil: what was
	// brought, and whether anything was moved.
	Before func(session.Song) session.Song
	Moved  func(*session.Song) bool
	// Solos are the parts that the deck plays on this stage beside the usual.
	Solos []mix.Solo
	// Try gives a song what is only proposed, to be heard before it is chosen, and names it. What may be tried is the
	// stage's own.
	Try func(ctx context.Context, song *session.Song, what string) (name string, err error)
	// Routes adds the stage's own addresses under /songs/:id.
	Routes func(g *gin.RouterGroup)
	// Jobs are the kinds of background work that the stage starts.
	Jobs map[string]worker.Kind
	// Scripts are loaded with the page: files in static/js.
	Scripts []string
}

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

// tries returns the stage that lets things be tried on the deck.
func (s *Server) tries() *Stage {
	for _, st := range s.stages {
		if st.Try != nil {
			return st
		}
	}
	return nil
}
