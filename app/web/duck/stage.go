package duck

import (
	"embed"
	"io/fs"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/hits"
	"mellowthump/app/web/shell"
	"mellowthump/core/duck"
	"mellowthump/core/mix"
)

//go:embed *.html *.css *.js
var files embed.FS

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Stage: &duck.Stage,
		Files: []fs.FS{files, hits.Files},
		Ask: func(v *shell.View) string {
			if v.BassLeads() {
				return strings.Replace(duck.Stage.Question, "the bass", "the kick", 1)
			}
			return duck.Stage.Question
		},
		Sheet:   h.sheet,
		Solos:   []mix.Solo{mix.SoloKey},
		Follows: "/duck/follow",
		Try:     h.try,
		Routes:  h.routes,
		Scripts: []string{"duck.js", "hits.js"},
	}
}

func (h *handlers) routes(g *gin.RouterGroup) {
	g.POST("/duck/points", h.LimitForm, h.setPoints)
	g.POST("/duck/preview", h.LimitForm, h.previewPoints)
	g.POST("/duck/follow", h.LimitForm, h.follow)
	g.POST("/duck/add", h.LimitForm, h.addPoint)
	g.POST("/duck/remove", h.LimitForm, h.removePoint)
	g.POST("/duck/fit", h.LimitForm, h.fit)
	g.POST("/duck/targets", h.LimitForm, h.setTargets)
	g.POST("/duck/switch", h.LimitForm, h.switchDuck)
	g.POST("/duck/drop", h.LimitForm, h.dropDuck)
	g.POST("/duck/keyed", h.LimitForm, h.setKeyed)
	g.POST("/duck/per-note", h.LimitForm, h.perNote)
	g.POST("/duck/rise", h.LimitForm, h.rise)
	g.POST("/duck/handover", h.LimitForm, h.setHandover)
	g.POST("/duck/stop-false", h.LimitForm, h.stopFalse)
	g.POST("/duck/cell", h.LimitForm, h.setCell)
	g.POST("/duck/shape", h.LimitForm, h.setShape)
	g.POST("/duck/trigger", h.LimitForm, h.addTrigger)
	g.POST("/duck/main-trigger", h.LimitForm, h.mainTrigger)
	g.POST("/duck/trigger/:trigger/remove", h.LimitForm, h.removeTrigger)
	g.POST("/duck/hit", h.LimitForm, h.setHit)
	hits.Handlers{Server: h.Server}.Routes(g)
	g.GET("/duck/schools", h.Whole, h.schools)
	g.GET("/duck/back", h.cameBack)
	g.GET("/duck/cost", h.Whole, h.cost)
	g.GET("/duck/gain.mid", h.gainMIDI)
	g.GET("/duck/gain.wav", h.gainWAV)
	g.GET("/duck/click.wav", h.click)
	g.GET("/duck/settings.txt", h.settings)
	g.GET("/duck/all.zip", h.all)
	g.GET("/duck/curve.csv", h.curve)
	g.GET("/duck/ducked.wav", h.ducked)
	g.GET("/duck/hits.mid", h.hits)
}
