// Package compare is the stage Compare in the browser: how does it stand against a finished track?
package compare

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"math"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/compare"
	"mellowthump/core/export"
	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

//go:embed *.html *.css *.js
var files embed.FS

type handlers struct{ *shell.Server }

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Stage: &compare.Stage,
		Files: []fs.FS{files},
		Sheet: h.sheet,
		Try:   h.try,
		Routes: func(g *gin.RouterGroup) {
			g.GET("/compare/with", h.Whole, h.with)
			g.POST("/compare/match", h.LimitForm, h.setMatch)
			g.POST("/compare/stretch", h.LimitForm, h.setStretch)
			g.POST("/compare/judge", h.LimitForm, h.judgeBy)
			g.POST("/compare/rules", h.LimitForm, h.setRules)
			g.GET("/compare/devices", h.Whole, h.devices)
			g.GET("/compare/set", h.set)
			g.POST("/compare/set/:do", h.LimitForm, h.keep)
			g.GET("/compare/ears", h.ears)
			g.POST("/compare/ears", h.LimitForm, h.begin)
			g.POST("/compare/ears/answer", h.LimitForm, h.answer)
			g.GET("/compare/ears/:token/:trial/:which", h.blindSound)
			g.GET("/compare/drills", h.drills)
			g.POST("/compare/drills", h.LimitForm, h.ask)
			g.POST("/compare/drills/answer", h.LimitForm, h.answerDrill)
			g.GET("/compare/drill/:token/:which", h.drillSound)
			g.GET("/compare/settings.txt", h.settings)
		},
		Scripts: []string{"ears.js"},
	}
}

type sheet struct {
	*shell.View
	Rules  session.Compare
	Moved  []*shell.Chain
	Others []*shell.Chain
	Away   bool
	Blind  string // two revisions that are to be tested blind, as the log's takes lead here: "12-17"
}

func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	out := &sheet{View: v, Rules: v.CompareRules()}
	if a, b, ok := blindOf(c.Request.URL.Query().Get("blind")); ok {
		out.Blind = fmt.Sprintf("%d-%d", a, b)
	}
	v.Lead = "Drop finished tracks of your own: the song stands above each, both at one loudness."
	if len(v.Stems) == 0 {
		v.Lead = v.Trouble
		return out, nil
	}
	out.Moved, out.Others, out.Away, _ = v.ChainsOf(session.OfCompare)
	return out, nil
}

// withView is the song against a finished track.
type withView struct {
	*shell.View
	Ref       *session.Reference // nil: there is none
	Song, Now compare.Sound      // without the match, and as it is
	Other     compare.Sound
	Off       compare.Comparison // of the song as it is
	Before    compare.Comparison
	Picture   template.HTML
	Says      string
	Amount    float64 // per cent
	Limit     float64 // dB
	Filters   []*move.Filter
	Residual  float64
	Values    string
	On        bool // a match is on the master
	Trouble2  string
	Wrong     string
	Bands     []bandRow
	Kick      compare.FreeKick // the song's own
	Free      compare.FreeKick // of the finished track; a count of 0: none stands free
	Stretch   stretchView
	Judged    bool // the song is judged by it
}

// pick returns the reference with an id, or the first; nil where there is none.
func pick(song *session.Song, id string) *session.Reference {
	for i := range song.References {
		if r := &song.References[i]; r.ID == id || id == "" {
			return r
		}
	}
	return nil
}

// asked reads how much of a difference is to be matched, per cent, and by how many dB at most.
func asked(amount, limit string) (float64, float64, error) {
	a, l := 100*compare.Amount, compare.Limit
	for _, f := range []struct {
		text, name, unit string
		to               *float64
		lo, hi           float64
	}{{amount, "amount", "%", &a, 0, 100}, {limit, "limit", "dB", &l, 0.5, 12}} {
		if strings.TrimSpace(f.text) == "" {
			continue
		}
		v, err := field.Number(f.text, f.unit)
		if err != nil {
			return a, l, fmt.Errorf("the %s %w", f.name, err)
		}
		if !(v >= f.lo && v <= f.hi) {
			return a, l, fmt.Errorf("the %s of %g %s is out of bounds; %g to %g are taken", f.name, v, f.unit, f.lo, f.hi)
		}
		*f.to = v
	}
	return a, l, nil
}

// with answers with the song against a finished track.
func (h *handlers) with(c *gin.Context) {
	v := h.Look(c, "compare")
	if v == nil {
		return
	}
	out := withView{View: v, Ref: pick(&v.Song.Song, c.Query("ref"))}
	if out.Ref == nil {
		out.Ref = pick(&v.Song.Song, "") // the one that was asked for is gone
	}
	var err error
	if out.Amount, out.Limit, err = asked(c.Query("amount"), c.Query("limit")); err != nil {
		out.Wrong = shell.Sentence(err.Error())
	}
	if out.Ref != nil {
		err := h.compared(c, &out)
		switch {
		case errors.Is(err, compare.ErrSilent):
			out.Trouble2 = shell.Sentence(err.Error())
		case err != nil:
			h.FailWith(c, err)
			return
		}
	}
	if out.Judged = out.Ref != nil && out.Ref.ID == v.Song.References[0].ID; out.Judged && out.Trouble2 == "" {
		if err := h.JudgeLater(c, v); err != nil {
			h.FailWith(c, err)
			return
		}
	}
	status := http.StatusOK
	if out.Wrong != "" {
		status = http.StatusUnprocessableEntity
	}
	h.Write(c, status, "comparewith", out)
}

func (h *handlers) compared(c *gin.Context, out *withView) error {
	ctx, v := c.Request.Context(), out.View
	var err error
	if out.Song, out.Now, err = compare.MixSound(ctx, v.Bench); err != nil {
		return fmt.Errorf("the song: %w", err)
	}
	if out.Other, err = compare.ReferenceSound(ctx, v.Bench, *out.Ref); err != nil {
		return fmt.Errorf("%s: %w", out.Ref.Name, err)
	}
	out.Before, out.Off = compare.Against(out.Song, out.Other), compare.Against(out.Now, out.Other)
	out.Filters, out.Residual = out.Before.Match(out.Amount/100, out.Limit)
	var values []string
	for _, f := range out.Filters {
		values = append(values, move.Words(f))
	}
	out.Values = "Master: " + strings.Join(values, "; ")
	for _, m := range v.Song.Master.Moves {
		out.On = out.On || session.OfCompare(m)
	}
	out.Picture = plot.SongOverReference(
		plot.Against{Song: out.Now, Reference: out.Other, Off: out.Off.Bands, Name: out.Ref.Name, Tolerance: v.Song.CompareRules().Tolerance},
	)
	turns, err := compare.TurnsOn(ctx, v.Bench, *out.Ref)
	if err != nil {
		return err
	}
	out.Says = sentence(turns, out.Off, out.Ref.Name)
	if out.Kick, out.Free, err = compare.KicksOn(ctx, v.Bench, *out.Ref); err != nil {
		return err
	}
	out.Bands = bandRows(out.Now, out.Other, out.Kick, out.Free)
	out.Stretch, err = h.stretch(c, *out.Ref)
	return err
}

// sentence names where the song differs most, smoothed over an octave, who carries that band, and by how much it would have to be turned.
func sentence(turns []compare.Turned, c compare.Comparison, name string) string {
	if len(turns) == 0 {
		most := -1.0
		for _, s := range c.Smoothed() {
			if s.Off.Valid() {
				most = math.Max(most, math.Abs(float64(s.Off)))
			}
		}
		if most < 0 {
			return "Nothing sounds in both."
		}
		return fmt.Sprintf("Over an octave the song stays within %s dB of %s everywhere.", figure.Short(math.Ceil(most*10)/10), name)
	}
	t := turns[0]
	more, turn := "more", "down"
	if t.Off < 0 {
		more, turn = "less", "up"
	}
	out := fmt.Sprintf("Most about %s: the song has %s dB %s than %s.", compare.SaidHz(t.Hz), figure.Short(math.Abs(t.Off)), more, name)
	switch {
	case t.Edit != nil:
		out += fmt.Sprintf(
			" %s carries that band: %s by %s dB it is off by %s.",
			t.Stem.Name,
			turn,
			figure.Short(math.Abs(t.DB)),
			figure.Short(math.Abs(float64(t.Left))),
		)
	case t.Stem != nil:
		out += fmt.Sprintf(" %s carries that band, but nothing of it is free to be turned.", t.Stem.Name)
	default:
		out += " No stem alone carries that band."
	}
	return out
}

// bandRow is a part of the sound of both.
type bandRow struct {
	Name, Unit, Def  string
	Decimals         int
	Song, Other, Off meter.Figure
}

// bandRows are the parts of the spectrum that the deck plays too, about the loudness of each, and the kick alone where the
// finished track leaves one free.
func bandRows(song, other compare.Sound, own, free compare.FreeKick) []bandRow {
	var out []bandRow
	row := func(name, unit, def string, decimals int, a, b meter.Figure) {
		out = append(out, bandRow{name, unit, def, decimals, a, b, a - b})
	}
	for _, t := range compare.Throughs {
		if t.Group == "band" {
			lo, hi := t.Ends()
			row(t.Name, "dB", "", 1, song.Between(lo, hi), other.Between(lo, hi))
		}
	}
	if own.Count == 0 || free.Count == 0 {
		return out
	}
	row("kick alone", "dB", "freekick", 1, own.Weight, free.Weight)
	row("its tone over its click", "dB", "", 1, own.Tone, free.Tone)
	row("it settles at", "Hz", "", 0, own.Hz, free.Hz)
	row("20 dB down after", "ms", "", 0, own.Length, free.Length)
	return out
}

// setMatch puts the partial match on the master, or takes it out.
func (h *handlers) setMatch(c *gin.Context) {
	h.WorkOut(c, "compare", "match", func(song *session.Song) (session.Edit, error) {
		if c.PostForm("out") != "" {
			return session.Match{}, nil
		}
		return h.matched(c.Request.Context(), song, c.PostForm("ref"), c.PostForm("amount"), c.PostForm("limit"))
	})
}

func (h *handlers) matched(ctx context.Context, song *session.Song, ref, amount, limit string) (session.Edit, error) {
	r := pick(song, ref)
	if r == nil {
		return nil, shell.BadInput("match", errGone)
	}
	a, l, err := asked(amount, limit)
	if err != nil {
		return nil, shell.BadInput("match", err)
	}
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	before, _, err := compare.MixSound(ctx, b)
	var other compare.Sound
	if err == nil {
		other, err = compare.ReferenceSound(ctx, b, *r)
	}
	if errors.Is(err, compare.ErrSilent) {
		return nil, shell.BadInput("match", err)
	}
	if err != nil {
		return nil, err
	}
	filters, _ := compare.Against(before, other).Match(a/100, l)
	if len(filters) == 0 {
		return nil, shell.BadInput("match", errors.New("there is nothing to match"))
	}
	return session.Match{Filters: filters, Why: fmt.Sprintf("%.0f %% nearer to %s", a, r.Name)}, nil
}

// setRules sets what Compare goes by.
func (h *handlers) setRules(c *gin.Context) {
	h.WorkOut(c, "compare", "rules", func(song *session.Song) (session.Edit, error) {
		r := song.CompareRules()
		if err := field.Read(r.Fields(), c.GetPostForm); err != nil {
			return nil, shell.BadInput("rules", err)
		}
		return session.SetCompare{Compare: r}, nil
	})
}

// settings sends the match in general terms.
func (h *handlers) settings(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	f, err := export.CompareSettings(&song.Song)
	h.Send(c, f, err)
}

// try works out the match that is heard before it is made: "match:amount:limit:reference".
func (h *handlers) try(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error) {
	if !t.Is("match", 3) {
		return nil, &shell.InputError{Field: "match", Sentence: "There is nothing of that name to hear."}
	}
	return h.matched(ctx, &song.Song, t.Args[2], t.Args[0], t.Args[1])
}
