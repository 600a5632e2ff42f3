package body

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/body"
	"mellowthump/core/export"
	"mellowthump/core/session"
)

// stackRow is the layers of a drum, with what is in.
type stackRow struct {
	*body.Stack
	On     bool // they hand over
	Values string
	Layers []layerRow
}

// Key is the role in addresses.
func (s stackRow) Key() string { return string(s.Role) }

type layerRow struct {
	body.LayerOf
	Beats string // on which it sounds; empty: at every hit
}

// layersView is the layers of all drums.
type layersView struct {
	*shell.View
	Stacks []stackRow
	Beats  any
}

// layers answers with who carries which band.
func (h *handlers) layers(c *gin.Context) {
	v := h.Look(c, "body")
	if v == nil {
		return
	}
	out := layersView{View: v, Beats: body.Beats}
	for _, role := range body.LayeredRoles {
		s, err := body.StackOn(c.Request.Context(), v.Bench, role)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		if s == nil {
			continue
		}
		row := stackRow{Stack: s, Values: fmt.Sprintf("%s: low source low-pass, others high-pass at %.0f Hz, 24 dB per octave", s.Name, s.Corner)}
		for _, l := range s.Layers {
			of := layerRow{LayerOf: l}
			if m := l.Stem.Move(session.BodyBeats); m != nil && !m.Off {
				for _, b := range body.Beats {
					if strings.Contains(m.Why, b.Label) {
						of.Beats = b.Key
					}
				}
			}
			row.On = row.On || l.Stem.Move(session.BodyHand) != nil
			row.Layers = append(row.Layers, of)
		}
		out.Stacks = append(out.Stacks, row)
	}
	h.Write(c, http.StatusOK, "bodylayers", out)
}

// hand lets the layers of a drum hand over, or takes that out.
func (h *handlers) hand(c *gin.Context) {
	h.WorkOut(c, "body", "layers", func(song *session.Song) (session.Edit, error) {
		role := session.Role(c.PostForm("role"))
		if c.PostForm("out") != "" {
			e := session.Together{Said: "The layers of the " + string(role) + " do not hand over any more"}
			for _, st := range song.ByRole(role) {
				for _, id := range []string{session.BodyHand, session.BodyTurn} {
					if st.Move(id) != nil {
						e.Edits = append(e.Edits, session.DropMove{At: session.At{Stem: st.ID}, ID: id})
					}
				}
			}
			return e, nil
		}
		return h.handed(c.Request.Context(), song, role)
	})
}

func (h *handlers) handed(ctx context.Context, song *session.Song, role session.Role) (session.Edit, error) {
	if !slices.Contains(body.LayeredRoles, role) {
		return nil, shell.BadInput("layers", errors.New("there are no such layers"))
	}
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	s, err := body.StackOn(ctx, b, role)
	switch {
	case err != nil:
		return nil, err
	case s == nil:
		return nil, shell.BadInput("layers", errors.New("there are no such layers"))
	case s.Corner == 0:
		return nil, shell.BadInput("layers", errors.New("there is no corner at which they would agree better"))
	}
	return s.Edit(), nil
}

// beats lets a layer sound on chosen beats alone.
func (h *handlers) beats(c *gin.Context) {
	h.WorkOut(c, "body", "layers", func(song *session.Song) (session.Edit, error) {
		st, key := song.Stem(c.PostForm("stem")), c.PostForm("beats")
		if st == nil {
			return nil, shell.BadInput("layers", errors.New("that layer is no longer there"))
		}
		at := session.At{Stem: st.ID}
		if key == "" {
			return session.DropMove{At: at, ID: session.BodyBeats}, nil
		}
		b, err := h.Bench(c.Request.Context(), song)
		if err != nil {
			return nil, err
		}
		e, err := body.BeatsOn(b, st, key)
		switch {
		case err != nil:
			return nil, err
		case e == nil:
			return nil, shell.BadInput("layers", fmt.Errorf("%s has no hit there", st.Name))
		}
		return e, nil
	})
}

// shot sends one hit of a part, for a sampler.
func (h *handlers) shot(c *gin.Context) {
	v := h.Look(c, "body")
	if v == nil {
		return
	}
	p, ok := body.Of(&v.Song.Song, c.Query("part"))
	if !ok {
		h.Fail(c, http.StatusNotFound, "That part is no longer there.")
		return
	}
	item := -1
	if text := c.Query("hit"); text != "" {
		n, err := strconv.Atoi(text)
		if err != nil || n < 0 {
			h.Fail(c, http.StatusUnprocessableEntity, "That is none of its hits.")
			return
		}
		item = n
	}
	s, err := body.ShotOn(c.Request.Context(), v.Bench, p, item)
	if errors.Is(err, body.ErrNoShot) {
		h.Fail(c, http.StatusConflict, shell.Sentence(p.Name+": "+err.Error()))
		return
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.Send(c, export.Shot(p.Name, s), nil)
}

// shaping puts another way of shaping an attack into a part's chain: by bands, or in parallel.
func (h *handlers) shaping(c *gin.Context) {
	h.WorkOut(c, "body", "attack", func(song *session.Song) (session.Edit, error) {
		p, ok := body.Of(song, c.PostForm("part"))
		if !ok {
			return nil, shell.BadInput("attack", errors.New("there is no such part to shape"))
		}
		id := c.PostForm("id")
		e := body.Shaping(song, p, id)
		if e == nil {
			return nil, shell.BadInput("attack", errors.New("there is no such way to shape it"))
		}
		if c.PostForm("out") != "" {
			out := session.Together{Said: p.Name + ": taken out again"}
			for _, st := range p.Stems(song) {
				if st.Move(id) != nil {
					out.Edits = append(out.Edits, session.DropMove{At: session.At{Stem: st.ID}, ID: id})
				}
			}
			return out, nil
		}
		return e, nil
	})
}
