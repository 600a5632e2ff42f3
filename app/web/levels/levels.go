// Package levels is the stage Levels in the browser: how loud is each thing at each step?
package levels

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/levels"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

type handlers struct{ *shell.Server }

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
	l, err := levels.LedgerOn(ctx, v.Bench, w)
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
	st := stateOf(shell.PageQuery(c, "levels"))
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
		h.Fail(c, http.StatusConflict, shell.NoStems)
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
	ctx := c.Request.Context()
	mix.Doing(ctx, "Adding the whole song up")
	in, err := h.Renderer.GroupLevel(ctx, &v.Song.Song, "", v.Bench.Whole())
	if err != nil {
		h.FailWith(c, err)
		return
	}
	out := in.Turned(v.Master.Fader)
	h.Write(c, http.StatusOK, "levelswhole", map[string]any{
		"Peak": out.Peak, "At": v.Position(float64(out.At) / float64(v.Rate)), "Over": float64(out.Peak) > v.LevelRules().Limit,
	})
}

// references shows the finished tracks, and asks again while one is coming in.
func (h *handlers) references(c *gin.Context) {
	under, failed, ok := h.Coming(c, shell.ReferenceJob)
	if !ok {
		return
	}
	song := h.Load(c)
	if song == nil || len(under) == 0 && h.CameIn(c, song, h.CurrentStage(c)) {
		return
	}
	again := len(under) > 0 || c.Request.Method == http.MethodPost // a short one may be in already: look once more
	h.Write(c, http.StatusOK, "references", map[string]any{
		"ID": song.ID, "References": song.References, "Under": shell.Measured(under), "Again": again, "Failed": failed,
	})
}

// removeReference takes a finished track out of the song.
func (h *handlers) removeReference(c *gin.Context) {
	h.Edit(c, h.CurrentStage(c), "gain", session.RemoveReference{ID: c.Param("ref")})
}
