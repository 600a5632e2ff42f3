package logbook

import (
	"context"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
)

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{Server: s, sheets: &sheets{Server: s}}
	return &shell.Stage{
		Key: "log", Name: "Log", Question: "What did I change, why, did it help, can I go back?",
		Bare:    true,
		Ask:     ask,
		Scripts: []string{"sections.js"},
		Sheet:   h.sheet,
		Try:     h.try, TryOn: h.tryOn,
		Background: func(ctx context.Context) { // what is made ends with the program
			<-ctx.Done()
			h.sheets.close()
		},
		Jobs: map[string]worker.Kind{shell.ApplyJob: {Run: h.runApply}},
		Routes: func(g *gin.RouterGroup) {
			g.POST("/takes", h.LimitForm, h.saveTake)
			g.POST("/takes/:take/return", h.LimitForm, h.returnToTake)
			g.POST("/takes/:take", h.LimitForm, h.setTake)
			g.GET("/log/figures", h.besideFigures)
			g.GET("/log/habits", h.habits)
			g.GET("/log/sections/figures", h.sectionFigures)
			g.POST("/log/sections/:do", h.LimitForm, h.setSections)
			g.GET("/log/export/:form", h.export)
			g.GET("/log/rows", h.rows)
			g.GET("/log/choose", h.choose)
			g.POST("/log/apply", h.LimitForm, h.apply)
			g.GET("/log/applying", h.applying)
			g.POST("/log/apply/:job/cancel", h.LimitForm, h.stopApply)
			g.POST("/log/leave", h.LimitForm, h.leave)
			g.POST("/log/reopen", h.LimitForm, h.reopen)
		},
	}
}
