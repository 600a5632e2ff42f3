package duck

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/duck"
	"mellowthump/core/field"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
)

// schoolLabel names a school, empty where there is none of that name.
func schoolLabel(school string) string {
	for _, k := range move.Schools {
		if k.School == school {
			return k.Label
		}
	}
	return ""
}

// try works out what is heard before it is chosen: a school's fit, the depth by the notes, or a key filter.
func (h *handlers) try(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error) {
	switch {
	case t.Is("stop-false", 1):
		return keyLow(&song.Song, t.Args[0])
	case t.Is("per-note", 0):
		return h.byNote(ctx, &song.Song, false)
	case schoolLabel(t.What) == "":
		return nil, &shell.InputError{Field: "fit", Sentence: "There is no such school."}
	}
	return h.fitted(ctx, &song.Song, t.What)
}

// setTargets changes the clearance asked and the cap of the depth; dragged along what it costs, it fits anew.
func (h *handlers) setTargets(c *gin.Context) {
	h.WorkOut(c, "duck", "targets", func(song *session.Song) (session.Edit, error) {
		t := song.Targets
		if err := field.Read(t.Fields(), c.GetPostForm); err != nil {
			return nil, shell.BadInput("targets", err)
		}
		if c.PostForm("ahead-asked") != "" { // an unticked box sends nothing
			t.NoAhead, t.Follow = c.PostForm("ahead") == "", c.PostForm("follow") != ""
		}
		if t.Clearance != song.Targets.Clearance { // who asks for a clearance goes by it
			t.Aim = session.AimApart
		}
		set := session.SetTargets{Targets: t}
		if c.PostForm("fit") == "" {
			d, off := song.Duck()
			if d == nil || d.Keyed() || t.Follow == song.Targets.Follow || c.PostForm("ahead-asked") == "" {
				return set, nil
			}
			one := *d // the curve that is drawn follows too
			one.Follow = t.Follow
			return session.Together{Said: map[bool]string{true: "The release follows the gap to the next hit", false: "One release for all hits"}[t.Follow],
				Edits: []session.Edit{set, session.SetDuck{Duck: &one, Off: off}}}, nil
		}
		song.Targets = t
		if err := song.Validate(); err != nil {
			return nil, shell.BadInput("targets", err)
		}
		f, err := h.fitted(c.Request.Context(), song, duck.SchoolOf(song))
		if err != nil {
			return nil, err
		}
		return session.Together{Said: fmt.Sprintf("Ask %g dB of clearance and fit", t.Clearance), Edits: []session.Edit{set, f}}, nil
	})
}

// fitted is the edit that a fit comes to.
func (h *handlers) fitted(ctx context.Context, song *session.Song, school string) (session.Edit, error) {
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	f, err := duck.FitOn(ctx, b, school)
	if t := bench.Trouble(err); t != "" {
		return nil, shell.BadInput("fit", errors.New(t))
	}
	if err != nil {
		return nil, err
	}
	return duck.FitEdit(f), nil
}

// fit finds the least duck over the whole song, so that what is exported holds everywhere.
func (h *handlers) fit(c *gin.Context) {
	h.WorkOut(c, "duck", "fit", func(song *session.Song) (session.Edit, error) {
		as := c.PostForm("school")
		if as == "" {
			as = duck.SchoolOf(song)
		}
		if schoolLabel(as) == "" {
			return nil, shell.BadInput("fit", fmt.Errorf("no school is called %q", as))
		}
		was, _ := song.Duck()
		e, err := h.fitted(c.Request.Context(), song, as)
		if d, ok := e.(session.SetDuck); ok && err == nil && d.Duck == nil && was == nil {
			return nil, &shell.InputError{Field: "fit", Sentence: strings.TrimPrefix(d.Said, "Fit: ")}
		}
		return e, err
	})
}

// perNote lets the curve's depth follow the notes of the bass, or makes it the same for all again.
func (h *handlers) perNote(c *gin.Context) {
	h.WorkOut(c, "duck", "points", func(song *session.Song) (session.Edit, error) {
		return h.byNote(c.Request.Context(), song, c.PostForm("same") != "")
	})
}

// byNote is the edit of perNote.
func (h *handlers) byNote(ctx context.Context, song *session.Song, same bool) (session.Edit, error) {
	bad := func(text string) error { return shell.BadInput("points", errors.New(text)) }
	d, off := song.Duck()
	if d == nil || d.Keyed() || song.Leader == session.BassLeads {
		return nil, bad("only a drawn curve on the bass can follow its notes")
	}
	if same {
		one := *d
		one.Parts = nil
		return session.SetDuck{Duck: &one, Off: off, Said: "The same depth for every note"}, nil
	}
	n, err := h.Renderer.PairLength(song)
	if err != nil {
		return nil, err
	}
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	p, err := duck.FitSongPerNote(ctx, h.Renderer, song, mix.Window{To: n}, b.Line())
	switch t := bench.Trouble(err); {
	case t != "":
		return nil, bad(t)
	case err != nil:
		return nil, err
	case p == nil:
		return nil, bad("no note of the bass is known")
	}
	return session.SetDuck{Duck: p.Duck, Off: off, Said: "The duck's depth follows the notes"}, nil
}

// setHandover moves the place where kick and bass meet: the tail's fade and the duck together.
func (h *handlers) setHandover(c *gin.Context) {
	h.WorkOut(c, "duck", "points", func(song *session.Song) (session.Edit, error) { return h.moved(c, song) })
}

// moved is the edit that moves the handover to where the form says.
func (h *handlers) moved(c *gin.Context, song *session.Song) (session.Edit, error) {
	to, err := field.Number(c.PostForm("ms"), "ms")
	if err == nil && !(to >= 20 && to <= 1000) {
		err = fmt.Errorf("a handover at %g ms is outside 20 to 1000", to)
	}
	if err != nil {
		return nil, shell.BadInput("points", err)
	}
	b, err := h.Bench(c.Request.Context(), song)
	if err != nil {
		return nil, err
	}
	st, err := pair.On(c.Request.Context(), b)
	if err != nil && bench.Trouble(err) == "" {
		return nil, err
	}
	if st == nil || !st.After.HandoverMedian.Valid() {
		return nil, shell.BadInput("points", errors.New("there is no handover to move: the bass never takes over before the next hit"))
	}
	return handover{from: float64(st.After.HandoverMedian), to: to}, nil
}

// cameBack compares a bass that was bounced anew with the duck that was planned for the old file.
func (h *handlers) cameBack(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	out := map[string]any{"ID": song.ID}
	st := duck.Back(&song.Song)
	if st != nil && song.Leader != session.BassLeads {
		b, err := h.Bench(c.Request.Context(), &song.Song)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		a, err := duck.ComeBack(c.Request.Context(), h.Renderer, &song.Song, b.Loop, st.ID, st.Was)
		if err != nil && bench.Trouble(err) == "" {
			h.FailWith(c, err)
			return
		}
		if err == nil {
			out["Stem"], out["A"] = st, a
			out["Picture"] = plot.CameBack(plot.Back{MS: a.MS, Planned: a.Planned, Got: a.Got})
		}
	}
	h.Write(c, http.StatusOK, "cameback", out)
}

// handover is the edit that moves the meeting of kick and bass.
type handover struct{ from, to float64 } // ms

// Apply moves it.
func (e handover) Apply(song *session.Song) (string, error) {
	if err := duck.MoveHandover(song, e.from, e.to, pocket.TailFade); err != nil {
		return "", err
	}
	return fmt.Sprintf("Handover to %.0f ms", e.to), nil
}
