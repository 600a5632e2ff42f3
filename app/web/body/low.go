package body

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/body"
	"mellowthump/core/field"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// underRow is a way to put more under the kick.
type underRow struct {
	*body.Under
	Key, Label, Unit string
	Asked            float64
	Values           string
	On               bool
	Step             string
}

// lowView is what may be put under the kick, and how the notes of the bass may fall.
type lowView struct {
	*shell.View
	Under   []underRow
	Law     move.Drop
	Fields  []field.Field
	Fall    *body.Fall
	Falls   bool // a drop is in
	Wrong   string
	Try     string // what the deck tries of the fall
	Values  string
	HasBass bool
}

// low answers with what may be put under the kick, and with a fall of the bass's notes.
func (h *handlers) low(c *gin.Context) {
	v := h.Look(c, "body")
	if v == nil {
		return
	}
	ctx := c.Request.Context()
	out := lowView{View: v, HasBass: len(v.Song.ByRole(session.Bass)) > 0}
	for _, u := range []underRow{{Key: "tone", Label: "A tone an octave under it, under its peak by", Unit: "dB", Asked: body.SubUnder, Step: "1"}, {Key: "lift",
		Label: "A boost at its pitch of", Unit: "dB", Asked: body.LiftBy, Step: "0.5"}} {
		asked, err := dbAsked(c.Query(u.Key), u.Asked)
		if err != nil {
			out.Wrong = shell.Sentence(err.Error())
			asked = u.Asked
		}
		u.Asked = asked
		if u.Under, err = body.UnderOn(ctx, v.Bench, asked, u.Key == "lift"); err != nil {
			h.FailWith(c, err)
			return
		}
		if u.Under == nil {
			continue
		}
		st := v.Stem(u.Stem)
		u.Values, u.On = st.Name+": "+move.Words(u.Move), st.Move(u.ID) != nil
		out.Under = append(out.Under, u)
	}
	law, err := readLaw(func(name string) (string, bool) { q, ok := c.GetQuery(name); return q, ok })
	if err != nil {
		out.Wrong = shell.Sentence(err.Error())
		law = *move.KindOf("drop").New().(*move.Drop)
	}
	out.Law, out.Try = law, lawKey(law)
	out.Fields = out.Law.Fields()
	if len(v.Bench.Line()) > 0 {
		if out.Fall, err = body.FallOn(ctx, v.Bench, law); err != nil {
			h.FailWith(c, err)
			return
		}
	}
	if out.Fall != nil {
		out.Values = v.BassName() + ": " + move.Words(out.Fall.Move)
	}
	for _, st := range v.Song.ByRole(session.Bass) {
		out.Falls = out.Falls || st.Move(session.BodyFall) != nil
	}
	status := http.StatusOK
	if out.Wrong != "" {
		status = http.StatusUnprocessableEntity
	}
	h.Write(c, status, "bodylow", out)
}

// dbAsked reads a level; an empty text is the usual.
func dbAsked(text string, usual float64) (float64, error) {
	if strings.TrimSpace(text) == "" {
		return usual, nil
	}
	v, err := field.Number(text, "dB")
	if err != nil {
		return 0, fmt.Errorf("the level %w", err)
	}
	if !(v >= 0 && v <= 24) {
		return 0, fmt.Errorf("a level of %g dB is out of bounds; 0 to 24 are taken", v)
	}
	return v, nil
}

// readLaw reads how notes fall.
func readLaw(form func(string) (string, bool)) (move.Drop, error) {
	law := move.KindOf("drop").New().(*move.Drop)
	err := move.Read(law, form)
	return *law, err
}

// lawKey names a law in an address, lawOf reads it.
func lawKey(d move.Drop) string {
	q := url.Values{}
	for _, f := range d.Fields() {
		q.Set(f.Name, f.String())
	}
	return q.Encode()
}

func lawOf(key string) (move.Drop, error) {
	q, err := url.ParseQuery(key)
	if err != nil {
		return move.Drop{}, err
	}
	return readLaw(func(name string) (string, bool) { return q.Get(name), q.Has(name) })
}

// under puts more under the kick, or takes it out.
func (h *handlers) under(c *gin.Context) {
	h.WorkOut(c, "body", "low", func(song *session.Song) (session.Edit, error) {
		key := c.PostForm("key")
		if c.PostForm("out") != "" {
			id := map[string]string{"tone": session.BodySub, "lift": session.BodyLift}[key]
			e := session.Together{Said: "Nothing more is put under the kick"}
			for _, st := range song.ByRole(session.Kick) {
				if id != "" && st.Move(id) != nil {
					e.Edits = append(e.Edits, session.DropMove{At: session.At{Stem: st.ID}, ID: id})
				}
			}
			return e, nil
		}
		return h.undered(c.Request.Context(), song, key, c.PostForm("db"))
	})
}

func (h *handlers) undered(ctx context.Context, song *session.Song, key, db string) (session.Edit, error) {
	usual, ok := map[string]float64{"tone": body.SubUnder, "lift": body.LiftBy}[key]
	if !ok {
		return nil, shell.BadInput("low", errors.New("there is nothing of that name to put under the kick"))
	}
	asked, err := dbAsked(db, usual)
	if err != nil {
		return nil, shell.BadInput("low", err)
	}
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	u, err := body.UnderOn(ctx, b, asked, key == "lift")
	switch {
	case err != nil:
		return nil, err
	case u == nil:
		return nil, shell.BadInput("low", errors.New("there is no kick with a pitch to put it under"))
	}
	return u.Edit(), nil
}

// fall lets the notes of the bass fall, or takes that out.
func (h *handlers) fall(c *gin.Context) {
	h.WorkOut(c, "body", "low", func(song *session.Song) (session.Edit, error) {
		if c.PostForm("out") != "" {
			e := session.Together{Said: "The notes of the bass do not fall any more"}
			for _, st := range song.ByRole(session.Bass) {
				if st.Move(session.BodyFall) != nil {
					e.Edits = append(e.Edits, session.DropMove{At: session.At{Stem: st.ID}, ID: session.BodyFall})
				}
			}
			return e, nil
		}
		law, err := readLaw(func(name string) (string, bool) { return c.GetPostForm(name) })
		if err != nil {
			return nil, shell.BadInput("low", err)
		}
		return h.fallen(c.Request.Context(), song, law)
	})
}

func (h *handlers) fallen(ctx context.Context, song *session.Song, law move.Drop) (session.Edit, error) {
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	f, err := body.FallOn(ctx, b, law)
	switch {
	case err != nil:
		return nil, err
	case f == nil:
		return nil, shell.BadInput("low", errors.New("there are no notes of a bass that could fall"))
	}
	return f.Edit(song), nil
}

// glueView is what holds a bus or the mix together.
type glueView struct {
	*shell.View
	Places []placeOf
	At     session.At
	Glue   *body.Glued
	Glued  bool
	Depth  float64
	Bands  *body.Banded
	Banded bool
	Wrong  string
	Values [2]string
}

type placeOf struct {
	At   session.At
	Name string
}

// placesOf are the buses, the mix and the parts.
func placesOf(song *session.Song) []placeOf {
	var out []placeOf
	all := song.Places()
	for _, at := range append(all[len(song.Stems):], all[:len(song.Stems)]...) {
		if st := song.Stem(at.Stem); st != nil && st.Mute {
			continue
		}
		_, name := song.Chain(at)
		out = append(out, placeOf{at, name})
	}
	return out
}

// glue answers with what would hold a place together.
func (h *handlers) glue(c *gin.Context) {
	v := h.Look(c, "body")
	if v == nil {
		return
	}
	ctx := c.Request.Context()
	out := glueView{View: v, Places: placesOf(&v.Song.Song), Depth: body.BandsDepth}
	out.At = out.Places[0].At
	if at := c.Query("at"); at != "" {
		out.At = session.ParseAt(at)
	}
	chain, _ := v.Song.Chain(out.At)
	if chain == nil {
		h.Fail(c, http.StatusNotFound, "That place is no longer there.")
		return
	}
	out.Glued, out.Banded = chain.Move(session.BodyGlue) != nil, chain.Move(session.BodyBands) != nil
	depth, err := depthAsked(c.Query("depth"))
	if err != nil {
		out.Wrong, depth = shell.Sentence(err.Error()), body.BandsDepth
	}
	out.Depth = depth
	if out.Glue, err = body.GlueOn(ctx, v.Bench, out.At); err == nil {
		out.Bands, err = body.BandsOn(ctx, v.Bench, out.At, depth)
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	if out.Glue != nil {
		out.Values[0] = out.Glue.Name + ": " + move.Words(out.Glue.Move)
	}
	if out.Bands != nil {
		out.Values[1] = out.Bands.Name + ": " + move.Words(out.Bands.Move)
	}
	status := http.StatusOK
	if out.Wrong != "" {
		status = http.StatusUnprocessableEntity
	}
	h.Write(c, status, "bodyglue", out)
}

func depthAsked(text string) (float64, error) {
	if strings.TrimSpace(text) == "" {
		return body.BandsDepth, nil
	}
	v, err := field.Number(text, "%")
	if err != nil {
		return 0, fmt.Errorf("the depth %w", err)
	}
	if !(v >= 0 && v <= 100) {
		return 0, fmt.Errorf("a depth of %g %% is out of bounds; 0 to 100 are taken", v)
	}
	return v, nil
}

// putGlue puts what holds a place together in, or takes it out.
func (h *handlers) putGlue(c *gin.Context) {
	h.WorkOut(c, "body", "glue", func(song *session.Song) (session.Edit, error) {
		what, at := c.PostForm("what"), session.ParseAt(c.PostForm("at"))
		if id := map[string]string{"glue": session.BodyGlue, "bands": session.BodyBands}[what]; c.PostForm("out") != "" && id != "" {
			return session.DropMove{At: at, ID: id}, nil
		}
		return h.glued(c.Request.Context(), song, what, at, c.PostForm("depth"))
	})
}

func (h *handlers) glued(ctx context.Context, song *session.Song, what string, at session.At, depth string) (session.Edit, error) {
	if chain, _ := song.Chain(at); chain == nil || what != "glue" && what != "bands" {
		return nil, shell.BadInput("glue", errors.New("that place is no longer there"))
	}
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	return gluedBy(ctx, b, what, at, depth)
}

func gluedBy(ctx context.Context, b *bench.Bench, what string, at session.At, depth string) (session.Edit, error) {
	if what == "glue" {
		g, err := body.GlueOn(ctx, b, at)
		if err == nil && g == nil {
			err = shell.BadInput("glue", errors.New("nothing sounds there that could be held together"))
		}
		if err != nil {
			return nil, err
		}
		return g.Edit(), nil
	}
	asked, err := depthAsked(depth)
	if err != nil {
		return nil, shell.BadInput("glue", err)
	}
	g, err := body.BandsOn(ctx, b, at, asked)
	if err == nil && g == nil {
		err = shell.BadInput("glue", errors.New("nothing sounds there that could be held together"))
	}
	if err != nil {
		return nil, err
	}
	return g.Edit(), nil
}
