package pocket

import (
	"embed"
	"io/fs"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/hits"
	"mellowthump/app/web/shell"
	"mellowthump/core/pocket"
)

//go:embed *.html *.css
var files embed.FS

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Stage:   &pocket.Stage,
		Files:   []fs.FS{files, hits.Files},
		Sheet:   h.sheet,
		Try:     h.try,
		Scripts: []string{"hits.js"},
		Routes: func(g *gin.RouterGroup) {
			g.POST("/pocket/leader", h.LimitForm, h.setLeader)
			g.POST("/pocket/apply", h.LimitForm, h.apply)
			g.GET("/pocket/options", h.kickOptions)
			g.GET("/pocket/places", h.places)
		},
	}
}
