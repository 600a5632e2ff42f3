// Package width is the stage Width in the browser: is the low end mono, does anything cancel when summed?
package width

import (
	"fmt"
	"html/template"
	"net/http"
	"slices"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/core/width"
)

type handlers struct{ *shell.Server }

type place struct {
	At   session.At
	Name string
}

// sheet is one place between its channels.
type sheet struct {
	*shell.View
	Rules  session.Width
	Places []place
	At     session.At
	Row    width.Row
	Sides  template.HTML
	Track  template.HTML
	Side   float64 // Hz, the corner that is set; 0: none
	Mono   float64 // Hz, likewise
	Level  move.Width
	Bands  []shelf  // of the side
	Low    []lowRow // kick and bass
	Moved  []*shell.Chain
	Others []*shell.Chain
	Away   bool // moves of Width are on
	Back   bool // one of those stems has a new file
}

// shelf is a shelf on the side: width by band.
type shelf struct {
	ID, Name, Label string
	Shape           dsp.Shape
	Hz, DB          float64
}

// shelves are those of a place, as they are set.
func shelves(chain *move.Chain) []shelf {
	out := []shelf{{session.WidthUnder, "under", "side under", dsp.LowShelf, 300, 0}, {session.WidthOver, "over", "over", dsp.HighShelf, 3000, 0}}
	for i := range out {
		if m := chain.Move(out[i].ID); m != nil && !m.Off {
			if f, ok := m.Params.(*move.MidSide); ok {
				out[i].Hz, out[i].DB = f.Hz, f.DB
			}
		}
	}
	return out
}

// lowRow is the kick or the bass: how wide it is.
type lowRow struct {
	Role    session.Role
	Name    string
	Width   float64
	Mono    bool              // its files are
	Changes map[string]string // by the label of a width: what it changes
}

// changes measures what each width of a low part changes.
func (h *handlers) changes(c *gin.Context, v *shell.View, row *lowRow) error {
	row.Mono = true
	for _, st := range v.ByRole(row.Role) {
		row.Mono = row.Mono && v.Facts[st.Audio] != nil && v.Facts[st.Audio].Channels == 1
	}
	if row.Mono {
		return nil
	}
	solo := map[session.Role]mix.Solo{session.Kick: mix.SoloKick, session.Bass: mix.SoloBass}[row.Role]
	var was mix.Loud
	for i, w := range append(lowWidths[2:3:3], lowWidths[:2]...) {
		song := v.Song.Clone()
		for _, st := range song.ByRole(row.Role) {
			st.Width = w.Width
		}
		l, err := h.Renderer.Loudness(c.Request.Context(), &song, solo, v.Bench.Loop)
		if err != nil {
			return err
		}
		if i == 0 {
			was = l
			continue
		}
		if by := l.Integrated - was.Integrated; by.Valid() {
			row.Changes[w.Label] = fmt.Sprintf("%s LU, peak %s dB", figure.Plus(float64(by), 1), figure.Plus(float64(l.Peak-was.Peak), 1))
		}
	}
	return nil
}

// lowWidths are the ways in which a low part stands: -1 mono, 0 as it is.
var lowWidths = []struct {
	Label string
	Width float64
}{{"mono", -1}, {"narrow", -0.7}, {"as it is", 0}}

// Widths are the ways in which a low part stands.
func (s *sheet) Widths() any { return lowWidths }

// atOf is the place that a page or a form names.
func atOf(text string) session.At {
	if text == "" {
		return session.At{}
	}
	return session.ParseAt(text)
}

// sheet measures what the stage shows.
// Long because the page is filled in the order in which it is read.
func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	out := &sheet{View: v, Rules: v.WidthRules()}
	if len(v.Stems) == 0 {
		v.Lead = v.Trouble
		return out, nil
	}
	at := c.Request.URL.Query().Get("at") // not by gin's own cache: the line at the top reads it at the same time
	if at == "" && c.Request.Method == http.MethodPost {
		at = c.PostForm("at") // the edit has read it before
	}
	out.At = atOf(at)
	chain, _ := v.Song.Chain(out.At)
	if chain == nil {
		out.At = session.At{}
		chain, _ = v.Song.Chain(out.At)
	}
	for _, at := range width.Places(&v.Song.Song) {
		_, name := v.Song.Chain(at)
		out.Places = append(out.Places, place{at, name})
	}
	var err error
	if out.Row, err = width.Between(c.Request.Context(), v.Bench, out.At); err != nil {
		return nil, err
	}
	p := plot.WidthSides{Name: out.Row.Name, Now: out.Row.Now, Corner: out.Row.Corner, Target: out.Rules.Correlation,
		From: float64(v.Win.From) / float64(v.Rate), Length: float64(v.Win.Frames()) / float64(v.Rate)}
	for _, m := range *chain {
		switch w := m.Params.(type) {
		case *move.SideCut:
			if m.ID == session.WidthSide && !m.Off {
				out.Side, p.Corner, p.Set = w.Hz, w.Hz, true
			}
		case *move.MonoBelow:
			if m.ID == session.WidthMono && !m.Off {
				out.Mono = w.Hz
			}
		case *move.Width:
			if m.ID == session.WidthLevel && !m.Off {
				out.Level = *w
			}
		}
	}
	out.Bands = shelves(chain)
	v.Lead = out.Row.Says()
	if at, ok := out.Row.Now.Lowest(); ok && !out.Row.Now.Mono {
		v.Lead += " It is lowest at " + v.Position(p.From+at) + "."
	}
	p.Beats = v.Beats(p.From, p.From+p.Length)
	out.Sides, out.Track = plot.Sides(p), plot.Correlated(p)
	for _, role := range []session.Role{session.Kick, session.Bass} {
		if all := v.Song.ByRole(role); len(all) > 0 {
			name := map[session.Role]string{session.Kick: v.KickName(), session.Bass: v.BassName()}[role]
			row := lowRow{Role: role, Name: name, Width: all[0].Width, Changes: map[string]string{}}
			if err := h.changes(c, v, &row); err != nil {
				return nil, err
			}
			out.Low = append(out.Low, row)
		}
	}
	out.Moved, out.Others, out.Away, out.Back = v.ChainsOf(session.OfWidth)
	return out, nil
}

// rowsView is all places, and the findings.
type rowsView struct {
	*shell.View
	Rows   []width.Row
	Target float64
	Unsafe int // stems that the button would make safe
}

// rows answers with all places between their channels, those that lose most first, and with the findings.
func (h *handlers) rows(c *gin.Context) {
	v := h.Look(c, "width")
	if v == nil {
		return
	}
	if len(v.Stems) == 0 {
		h.Fail(c, http.StatusConflict, shell.NoStems)
		return
	}
	out := rowsView{View: v, Target: v.WidthRules().Correlation}
	err := h.JudgeLater(c, v)
	if err == nil {
		out.Rows, err = width.RowsOn(c.Request.Context(), v.Bench)
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	for _, r := range out.Rows {
		if r.At.Stem != "" && r.Corner > 0 && !r.Now.Safe(out.Target) {
			out.Unsafe++
		}
	}
	slices.SortStableFunc(out.Rows, func(a, b width.Row) int {
		rank := func(r width.Row) float64 {
			switch {
			case r.At.Stem == "": // the mix and the buses first
				return -1000
			case !r.LowSide.Valid():
				return 1000
			}
			return -float64(r.LowSide)
		}
		switch x, y := rank(a), rank(b); {
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	})
	h.Write(c, http.StatusOK, "widthrows", out)
}
