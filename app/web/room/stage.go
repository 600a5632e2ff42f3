package room

import (
	"embed"
	"io/fs"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/room"
	"mellowthump/core/session"
)

//go:embed *.html *.css
var files embed.FS

// Stage returns the stage. voices takes a voice in: files come in by one way.
func Stage(s *shell.Server, voices func(answer gin.HandlerFunc) gin.HandlerFunc) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Stage: &room.Stage,
		Files: []fs.FS{files},
		Sheet: h.sheet,
		Try:   h.try,
		Routes: func(g *gin.RouterGroup) {
			g.GET("/room/cuts", h.Whole, h.cuts)
			g.POST("/room/cut", h.LimitForm, h.setCut)
			g.GET("/room/pair", h.Whole, h.pair)
			g.GET("/room/voice", h.Whole, h.voice)
			g.POST("/room/voice", h.LimitForm, h.voiceDip)
			g.POST("/room/voice-file", h.LimitUploads, voices(h.voice))
			g.POST("/room/voice-file/remove", h.LimitForm, h.removeVoice)
			g.POST("/room/dip", h.LimitForm, h.dip)
			g.GET("/room/back", h.Whole, h.Back("room", session.OfRoom))
			g.GET("/room/settings.txt", h.settings)
			g.GET("/room/key", h.Whole, h.underKey)
			g.POST("/room/roll", h.LimitForm, h.roll)
			g.POST("/room/complement", h.LimitForm, h.complement)
			g.POST("/room/all", h.LimitForm, h.cutAll)
			g.POST("/room/rules", h.LimitForm, h.setRules)
		},
		Scripts: []string{"edges.js"},
	}
}
