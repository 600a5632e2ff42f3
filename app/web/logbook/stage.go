package logbook

import (
	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
)

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Key: "log", Name: "Log", Question: "What did I change, why, did it help, can I go back?",
		Sheet: h.sheet,
		Routes: func(g *gin.RouterGroup) {
			g.POST("/takes", h.LimitForm, h.saveTake)
			g.POST("/takes/:take/return", h.LimitForm, h.returnToTake)
		},
	}
}
