package levels

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/app/web/shell"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/bench"
	"mellowthump/core/dsp"
	"mellowthump/core/export"
	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/levels"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// planOptions reads what a plan is made by.
func (h *handlers) planOptions(ctx context.Context, b *bench.Bench, q url.Values, anchor levels.Anchor) (levels.Options, error) {
	o := levels.Options{Anchor: anchor, Melody: q.Get("melody"), Sounds: levels.Sounds(b)}
	number := func(name, unit string, lo, hi float64) (float64, error) {
		text := q.Get(name)
		if text == "" {
			return 0, nil
		}
		n, err := field.Number(text, unit)
		if err == nil && !(n >= lo && n <= hi) {
			err = fmt.Errorf("%g is outside %g to %g dB", n, lo, hi)
		}
		return n, err
	}
	var err error
	if o.Under, err = number("under", "dB", 1, 40); err != nil {
		return o, fmt.Errorf("the distance from the click: %w", err)
	}
	if o.Threshold, err = number("threshold", "dB", -20, 20); err != nil {
		return o, fmt.Errorf("the threshold: %w", err)
	}
	for _, ref := range b.Song.References {
		if ref.ID == q.Get("reference") || q.Get("reference") == "" {
			a, err := h.Store.Facts(ctx, ref.Audio)
			if err != nil {
				return o, err
			}
			if a.Portrait != nil {
				o.Finished = &a.Portrait.Spectrum
			}
			break
		}
	}
	return o, nil
}

type planSheet struct {
	*shell.View
	State   state
	Query   string
	Plan    *levels.Plan
	Wrong   string
	Table   string // tab-separated, to be copied
	Melody  []*session.Stem
	Options levels.Options
}

// solvePlan makes the plan that the page asks for, over the whole song.
func (h *handlers) solvePlan(c *gin.Context) (*planSheet, error) {
	st := stateOf(shell.PageQuery(c, "levels"))
	song := h.Load(c)
	if song == nil {
		return nil, errAnswered
	}
	v, err := h.View(c, song, "levels", nil)
	if err != nil {
		return nil, err
	}
	out := &planSheet{View: v, State: st, Melody: v.ByRole(session.Melodic), Query: c.Request.URL.RawQuery}
	if out.Options, err = h.planOptions(c.Request.Context(), v.Bench, c.Request.URL.Query(), st.Anchor); err != nil {
		out.Wrong = shell.Sentence(err.Error())
		return out, nil
	}
	p, err := levels.Solve(c.Request.Context(), h.Renderer, &song.Song, mix.Window{To: v.Length}, out.Options)
	if noPlan(err) {
		out.Wrong = shell.Sentence(err.Error())
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	out.Plan = p
	table, err := export.CSV("plan", '\t', planRows(p)).Bytes(c.Request.Context())
	if err != nil {
		return nil, err
	}
	out.Table = string(table)
	return out, nil
}

// noisePlayed is the level at which the noise is played at the most, dBFS RMS: its peaks stay
// under full scale and it does not startle.
const noisePlayed = -24.0

// NoisePad is how far the loop is turned down beside the noise, so that their distance is the
// plan's, dB.
func (p *planSheet) NoisePad() float64 { return max(0, float64(p.Plan.Noise)-noisePlayed) }

// NoisePlayed is the level at which the noise is played, dBFS RMS.
func (p *planSheet) NoisePlayed() float64 { return float64(p.Plan.Noise) - p.NoisePad() }

// errAnswered means that the request was answered already.
var errAnswered = errors.New("answered")

// previewPlan shows a plan before anything is changed.
func (h *handlers) previewPlan(c *gin.Context) {
	p, err := h.solvePlan(c)
	switch {
	case errors.Is(err, errAnswered):
	case err != nil:
		h.FailWith(c, err)
	default:
		h.Write(c, http.StatusOK, "levelsplan", p)
	}
}

// applyPlan makes the trims of a plan here, or keeps them to be checked where they are made
// elsewhere.
func (h *handlers) applyPlan(c *gin.Context) {
	p, err := h.solvePlan(c)
	if errors.Is(err, errAnswered) {
		return
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	if p.Plan == nil {
		h.Fail(c, http.StatusUnprocessableEntity, p.Wrong)
		return
	}
	if c.PostForm("outside") != "" {
		h.Edit(
			c,
			"levels",
			"gain",
			session.SetPlan{Plan: &session.Plan{Trims: p.Plan.Trims()}, Said: "Take the plan of " + figure.Count(len(p.Plan.Changes), "trim") + " elsewhere"},
		)
		return
	}
	h.Edit(c, "levels", "gain", p.Plan.Edit())
}

// try works out the plan that a query asks for ("plan?anchor=noise&under=8"), to be heard before it is applied.
func (h *handlers) try(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error) {
	if !t.Is("plan", 0) {
		return nil, shell.BadInput("gain", shell.ErrUnknown())
	}
	b, err := h.Bench(ctx, &song.Song)
	if err != nil {
		return nil, err
	}
	o, err := h.planOptions(ctx, b, t.With, anchorOf(t.With.Get("anchor")))
	if err != nil {
		return nil, shell.BadInput("gain", err)
	}
	p, err := levels.Solve(ctx, h.Renderer, &song.Song, b.Whole(), o)
	if noPlan(err) {
		return nil, shell.BadInput("gain", err)
	}
	if err != nil {
		return nil, err
	}
	return p.Edit(), nil
}

// noPlan reports whether an error says why there is no plan to make.
func noPlan(err error) bool {
	return errors.Is(err, levels.ErrNothing) || errors.Is(err, levels.ErrNoKick) || errors.Is(err, levels.ErrNoMelody) || errors.Is(err, levels.ErrNoReference)
}

// forgetPlan ends the waiting for new bounces.
func (h *handlers) forgetPlan(c *gin.Context) {
	h.Edit(c, "levels", "gain", session.SetPlan{})
}

// planRows is a plan as a table in the order of the steps, from source to master.
func planRows(p *levels.Plan) [][]string {
	rows := [][]string{{"step", "part", "from dB", "to dB", "change dB"}}
	for _, c := range p.Changes {
		rows = append(rows, []string{string(c.Step), c.Name, fmt.Sprintf("%.1f", c.From+0), fmt.Sprintf("%.1f", c.To+0), fmt.Sprintf("%+.1f", c.To-c.From)})
	}
	return rows
}

// planCSV sends the table as a file.
func (h *handlers) planCSV(c *gin.Context) {
	p, err := h.solvePlan(c)
	switch {
	case errors.Is(err, errAnswered):
	case err != nil:
		h.FailWith(c, err)
	case p.Plan == nil:
		h.Fail(c, http.StatusUnprocessableEntity, "There is no plan to write down: "+p.Wrong)
	default:
		h.Send(c, export.CSV("levels.csv", ',', planRows(p.Plan)), nil)
	}
}

// noiseFrames is the length of the pink noise that is played in a circle.
const noiseFrames = 1 << 19

// pinkNoise sends pink noise of a level in dBFS RMS, to be looped.
func (h *handlers) pinkNoise(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	db, err := field.Number(c.Query("db"), "dB")
	if err != nil || !(db >= -80 && db <= -10) || song.Rate == 0 {
		h.Fail(c, http.StatusBadRequest, "The noise is played at a level from −80 to −10 dBFS.")
		return
	}
	b := audio.New(song.Rate, 1, 0)
	b.Ch[0] = dsp.PinkNoise(noiseFrames, float64(song.Rate))
	g := float32(dsp.Gain(db))
	for i := range b.Ch[0] {
		b.Ch[0][i] *= g
	}
	c.Header("Cache-Control", "private, max-age=3600")
	shell.SendWAV(c, b, wav.Int24)
}
