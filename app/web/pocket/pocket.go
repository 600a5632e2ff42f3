// Package pocket is the stage Pocket in the browser: do kick and bass agree?
package pocket

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/app/web/hits"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
)

type handlers struct{ *shell.Server }

type sheet struct {
	*shell.View
	Agree   *pocket.Agreement
	Strip   template.HTML
	Worst   []meter.Hit
	Figures *meter.HitFigures
	Home    [2]float64
	Settled bool // the kick stays on one pitch
	Hidden  int  // hits that the picture leaves out

	Mirror    template.HTML
	NudgePlot template.HTML
	Heard     pair.Hidden    // what is heard of the kick, with the ducks
	Chains    []*shell.Chain // of kick and bass
}

const hitsARow = 14

func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	out := &sheet{View: v}
	if err := v.NeedPair(c.Request.Context()); err != nil {
		return nil, err
	}
	if v.State == nil {
		v.Lead = v.Trouble
		return out, nil
	}
	var err error
	if out.Agree, err = pocket.AgreementOn(c.Request.Context(), v.Bench); err != nil {
		return nil, err
	}
	out.Figures = &v.State.After
	if _, out.Heard, err = pair.HiddenOn(c.Request.Context(), v.Bench); err != nil {
		return nil, err
	}
	v.Lead = out.Heard.Says(v.KickName(), v.BassName())
	if _, ok := pair.Asked(&v.Song.Song); !ok {
		v.Lead += pocket.Sentence(v.State.After, v.Targets.Clearance, v.KickName(), v.BassName())
	}
	if v.Leader == session.BassLeads {
		v.Lead = pocket.LeadSentence(v.State.Lead, v.Targets.Clearance, v.KickName(), v.BassName())
	}
	m := v.State.Pair.Meter
	out.Home[0], out.Home[1] = meter.HomeBand(m.HomeHz)
	pitch, err := v.Bench.KickPitch()
	if err != nil {
		return nil, err
	}
	out.Settled = pitch.Settled
	spectra, err := mix.Cached(c.Request.Context(), h.Renderer.Cache, mix.Key("fine", v.State.Pair.Key()), func() ([2][]float64, int, error) {
		kick, err := m.FineSpectrum(m.KickSound())
		if err != nil {
			return [2][]float64{}, 0, err
		}
		bass, err := m.FineSpectrum(v.State.Pair.Bass)
		return [2][]float64{kick, bass}, 16 * meter.FineBins, err
	})
	if err != nil {
		return nil, fmt.Errorf("the spectra of kick and bass: %w", err)
	}
	mirror := plot.Mirror{Kick: spectra[0], Bass: spectra[1], HomeHz: m.HomeHz, Settled: out.Settled, BassName: v.BassName()}
	for _, n := range out.Agree.Notes {
		mirror.Notes = append(mirror.Notes, n.Hz)
	}
	out.Mirror = plot.Mirrored(mirror)
	if n := out.Agree.Nudge; n != nil {
		out.NudgePlot = plot.Nudge(plot.NudgeCurve{MS: n.MS, As: n.As, Flipped: n.Flipped, Best: n.Best.MS, BestFlip: n.Best.Flip, BestSum: n.BestSum})
	}
	for i := range v.Stems {
		if st := &v.Stems[i]; st.Role == session.Kick || st.Role == session.Bass {
			out.Chains = append(out.Chains, v.ChainAt(session.At{Stem: st.ID}))
		}
	}
	out.drawStrip()
	out.Worst = hits.Worst(v)
	return out, nil
}

func (out *sheet) drawStrip() {
	strip := hits.Strip(out.View, "pocket-strip", 760, 128)
	strip.Details = true
	if over := len(strip.Hits) - hits.Drawn; over > 0 {
		out.Hidden = over
		strip.Hits = hits.WorstInOrder(strip.Hits, hits.Drawn)
		if strip.Was != nil {
			strip.Was = hits.WorstOf(strip.Was, strip.Hits)
		}
	}
	strip.Rows = (len(strip.Hits) + hitsARow - 1) / hitsARow
	if strip.Rows > 2 {
		strip.Height = 96
	}
	out.Strip = plot.HitStrip(strip)
}

// HomeNote names the kick's settled pitch; empty where it has none.
func (out *sheet) HomeNote() string {
	if !out.Settled {
		return ""
	}
	note, cents := meter.Note(out.State.Pair.Meter.HomeHz)
	return fmt.Sprintf("%s %s c", note, figure.Plus(cents, 0))
}

// Nudged is by how many ms the bass is moved now.
func (out *sheet) Nudged() float64 {
	if b := out.ByRole(session.Bass); len(b) > 0 {
		return b[0].Nudged()
	}
	return 0
}

// Detuned is by how many cents the bass is tuned as a whole now.
func (out *sheet) Detuned() float64 {
	if b := out.ByRole(session.Bass); len(b) > 0 {
		return b[0].Tuned()
	}
	return 0
}

// later loads the song with its loop judged, for what comes after the page.
func (h *handlers) later(c *gin.Context) *shell.View {
	v := h.Look(c, "pocket")
	if v == nil {
		return nil
	}
	if err := v.NeedPair(c.Request.Context()); err != nil {
		h.FailWith(c, err)
		return nil
	}
	return v
}

// kickOptions shows the kick at other pitches against the whole line.
func (h *handlers) kickOptions(c *gin.Context) {
	v := h.later(c)
	if v == nil {
		return
	}
	data := map[string]any{"ID": v.ID, "Target": v.Targets.Clearance}
	if v.State != nil {
		options, err := pocket.KickOptions(c.Request.Context(), h.Renderer, &v.Song.Song, v.Win, v.Bench.Line())
		if err != nil {
			h.FailWith(c, err)
			return
		}
		var bars []plot.OptionBar
		best := options[0]
		for _, o := range options {
			bars = append(bars, plot.OptionBar{Semitones: o.Semitones, Clearance: o.Clearance})
			if o.P10.Valid() && (!best.P10.Valid() || o.P10 > best.P10) {
				best = o
			}
		}
		data["Options"], data["Best"], data["Picture"] = options, best, plot.Options(bars, v.Targets.Clearance)
	}
	h.Write(c, http.StatusOK, "kickoptions", data)
}

// places shows what would place kick and bass, each rendered.
func (h *handlers) places(c *gin.Context) {
	v := h.later(c)
	if v == nil {
		return
	}
	data := map[string]any{"ID": v.ID}
	if v.State != nil {
		a, err := pocket.AgreementOn(c.Request.Context(), v.Bench)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		p, err := pocket.Proposals(c.Request.Context(), h.Renderer, &v.Song.Song, v.Win, a.CommonNote())
		if err != nil {
			h.FailWith(c, err)
			return
		}
		data["Proposals"] = p
		data["Useless"] = slices.DeleteFunc(slices.Clone(p), func(p pocket.Proposal) bool { return p.On || p.Helps() })
	}
	h.Write(c, http.StatusOK, "places", data)
}

// setLeader says who leads.
func (h *handlers) setLeader(c *gin.Context) {
	h.Edit(c, "pocket", "pocket", session.Lead{Leader: session.Leader(c.PostForm("leader"))})
}

// apply does what is typed on the page, or what a proposal of it says; findings are mended where all are.
func (h *handlers) apply(c *gin.Context) {
	action, _, _ := strings.Cut(c.PostForm("action"), ":")
	bad := func(err error) error { return shell.BadInput("pocket", err) }
	h.WorkOut(c, "pocket", "pocket", func(song *session.Song) (session.Edit, error) {
		switch action {
		case "nudge":
			ms, err := field.Number(c.PostForm("ms"), "ms")
			if err != nil {
				return nil, bad(fmt.Errorf("the nudge %w", err))
			}
			if math.Abs(ms) > move.NudgeMost {
				return nil, bad(fmt.Errorf("a nudge of %g ms is outside −%g to %g", ms, move.NudgeMost, move.NudgeMost))
			}
			b, err := h.Bench(c.Request.Context(), song)
			if err != nil {
				return nil, err
			}
			return pocket.NudgeTo(song, ms, "", b.BassName()), nil
		case "detune":
			var cents *float64
			if text := c.PostForm("cents"); text != "" {
				v, err := field.Number(text, "cents")
				if err != nil {
					return nil, bad(fmt.Errorf("the detune %w", err))
				}
				cents = &v
			}
			return h.detune(c.Request.Context(), song, cents, false)
		case "split":
			at, err := field.Number(c.PostForm("at"), "ms")
			if err != nil {
				return nil, bad(fmt.Errorf("the place of the crossfade %w", err))
			}
			fade, err := field.Number(c.PostForm("fade"), "ms")
			if err != nil {
				return nil, bad(fmt.Errorf("the crossfade %w", err))
			}
			return session.SplitStem{Stem: c.PostForm("stem"), At: at, Fade: fade}, nil
		}
		t, err := ask.ParseTry("pocket/" + c.PostForm("action"))
		if err != nil {
			return nil, bad(shell.ErrUnknown())
		}
		return h.try(c.Request.Context(), &store.Song{ID: c.Param("id"), Song: *song}, t)
	})
}

// try works out what is proposed and can be heard before it is made.
func (h *handlers) try(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error) {
	switch {
	case t.Is("detune-each", 0):
		return h.detune(ctx, &song.Song, nil, true)
	case t.Is("kick", 1):
		semitones, err := strconv.Atoi(t.Args[0])
		if err != nil {
			return nil, shell.BadInput("pocket", errors.New("the kick is tuned by whole semitones"))
		}
		e, err := pocket.TuneKickEdit(&song.Song, semitones)
		if err != nil {
			return nil, shell.BadInput("pocket", err)
		}
		return e, nil
	case t.Is("place", 1):
		return h.place(ctx, &song.Song, t.Args[0])
	}
	return nil, shell.BadInput("pocket", shell.ErrUnknown())
}

// detune sets a tuning in cents, where one is given, or tunes each note by its own error.
func (h *handlers) detune(ctx context.Context, song *session.Song, cents *float64, each bool) (session.Edit, error) {
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	out := session.Together{}
	for _, st := range song.ByRole(session.Bass) {
		e, err := pocket.DetuneEdit(st, facts.Line(b.Facts[st.Audio], st.MIDI), cents, each)
		if err != nil {
			return nil, shell.BadInput("pocket", err)
		}
		out.Edits = append(out.Edits, e)
	}
	return out, nil
}

// place puts a proposal in, or takes it out.
func (h *handlers) place(ctx context.Context, song *session.Song, id string) (session.Edit, error) {
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	a, err := pocket.AgreementOn(ctx, b)
	if t := bench.Trouble(err); t != "" {
		return nil, shell.BadInput("pocket", errors.New(t))
	}
	if err != nil {
		return nil, err
	}
	proposals, err := pocket.Proposals(ctx, h.Renderer, song, b.Loop, a.CommonNote())
	if err != nil {
		return nil, err
	}
	for _, p := range proposals {
		if p.ID == id {
			return p.Edit(), nil
		}
	}
	return nil, shell.BadInput("pocket", errors.New("that is no longer proposed"))
}
