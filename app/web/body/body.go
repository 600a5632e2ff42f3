// Package body is the stage Body in the browser: does each hit weigh the same, and is the bass heard?
package body

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/body"
	"mellowthump/core/export"
	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

type handlers struct{ *shell.Server }

type sheet struct {
	*shell.View
	Picture template.HTML
	Rules   session.Body
	Rows    []body.Weighed // of kick and bass
	Moved   []*shell.Chain // of those that have moves of Body
	Others  []*shell.Chain
	Away    bool // moves of Body are on
	Back    bool // one of those stems has a new file
}

func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	out := &sheet{View: v, Rules: v.BodyRules()}
	if len(v.Stems) == 0 {
		v.Lead = v.Trouble
		return out, nil
	}
	p := plot.WeightPlot{From: float64(v.Win.From) / float64(v.Rate), To: float64(v.Win.To) / float64(v.Rate), Spread: out.Rules.Spread}
	var now []*body.Weights
	for _, part := range body.Parts(&v.Song.Song) {
		if !part.Low {
			continue
		}
		w, err := body.WeighOn(c.Request.Context(), v.Bench, part)
		if err != nil {
			return nil, err
		}
		out.Rows, now = append(out.Rows, w), append(now, w.Now)
		side := plot.WeightSide{Name: part.Name, Median: w.Now.Median}
		before := map[float64]meter.Figure{}
		for _, it := range w.Before.Items {
			before[it.At] = it.Weight
		}
		for _, it := range w.Now.Items {
			b := plot.WeightBar{At: it.At, End: it.End, Now: it.Weight, Before: meter.None, Place: v.Position(it.At)}
			if was, ok := before[it.At]; ok {
				b.Before = was
			}
			side.Bars = append(side.Bars, b)
		}
		if part.ID == body.Kick {
			p.Kick = side
		} else {
			p.Bass = side
		}
	}
	v.Lead = body.Sentence(now, out.Rules.Spread)
	p.Beats = v.Beats(p.From, p.To)
	out.Picture = plot.Weights(p)
	out.Moved, out.Others, out.Away, out.Back = v.ChainsOf(session.OfBody)
	return out, nil
}

// school is a row of the schools.
type school struct {
	*body.Steadied
	Label, Values string
	On            bool // it is what evens the part out now
}

// Own reports whether it is own gains.
func (s school) Own() bool { return s.School == body.Own }

// steadied answers with the schools for a part, and the findings.
// Long because the row of a part is worked out and drawn in one pass over what was measured.
func (h *handlers) steadied(c *gin.Context) {
	v := h.Look(c, "body")
	if v == nil {
		return
	}
	if len(v.Stems) == 0 {
		h.Fail(c, http.StatusConflict, shell.NoStems)
		return
	}
	type view struct {
		*shell.View
		Parts   []body.Part
		Part    body.Part
		Weighed body.Weighed
		Schools []school
		Shape   move.Attack // what shapes the part now
		Ways    []shapingRow
		Drum    bool
		Off     bool // the part may be let go of
		Rules   session.Body
	}
	out := view{View: v, Parts: body.Parts(&v.Song.Song), Rules: v.BodyRules()}
	id := c.Query("part")
	if id == "" && len(out.Parts) > 0 {
		id = h.widest(c, v, out.Parts)
	}
	var ok bool
	if out.Part, ok = body.Of(&v.Song.Song, id); !ok && id != "" {
		h.Fail(c, http.StatusNotFound, "That part is no longer there.")
		return
	}
	for _, st := range out.Part.Stems(&v.Song.Song) {
		if m := st.Move(session.BodyAttack); m != nil {
			if a, ok := m.Params.(*move.Attack); ok {
				out.Shape = *a
			}
		}
	}
	out.Drum = out.Part.Drum(&v.Song.Song)
	ctx := c.Request.Context()
	out.Ways = h.ways(c, v, out.Part)
	err := h.JudgeLater(c, v)
	if err == nil && ok {
		out.Weighed, err = body.WeighOn(ctx, v.Bench, out.Part)
	}
	for _, s := range body.Schools {
		if err != nil || !ok {
			break
		}
		var got *body.Steadied
		if got, err = body.SteadyOn(ctx, v.Bench, out.Part, s.School); got == nil || got.After == nil {
			continue
		}
		row := school{Steadied: got, Label: s.Label, Values: out.Part.Name + ": " + move.Words(got.Move)}
		for _, st := range out.Part.Stems(&v.Song.Song) {
			if m := st.Move(session.BodySteady); m != nil {
				out.Off = true
				row.On = row.On || m.Params.Kind() == got.Move.Kind()
			}
		}
		out.Schools = append(out.Schools, row)
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.Write(c, http.StatusOK, "bodysteady", out)
}

// shapingRow is another way to shape an attack: by bands, or in parallel.
type shapingRow struct {
	ID, Label, Says string
	On              bool
}

// ways are the other ways of shaping a part's attack, with what they come to where they are in.
func (h *handlers) ways(c *gin.Context, v *shell.View, p body.Part) []shapingRow {
	out := []shapingRow{{ID: session.BodyAttackBands, Label: "in three bands"}, {ID: session.BodyParallel, Label: "in parallel"}}
	for _, st := range p.Stems(&v.Song.Song) {
		for i := range out {
			m := st.Move(out[i].ID)
			if m == nil || out[i].On {
				continue
			}
			out[i].On, out[i].Says = true, move.Words(m.Params)
			if copied, ok := m.Params.(*move.Parallel); ok {
				if under, err := body.CopyUnder(c.Request.Context(), h.Renderer, &v.Song.Song, session.At{Stem: st.ID}, copied, v.Bench.Loop); err == nil && under.Valid() {
					out[i].Says += fmt.Sprintf("; the copy lies %s dB under the sound", figure.Short(float64(under)))
				}
			}
		}
	}
	return out
}

// widest is the part of kick and bass that is the furthest from even; the first of all where neither is there.
func (h *handlers) widest(c *gin.Context, v *shell.View, parts []body.Part) string {
	id, most := parts[0].ID, meter.Figure(-1)
	for _, p := range parts {
		if !p.Low {
			continue
		}
		if w, err := body.WeighOn(c.Request.Context(), v.Bench, p); err == nil && w.Before.Spread.Valid() && w.Before.Spread > most {
			id, most = p.ID, w.Before.Spread
		}
	}
	return id
}

// steady evens a part out by a school, or lets it go.
func (h *handlers) steady(c *gin.Context) {
	h.WorkOut(c, "body", "steady", func(song *session.Song) (session.Edit, error) {
		if c.PostForm("out") != "" {
			p, ok := body.Of(song, c.PostForm("part"))
			if !ok {
				return nil, shell.BadInput("steady", errNoPart)
			}
			var e session.Unsteady
			for _, st := range p.Stems(song) {
				e.Stems = append(e.Stems, st.ID)
			}
			return e, nil
		}
		return h.evened(c.Request.Context(), song, c.PostForm("part"), c.PostForm("school"))
	})
}

var errNoPart = errors.New("there is no such part to even out")

func (h *handlers) evened(ctx context.Context, song *session.Song, part, by string) (session.Edit, error) {
	p, ok := body.Of(song, part)
	if !ok || by != string(body.Own) && by != string(body.Compressor) {
		return nil, shell.BadInput("steady", errNoPart)
	}
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	s, err := body.SteadyOn(ctx, b, p, body.School(by))
	if err != nil {
		return nil, err
	}
	if s == nil || s.Move == nil {
		return nil, shell.BadInput("steady", fmt.Errorf("%s has fewer than two hits or notes here: there is nothing to even out", p.Name))
	}
	return s.Edit(song), nil
}

// shape raises or lowers the attack of a part, and what lasts of it.
func (h *handlers) shape(c *gin.Context) {
	h.WorkOut(c, "body", "attack", func(song *session.Song) (session.Edit, error) {
		p, ok := body.Of(song, c.PostForm("part"))
		if !ok {
			return nil, shell.BadInput("attack", errors.New("there is no such part to shape"))
		}
		var m move.Attack
		var err error
		if m.Attack, err = field.Number(c.PostForm("attack"), "dB"); err != nil {
			return nil, shell.BadInput("attack", fmt.Errorf("the attack %w", err))
		}
		if m.Sustain, err = field.Number(c.PostForm("sustain"), "dB"); err != nil {
			return nil, shell.BadInput("attack", fmt.Errorf("the sustain %w", err))
		}
		if err := move.Validate(&m); err != nil {
			return nil, shell.BadInput("attack", err)
		}
		return body.ShapeEdit(song, p, &m, ""), nil
	})
}

// setRules sets what Body goes by.
func (h *handlers) setRules(c *gin.Context) {
	h.WorkOut(c, "body", "rules", func(song *session.Song) (session.Edit, error) {
		r := song.BodyRules()
		if err := field.Read(r.Fields(), c.GetPostForm); err != nil {
			return nil, shell.BadInput("rules", err)
		}
		return session.SetBody{Body: r}, nil
	})
}

// settings sends what Body's moves are, in general terms, to be set by hand elsewhere.
func (h *handlers) settings(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	f, err := export.BodySettings(&song.Song)
	h.Send(c, f, err)
}

// try works out what is heard before it is made: a part evened out by a school.
func (h *handlers) try(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error) {
	s := &song.Song
	switch {
	case t.What == "fall":
		d, err := lawOf(strings.Join(t.Args, ":"))
		if err != nil {
			return nil, shell.BadInput("low", err)
		}
		return h.fallen(ctx, s, d)
	case t.Is("drive", 1):
		return h.driven(ctx, s, t.Args[0])
	case t.Is("lower", 1):
		return h.lowered(ctx, s, t.Args[0])
	case t.Is("layers", 1):
		return h.handed(ctx, s, session.Role(t.Args[0]))
	case t.Is("under", 2):
		return h.undered(ctx, s, t.Args[0], t.Args[1])
	case t.Is("glue", 3):
		return h.glued(ctx, s, t.Args[0], session.ParseAt(t.Args[2]), t.Args[1])
	case t.Is("steady", 2):
		return h.evened(ctx, s, t.Args[0], t.Args[1])
	}
	return nil, &shell.InputError{Field: "steady", Sentence: "There is nothing of that name to hear."}
}
