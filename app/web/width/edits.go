package width

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/app/web/shell"
	"mellowthump/core/export"
	"mellowthump/core/field"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/core/width"
)

// corner reads a corner; empty is none.
func corner(text string) (float64, error) {
	if strings.TrimSpace(text) == "" {
		return 0, nil
	}
	hz, err := field.Number(text, "Hz")
	if err != nil {
		return 0, fmt.Errorf("the corner %w", err)
	}
	if !(hz >= 20 && hz <= 2000) {
		return 0, fmt.Errorf("a corner of %g Hz is out of bounds; 20 to 2000 are taken", hz)
	}
	return hz, nil
}

// put sets a move of Width at a place, or takes it out where it is nil.
func (h *handlers) put(c *gin.Context, id, why string, f func(song *session.Song) (move.Params, error)) {
	h.WorkOut(c, "width", "side", func(song *session.Song) (session.Edit, error) {
		at := atOf(c.PostForm("at"))
		chain, name := song.Chain(at)
		if chain == nil {
			return nil, shell.BadInput("side", errors.New("that place is no longer there"))
		}
		p, err := f(song)
		if err != nil {
			return nil, shell.BadInput("side", err)
		}
		if p == nil {
			return session.DropMove{At: at, ID: id}, nil
		}
		if err := move.Validate(p); err != nil {
			return nil, shell.BadInput("side", err)
		}
		return session.Together{Said: name + ": " + move.Words(p), Edits: []session.Edit{session.SetMove{At: at, Move: move.Move{ID: id, Params: p, Why: why}}}}, nil
	})
}

// setSide sets the corner of a side low cut.
func (h *handlers) setSide(c *gin.Context) {
	h.put(c, session.WidthSide, "the side stays out of the low end", func(song *session.Song) (move.Params, error) {
		hz, err := corner(c.PostForm("hz"))
		if err != nil || hz == 0 {
			return nil, err
		}
		cut := move.SideCut{Slope: 24, Low: c.PostForm("low")}
		if chain, _ := song.Chain(atOf(c.PostForm("at"))); chain != nil {
			if m := chain.Move(session.WidthSide); m != nil {
				cut = *m.Params.(*move.SideCut)
			}
		}
		cut.Hz = hz
		return &cut, nil
	})
}

// setMono sets under what corner a place is mono.
func (h *handlers) setMono(c *gin.Context) {
	h.put(c, session.WidthMono, "one low end for both sides", func(*session.Song) (move.Params, error) {
		hz, err := corner(c.PostForm("hz"))
		if err != nil || hz == 0 {
			return nil, err
		}
		return &move.MonoBelow{Hz: hz}, nil
	})
}

// setLevel sets the levels of mid and side.
func (h *handlers) setLevel(c *gin.Context) {
	h.put(c, session.WidthLevel, "wider or narrower", func(*session.Song) (move.Params, error) {
		var w move.Width
		for name, to := range map[string]*float64{"mid": &w.Mid, "side": &w.Side} {
			var err error
			if *to, err = field.Number(c.PostForm(name), "dB"); err != nil {
				return nil, fmt.Errorf("the %s %w", name, err)
			}
		}
		if w == (move.Width{}) {
			return nil, nil
		}
		return &w, nil
	})
}

// setBands makes the side of a place wider or narrower by band: a shelf under a corner, another over one.
func (h *handlers) setBands(c *gin.Context) {
	h.WorkOut(c, "width", "side", func(song *session.Song) (session.Edit, error) {
		at := atOf(c.PostForm("at"))
		chain, name := song.Chain(at)
		if chain == nil {
			return nil, shell.BadInput("side", errors.New("that place is no longer there"))
		}
		e := session.Together{Said: name + ": its width by band"}
		for _, s := range shelves(chain) {
			was := s
			for name, to := range map[string]*float64{s.Name: &s.DB, s.Name + "_hz": &s.Hz} {
				text, ok := c.GetPostForm(name)
				if !ok {
					continue
				}
				var err error
				if *to, err = field.Number(text, map[bool]string{true: "Hz", false: "dB"}[to == &s.Hz]); err != nil {
					return nil, shell.BadInput("side", fmt.Errorf("the side's shelf %w", err))
				}
			}
			switch p := (&move.MidSide{Channels: "side", Shape: s.Shape, Hz: s.Hz, DB: s.DB, Q: 0.7}); {
			case s == was:
			case s.DB == 0 && chain.Move(s.ID) != nil:
				e.Edits = append(e.Edits, session.DropMove{At: at, ID: s.ID})
			case s.DB != 0:
				if err := move.Validate(p); err != nil {
					return nil, shell.BadInput("side", err)
				}
				e.Edits = append(e.Edits, session.SetMove{At: at, Move: move.Move{ID: s.ID, Params: p, Why: "wider or narrower by band"}})
			}
		}
		return e, nil
	})
}

// setAlign lines the channels of a place up, or takes that out.
func (h *handlers) setAlign(c *gin.Context) {
	h.put(c, session.WidthAlign, "its channels stand apart", func(song *session.Song) (move.Params, error) {
		if c.PostForm("out") != "" {
			return nil, nil
		}
		b, err := h.Bench(c.Request.Context(), song)
		if err != nil {
			return nil, err
		}
		r, err := width.Between(c.Request.Context(), b, atOf(c.PostForm("at")))
		if err != nil {
			return nil, err
		}
		a := r.Align()
		if a == nil {
			return nil, errors.New("its channels are neither apart in time nor upside down")
		}
		return a, nil
	})
}

// pairView is two stems panned against each other.
type pairView struct {
	*shell.View
	Stems2 []session.Stem // what may be panned
	A, B   string
	Pan    float64 // per cent
	Row    *width.Row
	Wrong  string
}

// panOf reads how far a pair is panned, per cent.
func panOf(text string) (float64, error) {
	if strings.TrimSpace(text) == "" {
		return 50, nil
	}
	p, err := field.Number(text, "%")
	if err != nil {
		return 0, fmt.Errorf("the pan %w", err)
	}
	if !(p >= 0 && p <= 100) {
		return 0, fmt.Errorf("a pan of %g %% is out of bounds; 0 to 100 are taken", p)
	}
	return p, nil
}

// pair answers with what mono costs two stems that are panned against each other.
func (h *handlers) pair(c *gin.Context) {
	v := h.Look(c, "width")
	if v == nil {
		return
	}
	out := pairView{View: v, A: c.Query("a"), B: c.Query("b")}
	for _, st := range v.Stems {
		if !st.Mute && st.Role != session.Kick && st.Role != session.Bass {
			out.Stems2 = append(out.Stems2, st)
		}
	}
	var err error
	if out.Pan, err = panOf(c.Query("pan")); err != nil {
		out.Wrong, out.Pan = shell.Sentence(err.Error()), 50
	}
	if len(out.Stems2) >= 2 {
		if out.A == "" {
			out.A, out.B = out.Stems2[0].ID, out.Stems2[1].ID
		}
		if out.Row, err = width.PanPair(c.Request.Context(), v.Bench, out.A, out.B, out.Pan/100); err != nil {
			h.FailWith(c, err)
			return
		}
	}
	status := http.StatusOK
	if out.Wrong != "" {
		status = http.StatusUnprocessableEntity
	}
	h.Write(c, status, "widthpair", out)
}

// setPair pans two stems against each other.
func (h *handlers) setPair(c *gin.Context) {
	h.WorkOut(c, "width", "side", func(song *session.Song) (session.Edit, error) {
		pan, err := panOf(c.PostForm("pan"))
		if err != nil {
			return nil, shell.BadInput("side", err)
		}
		a, b := song.Stem(c.PostForm("a")), song.Stem(c.PostForm("b"))
		if a == nil || b == nil || a.ID == b.ID {
			return nil, shell.BadInput("side", errors.New("choose two stems"))
		}
		return session.PanPair{Left: a.ID, Right: b.ID, Pan: pan / 100}, nil
	})
}

// setLow sets how wide kick or bass are.
func (h *handlers) setLow(c *gin.Context) {
	h.WorkOut(c, "width", "side", func(song *session.Song) (session.Edit, error) {
		role := session.Role(c.PostForm("role"))
		if role != session.Kick && role != session.Bass {
			return nil, shell.BadInput("side", errors.New("kick or bass is asked"))
		}
		for _, w := range lowWidths {
			if w.Label == c.PostForm("width") {
				e := session.SetStemWidth{Width: w.Width, Said: fmt.Sprintf("The %s: %s", role, w.Label)}
				for _, st := range song.ByRole(role) {
					e.Stems = append(e.Stems, st.ID)
				}
				return e, nil
			}
		}
		return nil, shell.BadInput("side", errors.New("there is no such width"))
	})
}

var errAllSafe = errors.New("all stems stand mono already, or no corner makes them")

// allSafe cuts the side of every stem that does not stand mono, as one edit.
func (h *handlers) allSafe(c *gin.Context) {
	h.WorkOut(c, "width", "side", func(song *session.Song) (session.Edit, error) { return h.safe(c.Request.Context(), song) })
}

func (h *handlers) safe(ctx context.Context, song *session.Song) (session.Edit, error) {
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	e, _, err := width.AllSafe(ctx, b)
	switch {
	case err != nil:
		return nil, err
	case e == nil:
		return nil, shell.BadInput("side", errAllSafe)
	}
	return e, nil
}

// setRules sets what Width goes by.
func (h *handlers) setRules(c *gin.Context) {
	h.WorkOut(c, "width", "rules", func(song *session.Song) (session.Edit, error) {
		r := song.WidthRules()
		if err := field.Read(r.Fields(), c.GetPostForm); err != nil {
			return nil, shell.BadInput("rules", err)
		}
		return session.SetWidth{Width: r}, nil
	})
}

// settings sends what Width's moves are, in general terms, to be set by hand elsewhere.
func (h *handlers) settings(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	f, err := export.WidthSettings(&song.Song)
	h.Send(c, f, err)
}

// try works out what is heard before it is made.
func (h *handlers) try(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error) {
	if t.Is("all", 0) {
		return h.safe(ctx, &song.Song)
	}
	return nil, &shell.InputError{Field: "side", Sentence: "There is nothing of that name to hear."}
}
