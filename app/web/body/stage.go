package body

import (
	"embed"
	"io/fs"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/body"
	"mellowthump/core/session"
)

//go:embed *.html *.css
var files embed.FS

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Stage:   &body.Stage,
		Files:   []fs.FS{files},
		Sheet:   h.sheet,
		Try:     h.try,
		Scripts: []string{"edges.js"}, // it keeps open chains open
		Jobs:    map[string]worker.Kind{shell.SplitJob: {Run: h.runSplit}},
		Routes: func(g *gin.RouterGroup) {
			g.GET("/body/steady", h.Whole, h.steadied)
			g.POST("/body/steady", h.LimitForm, h.steady)
			g.GET("/body/speaker", h.Whole, h.speaker)
			g.POST("/body/drive", h.LimitForm, h.drive)
			g.POST("/body/attack", h.LimitForm, h.shape)
			g.POST("/body/rules", h.LimitForm, h.setRules)
			g.POST("/body/shaping", h.LimitForm, h.shaping)
			g.GET("/body/oneshot.wav", h.shot)
			g.GET("/body/layers", h.Whole, h.layers)
			g.POST("/body/layers", h.LimitForm, h.hand)
			g.POST("/body/beats", h.LimitForm, h.beats)
			g.GET("/body/low", h.Whole, h.low)
			g.POST("/body/under", h.LimitForm, h.under)
			g.POST("/body/fall", h.LimitForm, h.fall)
			g.GET("/body/glue", h.Whole, h.glue)
			g.POST("/body/glue", h.LimitForm, h.putGlue)
			g.GET("/body/apart", h.Whole, h.apart)
			g.POST("/body/split", h.LimitForm, h.split)
			g.POST("/body/split/:job/cancel", h.LimitForm, h.cancelSplit)
			g.POST("/body/together", h.LimitForm, h.together)
			g.POST("/body/part", h.LimitForm, h.shapePart)
			g.POST("/body/lower", h.LimitForm, h.lower)
			g.GET("/body/back", h.Whole, h.Back("body", session.OfBody))
			g.GET("/body/settings.txt", h.settings)
		},
	}
}
