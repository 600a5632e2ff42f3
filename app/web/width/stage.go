package width

import (
	"embed"
	"io/fs"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/session"
	"mellowthump/core/width"
)

//go:embed *.html *.css
var files embed.FS

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Stage: &width.Stage,
		Files: []fs.FS{files},
		Sheet: h.sheet,
		Try:   h.try,
		Routes: func(g *gin.RouterGroup) {
			g.GET("/width/rows", h.Whole, h.rows)
			g.POST("/width/side", h.LimitForm, h.setSide)
			g.POST("/width/mono", h.LimitForm, h.setMono)
			g.POST("/width/level", h.LimitForm, h.setLevel)
			g.POST("/width/bands", h.LimitForm, h.setBands)
			g.POST("/width/align", h.LimitForm, h.setAlign)
			g.GET("/width/pair", h.Whole, h.pair)
			g.POST("/width/pair", h.LimitForm, h.setPair)
			g.POST("/width/low", h.LimitForm, h.setLow)
			g.POST("/width/all", h.LimitForm, h.allSafe)
			g.POST("/width/rules", h.LimitForm, h.setRules)
			g.GET("/width/back", h.Whole, h.Back("width", session.OfWidth))
			g.GET("/width/settings.txt", h.settings)
		},
		Scripts: []string{"edges.js"},
	}
}
