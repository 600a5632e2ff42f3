package duck

import (
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/mix"
)

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{s}
	const question = "How does the bass get out of the way, and back?"
	return &shell.Stage{
		Key: "duck", Name: "Duck", Question: question,
		Ask: func(v *shell.View) string {
			if v.BassLeads() {
				return strings.Replace(question, "the bass", "the kick", 1)
			}
			return question
		},
		Findings: func(c *gin.Context, b *bench.Bench) ([]find.Finding, error) { return b.Duck(c.Request.Context()) },
		Sheet:    h.sheet,
		Solos:    []mix.Solo{mix.SoloKey},
		Try:      h.try,
		Routes:   h.routes,
		Scripts:  []string{"duck.js"},
	}
}

func (h *handlers) routes(g *gin.RouterGroup) {
	g.POST("/duck/points", shell.LimitForm, h.setPoints)
	g.POST("/duck/preview", shell.LimitForm, h.previewPoints)
	g.POST("/duck/add", shell.LimitForm, h.addPoint)
	g.POST("/duck/remove", shell.LimitForm, h.removePoint)
	g.POST("/duck/fit", shell.LimitForm, h.fit)
	g.POST("/duck/targets", shell.LimitForm, h.setTargets)
	g.POST("/duck/switch", shell.LimitForm, h.switchDuck)
	g.POST("/duck/drop", shell.LimitForm, h.dropDuck)
	g.POST("/duck/keyed", shell.LimitForm, h.setKeyed)
	g.POST("/duck/per-note", shell.LimitForm, h.perNote)
	g.POST("/duck/handover", shell.LimitForm, h.setHandover)
	g.POST("/duck/stop-false", shell.LimitForm, h.stopFalse)
	g.POST("/duck/cell", shell.LimitForm, h.setCell)
	g.POST("/duck/trigger", shell.LimitForm, h.addTrigger)
	g.POST("/duck/main-trigger", shell.LimitForm, h.mainTrigger)
	g.POST("/duck/trigger/:trigger/remove", shell.LimitForm, h.removeTrigger)
	g.POST("/duck/hit", shell.LimitForm, h.setHit)
	g.POST("/duck/quiet", shell.LimitForm, h.setQuiet)
	g.GET("/duck/schools", h.schools)
	g.GET("/duck/back", h.cameBack)
	g.GET("/duck/cost", h.cost)
	g.GET("/duck/gain.mid", h.gainMIDI)
	g.GET("/duck/gain.wav", h.gainWAV)
	g.GET("/duck/click.wav", h.click)
	g.GET("/duck/settings.txt", h.settings)
	g.GET("/duck/curve.csv", h.curve)
	g.GET("/duck/ducked.wav", h.ducked)
	g.GET("/duck/hits.mid", h.hits)
}
