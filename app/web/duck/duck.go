// Package duck is the stage Duck in the browser: how does the bass get out of the way, and back?
package duck

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/hits"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/duck"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

type handlers struct{ *shell.Server }

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{s}
	const question = "How does the bass get out of the way, and back?"
	return &shell.Stage{
		Key: "duck", Name: "Duck", Question: question,
		Ask: func(v *shell.View) string {
			if v.BassLeads() {
				return strings.Replace(question, "the bass", "the kick", 1)
			}
			return question
		},
		Findings: func(c *gin.Context, b *bench.Bench) ([]find.Finding, error) { return b.Duck(c.Request.Context()) },
		Sheet:    h.sheet,
		Solos:    []mix.Solo{mix.SoloKey},
		Try:      h.try,
		Routes:   h.routes,
		Scripts:  []string{"duck.js"},
	}
}

func (h *handlers) routes(g *gin.RouterGroup) {
	g.POST("/duck/points", shell.LimitForm, h.setPoints)
	g.POST("/duck/preview", shell.LimitForm, h.previewPoints)
	g.POST("/duck/add", shell.LimitForm, h.addPoint)
	g.POST("/duck/remove", shell.LimitForm, h.removePoint)
	g.POST("/duck/fit", shell.LimitForm, h.fit)
	g.POST("/duck/targets", shell.LimitForm, h.setTargets)
	g.POST("/duck/switch", shell.LimitForm, h.switchDuck)
	g.POST("/duck/drop", shell.LimitForm, h.dropDuck)
	g.POST("/duck/keyed", shell.LimitForm, h.setKeyed)
	g.POST("/duck/per-note", shell.LimitForm, h.perNote)
	g.POST("/duck/handover", shell.LimitForm, h.setHandover)
	g.POST("/duck/stop-false", shell.LimitForm, h.stopFalse)
	g.POST("/duck/cell", shell.LimitForm, h.setCell)
	g.POST("/duck/trigger", shell.LimitForm, h.addTrigger)
	g.POST("/duck/main-trigger", shell.LimitForm, h.mainTrigger)
	g.POST("/duck/trigger/:trigger/remove", shell.LimitForm, h.removeTrigger)
	g.POST("/duck/hit", shell.LimitForm, h.setHit)
	g.POST("/duck/quiet", shell.LimitForm, h.setQuiet)
	g.GET("/duck/schools", h.schools)
	g.GET("/duck/back", h.cameBack)
	g.GET("/duck/cost", h.cost)
	g.GET("/duck/gain.mid", h.gainMIDI)
	g.GET("/duck/gain.wav", h.gainWAV)
	g.GET("/duck/click.wav", h.click)
	g.GET("/duck/settings.txt", h.settings)
	g.GET("/duck/curve.csv", h.curve)
	g.GET("/duck/ducked.wav", h.ducked)
	g.GET("/duck/hits.mid", h.hits)
}

type sheet struct {
	*shell.View
	Editor  template.HTML
	Strip   template.HTML
	Duck    *move.Duck // at tempo, on or off; nil where there is none
	Off     bool
	Why     string
	Named   string // what the duck works at
	Preview bool
	Worst   []meter.Hit // by their clearance
	School  string
	Unduck  mix.Loud // of everything without the ducks
}

// MixFreed is how far the ducks let the whole mix's peak fall: it may be raised by that.
func (out *sheet) MixFreed() meter.Figure { return out.Unduck.Peak - out.Levels.Peak }

func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	return h.drawn(c.Request.Context(), v)
}

// drawn measures and draws what the stage shows.
func (h *handlers) drawn(ctx context.Context, v *shell.View) (*sheet, error) {
	out := &sheet{View: v}
	need := v.NeedPair
	if v.BassLeads() {
		need = v.NeedAgreement
	}
	if err := need(ctx); err != nil {
		return nil, err
	}
	if v.State == nil {
		v.Lead = v.Trouble
		return out, nil
	}
	plain := v.Unducked()
	var err error
	if out.Unduck, err = h.Renderer.Loudness(ctx, &plain, mix.SoloAll, v.Win); err != nil {
		return nil, err
	}
	if d, off := v.Song.Duck(); d != nil {
		out.Off, out.Duck, out.Why = off, d, v.DuckWhy()
		if at, err := d.AtTempo(v.BPM); err == nil {
			out.Duck = at
		}
	}
	out.Named = triggerName(v)
	out.School = move.CurveSchool
	if out.Duck != nil {
		out.School = out.Duck.School
	}
	v.Lead = fmt.Sprintf("%s at every hit of %s: as little as puts the kick %g dB over the bass in its own octave, on 9 of 10 hits.",
		map[string]string{move.CurveSchool: "One curve", move.CompressorSchool: "A compressor that listens", move.BandSchool: "A dip of one band"}[out.School], out.Named, v.Targets.Clearance)
	if v.BassLeads() {
		v.Lead = fmt.Sprintf("The bass leads, so the kick makes room behind its attack: as little as puts the bass %g dB over it from 60 ms after the hit, on 9 of 10 hits.", v.Targets.Clearance)
	}
	out.draw()
	out.Worst = hits.Worst(v)
	return out, nil
}

// draw makes the editor and the strip of hits.
func (out *sheet) draw() {
	v := out.View
	e := plot.Editor{
		Width: 774, Height: 310,
		Kick: plot.Calm(v.State.Pair.Meter.Kick), Before: plot.Calm(v.State.Before.Bass), Bass: plot.Calm(v.State.After.Bass),
		Offset: hits.Offset(v), Hits: v.State.After.Hits, Duck: out.Duck, BPM: v.BPM,
		Handover: v.State.After.HandoverMedian, BassName: v.BassName(),
	}
	if v.BassLeads() {
		e.KickBefore = plot.Calm(v.State.Without.Meter.Kick)
	}
	if out.Duck != nil && out.Duck.Keyed() && v.State.Gain != nil {
		m := v.State.Pair.Meter
		for ms := 0; ms*v.Rate/1000 < len(v.State.Gain); ms++ {
			e.Gain = append(e.Gain, v.State.Gain[ms*v.Rate/1000])
		}
		e.GainFrom = float64(m.Range.From+m.Offset) / float64(v.Rate)
	}
	out.Editor = plot.DuckEditor(e)
	strip := hits.Strip(v, "duck-strip", 774, 88)
	if len(strip.Hits) > hits.Drawn/2 {
		strip.Rows = 2
	}
	if len(strip.Hits) > hits.Drawn {
		strip.Hits = hits.WorstInOrder(strip.Hits, hits.Drawn)
		if strip.Was != nil {
			strip.Was = hits.WorstOf(strip.Was, strip.Hits)
		}
	}
	out.Strip = plot.HitStrip(strip)
}

// schoolLabel names a school, empty where there is none of that name.
func schoolLabel(school string) string {
	for _, k := range move.Schools {
		if k.School == school {
			return k.Label
		}
	}
	return ""
}

// try gives a song the duck that a school's fit would give it, to be heard before it is chosen; nothing is stored.
func (h *handlers) try(ctx context.Context, song *session.Song, school string) (string, error) {
	label := schoolLabel(school)
	if label == "" {
		return "", &shell.InputError{Field: "fit", Sentence: "There is no such school."}
	}
	_, err := h.fitInto(ctx, song, school)
	if t := bench.Trouble(err); t != "" {
		return "", &shell.InputError{Field: "fit", Sentence: t}
	}
	return label, err
}

// fitSchool fits a duck of one school; where the bass leads, the kick's own curve.
func (h *handlers) fitSchool(ctx context.Context, song *session.Song, w mix.Window, school string) (duck.Fitted, error) {
	if song.Leader != session.BassLeads {
		return duck.FitSchool(ctx, h.Renderer, song, w, school)
	}
	b, err := h.Bench(ctx, song)
	if err != nil {
		return duck.Fitted{}, err
	}
	return duck.FitSongLead(ctx, h.Renderer, song, w, b.Line())
}

// fitInto gives a song the duck that a school's fit over the whole of it finds, or takes its duck away
// where none is needed.
func (h *handlers) fitInto(ctx context.Context, song *session.Song, school string) (duck.Fitted, error) {
	n, err := h.Renderer.PairLength(song)
	if err != nil {
		return duck.Fitted{}, err
	}
	f, err := h.fitSchool(ctx, song, mix.Window{To: n}, school)
	if err != nil {
		return f, err
	}
	if f.Duck == nil {
		song.SetDuck(nil, false, "")
		return f, nil
	}
	d := *f.Duck
	d.Trigger = song.DuckTrigger()
	f.Duck = &d
	song.SetDuck(&d, false, f.Reason)
	return f, nil
}

// school is the school of the song's duck, a drawn curve where it has none.
func school(song *session.Song) string {
	if d, _ := song.Duck(); d != nil {
		return d.School
	}
	return move.CurveSchool
}

// setTargets changes the clearance asked and the cap of the depth; dragged along what it costs, it fits anew.
func (h *handlers) setTargets(c *gin.Context) {
	h.WorkOut(c, "duck", "targets", func(song *session.Song) (session.Edit, error) {
		t := song.Targets
		var err error
		if t.Clearance, err = move.ParseNumber(c.PostForm("clearance"), "dB"); err != nil {
			return nil, shell.BadInput(c, "targets", fmt.Errorf("the clearance %w", err))
		}
		if t.MaxDepth, err = move.ParseNumber(c.PostForm("depth"), "dB"); err != nil {
			return nil, shell.BadInput(c, "targets", fmt.Errorf("the cap %w", err))
		}
		if c.PostForm("ahead-asked") != "" { // an unticked box sends nothing
			t.NoAhead = c.PostForm("ahead") == ""
		}
		set := session.SetTargets{Targets: t}
		if c.PostForm("fit") == "" {
			return set, nil
		}
		song.Targets = t
		if err := song.Validate(); err != nil {
			return nil, shell.BadInput(c, "targets", err)
		}
		f, err := h.fitted(c, song, school(song))
		if err != nil {
			return nil, err
		}
		return session.Together{Said: fmt.Sprintf("Ask %g dB of clearance and fit", t.Clearance), Edits: []session.Edit{set, f}}, nil
	})
}

// fitted is the edit that a fit comes to.
func (h *handlers) fitted(c *gin.Context, song *session.Song, school string) (session.Edit, error) {
	f, err := h.fitInto(c.Request.Context(), song, school)
	if t := bench.Trouble(err); t != "" {
		return nil, shell.BadInput(c, "fit", errors.New(t))
	}
	if err != nil {
		return nil, err
	}
	if f.Duck == nil {
		return session.SetDuck{Said: "Fit: " + f.Reason}, nil
	}
	return session.SetDuck{Duck: f.Duck, Why: f.Reason, Said: fitSaid(f.Duck)}, nil
}

// fit finds the least duck over the whole song, so that what is exported holds everywhere.
func (h *handlers) fit(c *gin.Context) {
	h.WorkOut(c, "duck", "fit", func(song *session.Song) (session.Edit, error) {
		as := c.PostForm("school")
		if as == "" {
			as = school(song)
		}
		if schoolLabel(as) == "" {
			return nil, shell.BadInput(c, "fit", fmt.Errorf("no school is called %q", as))
		}
		was, _ := song.Duck()
		e, err := h.fitted(c, song, as)
		if d, ok := e.(session.SetDuck); ok && err == nil && d.Duck == nil && was == nil {
			return nil, &shell.InputError{Field: "fit", Sentence: strings.TrimPrefix(d.Said, "Fit: ")}
		}
		return e, err
	})
}

// perNote lets the curve's depth follow the notes of the bass, or makes it the same for all again.
func (h *handlers) perNote(c *gin.Context) {
	h.WorkOut(c, "duck", "points", func(song *session.Song) (session.Edit, error) {
		bad := func(text string) error { return shell.BadInput(c, "points", errors.New(text)) }
		d, off := song.Duck()
		if d == nil || d.Keyed() || song.Leader == session.BassLeads {
			return nil, bad("only a drawn curve on the bass can follow its notes")
		}
		if c.PostForm("same") != "" {
			one := *d
			one.Parts = nil
			return session.SetDuck{Duck: &one, Off: off, Said: "The same depth for every note"}, nil
		}
		ctx := c.Request.Context()
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
	})
}

// setHandover moves the place where kick and bass meet: the tail's fade and the duck together.
func (h *handlers) setHandover(c *gin.Context) {
	h.WorkOut(c, "duck", "points", func(song *session.Song) (session.Edit, error) {
		to, err := move.ParseNumber(c.PostForm("ms"), "ms")
		if err == nil && !(to >= 20 && to <= 1000) {
			err = fmt.Errorf("a handover at %g ms is outside 20 to 1000", to)
		}
		if err != nil {
			return nil, shell.BadInput(c, "points", err)
		}
		b, err := h.Bench(c.Request.Context(), song)
		if err != nil {
			return nil, err
		}
		st, err := b.Pair(c.Request.Context())
		if err != nil && bench.Trouble(err) == "" {
			return nil, err
		}
		if st == nil || !st.After.HandoverMedian.Valid() {
			return nil, shell.BadInput(c, "points", errors.New("there is no handover to move: the bass never takes over before the next hit"))
		}
		return handover{from: float64(st.After.HandoverMedian), to: to}, nil
	})
}

// cameBack compares a bass that was bounced anew with the duck that was planned for the old file.
func (h *handlers) cameBack(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	out := map[string]any{"ID": song.ID}
	st := firstDucked(&song.Song)
	if st != nil && st.Was != "" && song.Leader != session.BassLeads {
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
