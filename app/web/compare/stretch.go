package compare

import (
	"fmt"
	"html/template"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/field"
	"mellowthump/core/session"
)

// stretchView is a finished track on its own overview, with what of it is compared.
type stretchView struct {
	Picture  template.HTML
	Seconds  float64
	From, To float64 // 0 and its length: all of it
	Chosen   bool
}

func (h *handlers) stretch(c *gin.Context, ref session.Reference) (stretchView, error) {
	a, err := h.Store.Facts(c.Request.Context(), ref.Audio)
	if err != nil {
		return stretchView{}, err
	}
	out := stretchView{Seconds: a.DurationS, To: a.DurationS}
	if ref.Stretch != nil {
		out.From, out.To = ref.Stretch.Ends()
		out.Chosen = true
	}
	out.Picture = plot.Stretch(plot.StretchOf{Name: ref.Name, Peaks: a.Overview, Seconds: a.DurationS, From: out.From, To: out.To})
	return out, nil
}

// setStretch chooses what of a finished track is compared: its loudest, what was dragged or typed, or all of it.
func (h *handlers) setStretch(c *gin.Context) {
	h.WorkOut(c, "compare", "stretch", func(song *session.Song) (session.Edit, error) {
		r := pick(song, c.PostForm("ref"))
		if r == nil {
			return nil, shell.BadInput("stretch", errGone)
		}
		switch c.PostForm("as") {
		case "all":
			return session.SetStretch{Reference: r.ID}, nil
		case "loudest":
			b, err := h.Bench(c.Request.Context(), song)
			if err != nil {
				return nil, err
			}
			span, err := b.LoudestOf(c.Request.Context(), *r, max(session.LeastStretch, float64(b.Loop.Frames())/float64(song.Rate)))
			return session.SetStretch{Reference: r.ID, Stretch: &span}, err
		}
		var span session.Span
		for _, f := range []struct {
			name string
			to   *float64
		}{{"from", &span.From}, {"to", &span.To}} {
			v, err := field.Number(c.PostForm(f.name), "s")
			if err != nil {
				return nil, shell.BadInput("stretch", fmt.Errorf("the stretch %w", err))
			}
			*f.to = v
		}
		a, err := h.Store.Facts(c.Request.Context(), r.Audio)
		if err != nil {
			return nil, err
		}
		span.From, span.To = max(0, span.From), min(span.To, a.DurationS)
		if span.To-span.From < session.LeastStretch {
			return nil, shell.BadInput(
				"stretch",
				fmt.Errorf("a stretch of %s lies within its %.1f s and is at least %g s long", r.Name, a.DurationS, session.LeastStretch),
			)
		}
		return session.SetStretch{Reference: r.ID, Stretch: &span}, nil
	})
}

// judgeBy makes a finished track the one that the song is judged by.
func (h *handlers) judgeBy(c *gin.Context) {
	h.Edit(c, "compare", "match", session.JudgeBy{Reference: c.PostForm("ref")})
}
