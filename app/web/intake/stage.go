package intake

import (
	"embed"
	"io/fs"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/intake"
	"mellowthump/core/stage"
)

//go:embed *.html *.css *.js
var files embed.FS

// Taking makes a handler that takes files in of one that shows them.
type Taking func(answer gin.HandlerFunc) gin.HandlerFunc

// Stage returns the stage, and what takes finished tracks in, which Levels shows, and a voice, which Room does.
func Stage(s *shell.Server) (st *shell.Stage, references, voice Taking) {
	h := &handlers{Server: s, watched: newWatched()}
	return &shell.Stage{
		Stage:  &intake.Stage,
		Files:  []fs.FS{files},
		Bare:   true,
		Sheet:  h.sheet,
		Routes: h.routes,
		Jobs: map[string]worker.Kind{
			importJob: {
				Run: h.runImport,
			}, midiJob: {Run: h.runImport, Light: true}, archiveJob: {Run: h.runImport}, shell.ReferenceJob: {Run: h.runImport}, shell.VoiceJob: {Run: h.runImport},
			shell.BounceJob: {Run: h.runBounce, Own: true},
		},
		Background: h.watch,
		Scripts:    []string{"intake.js"},
	}, h.takes(shell.ReferenceJob, stage.Levels), h.takes(shell.VoiceJob, stage.Room)
}

func (h *handlers) routes(g *gin.RouterGroup) {
	g.POST("/stems", h.LimitUploads, h.upload)
	g.POST("/brought", h.LimitForm, h.takeBrought)
	g.POST("/stems/:stem/remove", h.LimitForm, h.removeStem)
	g.POST("/stems/:stem/role", h.LimitForm, h.setRole)
	g.POST("/stems/:stem/replace", h.LimitUploads, h.upload)
	g.GET("/stems/:stem/more", h.stemMore)
	g.POST("/stems/:stem/midi/drop", h.LimitForm, h.dropMIDI)
	g.POST("/stems/:stem/rename", h.LimitForm, h.renameStem)
	g.POST("/ticked", h.LimitForm, h.setTicked)
	g.POST("/roles", h.LimitForm, h.setRoles)
	g.POST("/settings", h.LimitForm, h.setSettings)
	g.POST("/take-proposal", h.LimitForm, h.takeProposal)
	g.GET("/bounces", h.bounces)
	g.POST("/bounces", h.LimitForm, h.nameFolder)
	g.POST("/bounces/left", h.LimitForm, h.takeLeft)
	g.POST("/bounces/:job/cancel", h.LimitForm, h.stopBounce)
	g.GET("/imports", h.imports)
	g.POST("/imports/:job/cancel", h.LimitForm, h.cancelImport)
	g.POST("/imports/:job/again", h.LimitForm, h.againImport)
	g.POST("/imports/forget", h.LimitForm, h.forgetImports)
}
