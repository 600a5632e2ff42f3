package logbook

import (
	"context"
	"embed"
	"io/fs"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/stage"
)

//go:embed *.html *.css *.js
var files embed.FS

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{Server: s, sheets: &sheets{Server: s}}
	return &shell.Stage{
		Stage: &stage.Stage{
			Key: stage.Log, Name: "Log", Question: "What did I change, why, did it help, can I go back?",
			Help: []string{
				"The run sheet is all open findings in the order of the work. Each was rendered on top of those above it, so what it says it brings is measured. Tick, " +
					"hear, apply: one step, one undo.",
				"Sections are the song’s parts in time. Each has its own figures, the ducks may rest in one, and with them the run sheet says where a finding holds.",
				"Takes are the song as it was, with its figures; nothing done later overwrites them. Side by side they tell what was changed, and the deck plays one " +
					"against the other.",
			},
		},
		Files:   []fs.FS{files},
		Bare:    true,
		Ask:     asks,
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
