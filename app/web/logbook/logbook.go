// Package logbook is the stage Log in the browser: what was changed, why, did it help, and the way back.
package logbook

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

type handlers struct {
	*shell.Server
	sheets *sheets
}

// The parts of the log, by the query's word.
var parts = []struct{ Key, Label string }{{"", "Run sheet"}, {"takes", "Takes"}, {"sections", "Sections"}, {"changes", "Changes"}, {"habits", "Habits"}}

// asks is the question of the part that is shown.
func asks(v *shell.View) string {
	switch {
	case v.Part == "" && len(v.Stems) > 0:
		return "What first, what does it bring, what does it cost?"
	case v.Part == "sections" && len(v.Stems) > 0:
		return "Where do parts come and go, and what holds there?"
	}
	return v.Stage.Question
}

type sheet struct {
	*shell.View
	Parts        any
	SectionsPart sectionsView
	Sheet        sheetPart
	Columns      []figure.Figure // of the takes' numbers
	Takes        []takeRow
	History      []store.Revision
	Blind        []blindRow
	Beside       besideView
	Search       string
	More         int                 // changes that are not shown
	Left         []session.Dismissal // what was put aside, by the search
}

// sheetPart is what the run sheet's part begins with.
type sheetPart struct {
	Query  string // the choice, as the page's address says
	Under  *store.Job
	Failed *store.Job
	Last   *Applied // what was applied, where nothing was changed since
	Aside  []asideRow
}

// asideRow is a finding that was put aside.
type asideRow struct {
	session.Dismissal
	Name string // of its stage
}

// blindRow is a blind test that has ended.
type blindRow struct {
	shell.BlindTest
	Created string
	Left    bool
}

type takeRow struct {
	store.Take
	Numbers []string // as they are shown, one a column
	Now     bool
}

// takeNumbers is what was measured when a take was saved.
type takeNumbers struct {
	ClearanceMedian meter.Figure `json:"clearance_median_db"`
	ClearanceP10    meter.Figure `json:"clearance_p10_db"`
	Depth           meter.Figure `json:"depth_db"`
	BassLoss        meter.Figure `json:"bass_loss_lu"`
	Peak            meter.Figure `json:"peak_dbfs"`
	Loudness        meter.Figure `json:"loudness_lufs"`
	Loop            string       `json:"loop"`
}

// keyed is a number by its figure.
type keyed struct {
	key string
	of  meter.Figure
}

// figures are the numbers that are shown.
func (n takeNumbers) figures() []keyed {
	return []keyed{{"p10", n.ClearanceP10}, {"depth", n.Depth}, {"loss", n.BassLoss}, {"premaster", n.Peak}, {"loudness", n.Loudness}}
}

// shown are the numbers of a take that are shown, by their figures.
func (n takeNumbers) shown() (columns []figure.Figure, values []string) {
	for _, v := range n.figures() {
		f := figure.Of(v.key)
		columns, values = append(columns, f), append(values, shell.Figure(v.of, f.Decimals))
	}
	return columns, values
}

// How many changes are shown: beside the takes, and in their own part.
const (
	historyShown = 40
	historyLong  = 400
)

// sheet measures what the part that is shown tells.
// Long because each part of the log is filled in its own way.
func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	out := &sheet{View: v, Parts: parts}
	if v.Part == "" && len(v.Stems) > 0 {
		return out, h.runSheet(c, out)
	}
	if v.Part == "sections" && len(v.Stems) > 0 {
		out.SectionsPart = h.sections(v)
		return out, nil
	}
	takes, err := h.Store.Takes(c.Request.Context(), v.ID)
	if err == nil && v.Part == "takes" {
		err = h.beside(c, out)
	}
	if err != nil {
		return nil, err
	}
	out.Search = strings.TrimSpace(c.Request.URL.Query().Get("q"))
	q := strings.ToLower(out.Search)
	for _, t := range takes {
		if !found(q, t.Name, t.Note) {
			continue
		}
		row := takeRow{Take: t, Now: t.Revision == v.Rev}
		var n takeNumbers
		if err := json.Unmarshal([]byte(t.Numbers), &n); err != nil {
			return nil, fmt.Errorf("the numbers of take %q: %w", t.Name, err)
		}
		out.Columns, row.Numbers = n.shown()
		out.Takes = append(out.Takes, row)
	}
	tests, err := h.Store.EarsOfSong(c.Request.Context(), v.ID)
	if err != nil {
		return nil, err
	}
	for _, e := range tests {
		if e.State == store.EarsOpen || e.Kind != shell.BlindKind {
			continue
		}
		t, err := shell.ReadBlind(e)
		if err != nil {
			return nil, err
		}
		out.Blind = append(out.Blind, blindRow{t, e.Created, e.State == store.EarsLeft})
	}
	if out.History, err = h.Store.History(c.Request.Context(), v.ID, mostHistory); err != nil {
		return nil, err
	}
	out.History = slices.DeleteFunc(out.History, func(r store.Revision) bool { return !found(q, r.Summary) })
	most := historyShown
	if v.Part == "changes" {
		most = historyLong
	}
	out.More = max(0, len(out.History)-most)
	out.History = out.History[:len(out.History)-out.More]
	for _, d := range v.Dismissed {
		if v.Part == "changes" && found(q, d.What, d.Why) {
			out.Left = append(out.Left, d)
		}
	}
	v.Lead = "No takes yet. Save one when it sounds right; nothing you do after it can overwrite it."
	if v.Part == "" || v.Part == "sections" { // which begin with stems
		v.Lead = v.Trouble
	} else if n := len(takes); n > 0 {
		v.Lead = figure.Count(n, "take") + ". Every change below is kept; going back makes a new change, so nothing is lost."
	}
	return out, nil
}

// runSheet puts in what the run sheet begins with; its rows come after.
func (h *handlers) runSheet(c *gin.Context, out *sheet) error {
	v, ctx := out.View, c.Request.Context()
	var err error
	if out.Sheet.Under, out.Sheet.Failed, err = h.applyJob(ctx, v.ID); err != nil {
		return err
	}
	if c.Request.Method == http.MethodGet { // after an edit the sheet is as it is proposed
		out.Sheet.Query = queryOf(choiceOf(c.Request.URL.Query()))
	}
	runs, err := h.Store.Runs(ctx, v.ID, 1)
	if err != nil {
		return err
	}
	if len(runs) > 0 && runs[0].Head == v.Rev {
		out.Sheet.Last = &Applied{}
		if err := json.Unmarshal([]byte(runs[0].Body), out.Sheet.Last); err != nil {
			return fmt.Errorf("what was kept of the last run: %w", err)
		}
	}
	for _, d := range v.Dismissed {
		row := asideRow{Dismissal: d, Name: d.Stage}
		for _, st := range h.Stages() {
			if st.Key == d.Stage {
				row.Name = st.Name
			}
		}
		out.Sheet.Aside = append(out.Sheet.Aside, row)
	}
	return nil
}

// Limits of a take's words, characters.
const (
	longestName = 80
	longestNote = 2000
)

// saveTake names the song as its sender saw it, with its numbers.
func (h *handlers) saveTake(c *gin.Context) {
	song := h.LoadSeen(c)
	if song == nil {
		return
	}
	stage := h.CurrentStage(c)
	name, note, wrong := takeWords(c)
	if wrong != nil {
		h.Fail(c, http.StatusUnprocessableEntity, shell.Sentence(wrong.Error()))
		return
	}
	n, err := h.numbers(c, song)
	if err == nil {
		err = h.Store.SaveTake(c.Request.Context(), song.ID, song.Rev, name, note, n)
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	c.Header("HX-Trigger", "take-saved")
	h.Answer(c, stage, http.StatusOK, nil)
}

// numbers measures a song for a take.
func (h *handlers) numbers(c *gin.Context, song *store.Song) (takeNumbers, error) {
	n := takeNumbers{ClearanceMedian: meter.None, ClearanceP10: meter.None, Depth: meter.None, BassLoss: meter.None, Peak: meter.None, Loudness: meter.None}
	v, err := h.View(c, song, "log", nil)
	if err != nil || len(v.Stems) == 0 {
		return n, err
	}
	ctx := c.Request.Context()
	loud, err := v.Bench.Loudness(ctx, mix.SoloAll)
	if err != nil {
		return n, err
	}
	n.Peak, n.Loudness, n.Loop = loud.Peak, loud.Integrated, v.Bars()
	if err := v.NeedPair(ctx); err != nil {
		return n, err
	}
	if st := v.State; st != nil {
		n.ClearanceMedian, n.ClearanceP10 = st.After.ClearanceMedian, st.After.ClearanceP10
		if st.Readout != nil {
			n.Depth, n.BassLoss = st.Readout.Depth, st.Readout.BassLoss
		}
	}
	return n, nil
}

func (h *handlers) returnToTake(c *gin.Context) {
	take, _ := strconv.ParseInt(c.Param("take"), 10, 64)
	if _, err := h.Store.Return(c.Request.Context(), c.Param("id"), shell.Base(c), take); err != nil {
		h.FailWith(c, err)
		return
	}
	h.Answer(c, "log", http.StatusOK, nil)
}
