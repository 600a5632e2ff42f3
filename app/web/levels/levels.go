// Package levels is the stage Levels in the browser: how loud is each thing at each step?
package levels

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/levels"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

type handlers struct{ *shell.Server }

// Stage returns the stage. references takes finished tracks in: files come in by one way.
func Stage(s *shell.Server, references func(answer gin.HandlerFunc) gin.HandlerFunc) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Key: "levels", Name: "Levels", Question: "How loud is each thing at each step?",
		Findings: func(c *gin.Context, b *bench.Bench) ([]find.Finding, error) {
			return b.Levels(c.Request.Context(), over(stateOf(c), b))
		},
		Sheet:  h.sheet,
		Before: session.Song.Untrimmed,
		Moved:  (*session.Song).Trimmed,
		Routes: func(g *gin.RouterGroup) {
			h.routes(g)
			g.POST("/references", references(h.references))
		},
		Scripts: []string{"levels.js"},
	}
}

func (h *handlers) routes(g *gin.RouterGroup) {
	g.POST("/levels/gain", shell.LimitForm, h.setGain)
	g.POST("/levels/stem/:stem", shell.LimitForm, h.setStemRouting)
	g.POST("/levels/bus", shell.LimitForm, h.addBus)
	g.POST("/levels/bus/:bus", shell.LimitForm, h.setBus)
	g.POST("/levels/bus/:bus/remove", shell.LimitForm, h.removeBus)
	g.POST("/levels/master", shell.LimitForm, h.setMaster)
	g.POST("/levels/rules", shell.LimitForm, h.setRules)
	g.GET("/levels/sum", h.runningSum)
	g.GET("/levels/whole", h.wholeSong)
	g.GET("/levels/plan", h.previewPlan)
	g.POST("/levels/plan", shell.LimitForm, h.applyPlan)
	g.POST("/levels/plan/forget", shell.LimitForm, h.forgetPlan)
	g.GET("/levels/plan.csv", h.planCSV)
	g.GET("/levels/noise.wav", h.pinkNoise)
	g.GET("/references", h.references)
	g.POST("/references/:ref/remove", shell.LimitForm, h.removeReference)
}

// over is the window that the page measures.
func over(st state, b *bench.Bench) mix.Window {
	if st.Scope == "song" {
		return b.Whole()
	}
	return b.Loop
}

// runningSum draws who uses the headroom.
func (h *handlers) runningSum(c *gin.Context) {
	v, st := h.measured(c)
	if v == nil {
		return
	}
	ctx := c.Request.Context()
	w := over(st, v.Bench)
	l, err := v.Bench.Ledger(ctx, w)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	sum, err := levels.RunningSum(ctx, h.Renderer, l, st.Order, w)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	var steps []plot.SumStep
	for _, j := range sum {
		steps = append(steps, plot.SumStep{Name: j.Name, Role: string(j.Role), Peak: j.Level.Peak, LUFS: j.Level.Integrated()})
	}
	rules := v.LevelRules()
	h.Write(c, http.StatusOK, "levelssum", map[string]any{
		"ID": v.ID, "State": st, "Orders": levels.Orders, "Steps": steps, "Rules": rules, "Picture": plot.RunningSum(steps, rules.Premaster, rules.Limit),
	})
}

// measured loads the song for what comes after the page; where it has no stems, it answers and returns nil.
func (h *handlers) measured(c *gin.Context) (*shell.View, state) {
	st := stateOf(c)
	song := h.Load(c)
	if song == nil {
		return nil, st
	}
	v, err := h.View(c, song, "levels", nil)
	switch {
	case err != nil:
		h.FailWith(c, err)
		return nil, st
	case len(v.Stems) == 0:
		h.Fail(c, http.StatusConflict, "There are no stems yet. Drop them on Intake.")
		return nil, st
	}
	return v, st
}

// wholeSong says in a line what the peaks are over the whole song, where the page shows the loop.
func (h *handlers) wholeSong(c *gin.Context) {
	v, _ := h.measured(c)
	if v == nil {
		return
	}
	l, err := v.Bench.Ledger(c.Request.Context(), v.Bench.Whole())
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.Write(c, http.StatusOK, "levelswhole", map[string]any{
		"Peak": l.Master.Out.Peak, "LUFS": l.Master.Out.Integrated(), "At": v.Position(float64(l.Master.Out.At) / float64(v.Rate)), "Over": float64(l.Master.Out.Peak) > v.LevelRules().Limit,
	})
}

// references shows the finished tracks, and asks again while one is coming in.
func (h *handlers) references(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	jobs, err := h.Store.Jobs(c.Request.Context(), song.ID)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	var under, failed []string
	for _, j := range jobs {
		switch {
		case j.Kind != shell.ReferenceJob:
		case j.Active():
			under = append(under, j.Name)
		default:
			failed = append(failed, j.Name+": "+j.Message)
		}
	}
	h.Write(c, http.StatusOK, "references", map[string]any{"ID": song.ID, "Rev": song.Rev, "References": song.References, "Under": under, "Failed": failed})
}

// removeReference takes a finished track out of the song.
func (h *handlers) removeReference(c *gin.Context) {
	h.Edit(c, "levels", "gain", session.RemoveReference{ID: c.Param("ref")})
}
