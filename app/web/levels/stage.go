package levels

import (
	"embed"
	"io/fs"
	"net/url"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/levels"
	"mellowthump/core/mix"
)

//go:embed *.html *.css *.js
var files embed.FS

// Stage returns the stage. references takes finished tracks in: files come in by one way.
func Stage(s *shell.Server, references func(answer gin.HandlerFunc) gin.HandlerFunc) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Stage: &levels.Stage,
		Files: []fs.FS{files},
		Over:  func(page url.Values, b *bench.Bench) mix.Window { return over(stateOf(page), b) },
		Sheet: h.sheet,
		Try:   h.try,
		Routes: func(g *gin.RouterGroup) {
			h.routes(g)
			g.POST("/references", s.LimitUploads, references(h.references))
		},
		Scripts: []string{"levels.js"},
	}
}

func (h *handlers) routes(g *gin.RouterGroup) {
	g.POST("/levels/gain", h.LimitForm, h.setGain)
	g.POST("/levels/stem/:stem", h.LimitForm, h.setStemRouting)
	g.POST("/levels/bus", h.LimitForm, h.addBus)
	g.POST("/levels/bus/:bus", h.LimitForm, h.setBus)
	g.POST("/levels/bus/:bus/remove", h.LimitForm, h.removeBus)
	g.POST("/levels/master", h.LimitForm, h.setMaster)
	g.POST("/levels/rules", h.LimitForm, h.setRules)
	g.GET("/levels/sum", h.Whole, h.runningSum)
	g.GET("/levels/whole", h.Whole, h.wholeSong)
	g.GET("/levels/plan", h.previewPlan)
	g.POST("/levels/plan", h.LimitForm, h.applyPlan)
	g.POST("/levels/plan/forget", h.LimitForm, h.forgetPlan)
	g.GET("/levels/plan.csv", h.planCSV)
	g.GET("/levels/noise.wav", h.pinkNoise)
	g.GET("/references", h.references)
	g.POST("/references/:ref/remove", h.LimitForm, h.removeReference)
}
