package pocket

import (
	"context"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
)

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Key: "pocket", Name: "Pocket", Question: "Do kick and bass agree?",
		Findings: func(ctx context.Context, b *bench.Bench, _ mix.Window) ([]find.Finding, error) {
			return pocket.Findings(ctx, b)
		},
		Sheet:  h.sheet,
		Before: session.Song.Disagreed, BeforeName: "before Pocket's moves",
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
