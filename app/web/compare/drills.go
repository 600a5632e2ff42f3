package compare

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/compare"
	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// drillKind begins the kind of a stored question.
const drillKind = "drill-"

// drillShown is how many answers the picture of a score shows.
const drillShown = 40

// question is a question of a drill as it is stored: of which song's loop.
type question struct {
	compare.Question
	Song   string     `json:"song"`
	Rev    int64      `json:"rev"`
	Window mix.Window `json:"window"`
}

// drillView is the drills with the question that is open.
type drillView struct {
	*shell.View
	Drills []drillRow
	Open   *openQuestion
	Said   string // of the question that was answered
	Right  bool
	Wrong  string
}

type drillRow struct {
	compare.Drill
	Level string // that it has come to
	Count int
	Of    int // right ones of all
	Score template.HTML
}

type openQuestion struct {
	Token, Drill, Says string
	Options            []string
}

func (h *handlers) drills(c *gin.Context) {
	if v := h.Look(c, "compare"); v != nil {
		h.showDrills(c, http.StatusOK, drillView{View: v})
	}
}

// answered are the questions of a drill that were answered.
func (h *handlers) answered(ctx context.Context, d compare.Drill) ([]compare.Question, error) {
	all, err := h.Store.EarsOfKind(ctx, drillKind+d.Key)
	if err != nil {
		return nil, err
	}
	var out []compare.Question
	for _, e := range all {
		var q question
		if err := json.Unmarshal([]byte(e.Body), &q); err != nil {
			return nil, fmt.Errorf("a drill: %w", err)
		}
		out = append(out, q.Question)
	}
	return out, nil
}

func (h *handlers) showDrills(c *gin.Context, status int, out drillView) {
	for _, d := range compare.Drills {
		all, err := h.answered(c.Request.Context(), d)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		row := drillRow{Drill: d, Count: len(all), Level: figure.Short(d.Levels[compare.NextLevel(all, len(d.Levels))]) + " " + d.Unit}
		for _, q := range all {
			if q.Right() {
				row.Of++
			}
		}
		if len(all) > 0 {
			var shown []plot.Drilled
			for _, q := range all[max(0, len(all)-drillShown):] {
				shown = append(shown, plot.Drilled{Level: q.Level, Right: q.Right()})
			}
			var levels []string
			for _, l := range d.Levels {
				levels = append(levels, figure.Short(l))
			}
			row.Score = plot.DrillScore(d.Key, d.Name, levels, shown)
		}
		out.Drills = append(out.Drills, row)
	}
	h.Write(c, status, "comparedrills", out)
}

// ask draws a question of a drill, and makes its two sounds.
func (h *handlers) ask(c *gin.Context) {
	v := h.Look(c, "compare")
	if v == nil {
		return
	}
	d, ok := compare.DrillOf(c.PostForm("drill"))
	if !ok {
		h.Fail(c, http.StatusBadRequest, "There is no such drill.")
		return
	}
	ctx := c.Request.Context()
	all, err := h.answered(ctx, d)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	q := question{Question: d.Ask(compare.NextLevel(all, len(d.Levels))), Song: v.ID, Rev: v.Rev, Window: v.Win}
	e := store.Ears{Token: store.NewToken(), Kind: drillKind + d.Key, State: store.EarsOpen}
	if _, err := h.drillPair(ctx, e.Token, q); err != nil {
		var no *shell.InputError
		switch {
		case errors.As(err, &no):
			h.showDrills(c, http.StatusUnprocessableEntity, drillView{View: v, Wrong: no.Sentence})
		case errors.Is(err, compare.ErrLoud):
			h.showDrills(c, http.StatusUnprocessableEntity, drillView{View: v, Wrong: shell.Sentence("the loop: " + err.Error())})
		default:
			h.FailWith(c, err)
		}
		return
	}
	body, err := json.Marshal(q)
	if err == nil {
		e.Body = string(body)
		err = h.Store.SetEars(ctx, e)
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	open := &openQuestion{Token: e.Token, Drill: d.Key, Says: d.Says(q.Level)}
	for i := range d.Options {
		open.Options = append(open.Options, d.Option(i, q.Level))
	}
	h.showDrills(c, http.StatusOK, drillView{View: v, Open: open})
}

func (h *handlers) question(c *gin.Context, token string) (e store.Ears, q question, ok bool) {
	e, err := h.Store.EarsOf(c.Request.Context(), token)
	if err == nil {
		err = json.Unmarshal([]byte(e.Body), &q)
	}
	if _, known := compare.DrillOf(q.Drill); err == nil && (q.Song != c.Param("id") || !known) {
		err = store.ErrNotFound
	}
	if err != nil {
		h.Fail(c, http.StatusNotFound, "That question is no longer there.")
		return e, q, false
	}
	return e, q, true
}

// drillSound plays one of the two sounds of a question.
func (h *handlers) drillSound(c *gin.Context) {
	e, q, ok := h.question(c, c.Param("token"))
	if !ok {
		return
	}
	k, known := map[string]int{"1.wav": 0, "2.wav": 1}[c.Param("which")]
	if !known {
		h.Fail(c, http.StatusNotFound, "A question has two sounds.")
		return
	}
	pair, err := h.drillPair(c.Request.Context(), e.Token, q)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.sendVeiled(c, pair[k])
}

// answerDrill takes an answer and says at once whether it was right.
func (h *handlers) answerDrill(c *gin.Context) {
	e, q, ok := h.question(c, c.PostForm("token"))
	if !ok {
		return
	}
	v := h.Look(c, "compare")
	if v == nil {
		return
	}
	d, _ := compare.DrillOf(q.Drill)
	n, err := strconv.Atoi(c.PostForm("answer"))
	if err != nil || n < 0 || n >= len(d.Options) {
		h.Fail(c, http.StatusBadRequest, "That is no answer.")
		return
	}
	if e.State == store.EarsOpen {
		q.Answer = n
		body, err := json.Marshal(q)
		if err == nil {
			e.Body, e.State = string(body), store.EarsDone
			err = h.Store.SetEars(c.Request.Context(), e)
		}
		if err != nil && !errors.Is(err, store.ErrConflict) {
			h.FailWith(c, err)
			return
		}
	}
	out := drillView{View: v, Right: q.Right(), Said: "Right: " + d.Option(q.Truth, q.Level) + "."}
	if !q.Right() {
		out.Said = fmt.Sprintf("Not so: it was %s, not %s.", d.Option(q.Truth, q.Level), d.Option(q.Answer, q.Level))
	}
	h.showDrills(c, http.StatusOK, out)
}

// drillPair makes the two sounds of a question.
func (h *handlers) drillPair(ctx context.Context, token string, q question) ([2]audio.Buffer, error) {
	return mix.Cached(ctx, h.Renderer.Cache, mix.Key("drill", token), func() ([2]audio.Buffer, int, error) {
		song, err := h.Store.At(ctx, q.Song, q.Rev)
		if err != nil {
			return [2]audio.Buffer{}, 0, err
		}
		d, _ := compare.DrillOf(q.Drill)
		level := d.Levels[q.Level]
		plain, err := h.Renderer.Looped(ctx, &song, mix.SoloAll, q.Window)
		if err != nil {
			return [2]audio.Buffer{}, 0, err
		}
		var first, second audio.Buffer
		switch first, second = plain, plain; q.Drill {
		case "band":
			raised := song.Clone()
			raised.Master.Moves = raised.Master.Moves.With(
				move.Move{ID: "drill", Params: &move.Filter{Shape: dsp.Bell, Hz: compare.DrillBands[q.Truth], Q: 1, DB: level}},
			)
			second, err = h.Renderer.Looped(ctx, &raised, mix.SoloAll, q.Window)
		case "duck":
			second, err = h.ducked(ctx, &song, plain, q, level)
		case "cents":
			second, err = h.retuned(ctx, &song, q, level)
		case "louder":
			first, second = turned(plain, 0), turned(plain, -level)
			if q.Truth == 1 {
				first, second = second, first
			}
		}
		if err != nil {
			return [2]audio.Buffer{}, 0, err
		}
		out, err := compare.Pair(first, second, q.Drill != "louder")
		return out, out[0].Bytes() + out[1].Bytes(), err
	})
}

func turned(x audio.Buffer, db float64) audio.Buffer {
	out := audio.New(x.Rate, len(x.Ch), x.Frames())
	g := float32(dsp.Gain(db))
	for c, ch := range x.Ch {
		for i, v := range ch {
			out.Ch[c][i] = g * v
		}
	}
	return out
}

// ducked is the loop with a duck that is deeper or shallower by so many dB: what it takes away is taken away more or less, at
// one depth for all hits.
func (h *handlers) ducked(ctx context.Context, song *session.Song, plain audio.Buffer, q question, by float64) (audio.Buffer, error) {
	without := song.Unducked()
	x, err := h.Renderer.Looped(ctx, &without, mix.SoloAll, q.Window)
	if err != nil {
		return x, err
	}
	facts, err := h.Bench(ctx, song)
	if err != nil {
		return x, err
	}
	depth, err := depthOf(ctx, facts)
	if err != nil {
		return x, err
	}
	if depth < 0.5 {
		return x, &shell.InputError{Sentence: "The song has no duck that works in this loop: make one on Duck first."}
	}
	if q.Truth == 1 {
		by = -math.Min(by, depth)
	}
	part := (1 - dsp.Gain(-depth-by)) / (1 - dsp.Gain(-depth))
	out := audio.New(x.Rate, max(len(x.Ch), len(plain.Ch)), x.Frames())
	for c := range out.Ch {
		open, low := x.Ch[min(c, len(x.Ch)-1)], plain.Ch[min(c, len(plain.Ch)-1)]
		for i := range out.Ch[c] {
			out.Ch[c][i] = open[i] + float32(part)*(low[i]-open[i])
		}
	}
	return out, nil
}

// depthOf is how deep the song's duck goes in the loop, dB; 0 where it has none.
func depthOf(ctx context.Context, b *bench.Bench) (float64, error) {
	if d, off := b.Song.Duck(); d == nil || off {
		return 0, nil
	}
	st, err := pair.On(ctx, b)
	if bench.Trouble(err) != "" {
		return 0, nil
	}
	if err != nil || st.Readout == nil || !st.Readout.Depth.Valid() {
		return 0, err
	}
	return math.Abs(float64(st.Readout.Depth)), nil
}

// retuned is the loop with its bass so many cents up or down, or as it is.
func (h *handlers) retuned(ctx context.Context, song *session.Song, q question, cents float64) (audio.Buffer, error) {
	basses := song.ByRole(session.Bass)
	if len(basses) == 0 {
		return audio.Buffer{}, &shell.InputError{Sentence: "No stem is said to be the bass: choose it on Intake."}
	}
	b, err := h.Bench(ctx, song)
	if err != nil {
		return audio.Buffer{}, err
	}
	tune := &move.Tune{Cents: cents * float64(q.Truth-1)}
	for _, n := range b.Line() {
		tune.Notes = append(tune.Notes, move.NoteTune{At: n.Start})
	}
	if len(tune.Notes) == 0 {
		return audio.Buffer{}, &shell.InputError{Sentence: "The bass has no notes that were found: there is nothing to retune."}
	}
	out := song.Clone()
	for _, st := range out.ByRole(session.Bass) {
		st.SetMove(move.Move{ID: "drill", Params: tune})
	}
	return h.Renderer.Looped(ctx, &out, mix.SoloAll, q.Window)
}
