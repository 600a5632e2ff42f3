package logbook

import (
	"context"
	"errors"
	"html/template"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/meter"
	"mellowthump/core/runsheet"
	"mellowthump/core/session"
)

// soon is how long an answer waits for the next row: then it comes without one, and the page asks again.
const soon = 1200 * time.Millisecond

// rowsView is a part of the sheet: rows that the page has not yet, and the end of it.
type rowsView struct {
	*shell.View
	Rows   []rowView
	Done   *runsheet.Sheet
	Next   int    // rows that the page has then
	Query  string // the choice
	First  []string
	Fresh  bool // it is the first part
	Won    []wonView
	Ticked int
	Failed string
}

type rowView struct {
	runsheet.Row
	Name    string // of the stage
	Movable bool   // up, before the one above
	Preset  bool   // it is ticked unless its user says otherwise
	At      int
}

type wonView struct {
	runsheet.Change
	Picture template.HTML
}

// choiceOf reads a choice out of a query or a form.
func choiceOf(q url.Values) runsheet.Choice {
	return runsheet.Choice{On: q["on"], Off: q["off"], First: q["first"]}
}

// queryOf writes it.
func queryOf(c runsheet.Choice) string {
	q := url.Values{}
	for key, all := range map[string][]string{"on": c.On, "off": c.Off, "first": c.First} {
		if len(all) > 0 {
			q[key] = all
		}
	}
	return q.Encode()
}

// Limits of a choice that a page sends.
const (
	mostKeys   = 200
	longestKey = 400
)

var errChoice = errors.New("the page sent a choice that is none of this sheet's; reload to see it as it is")

func checked(c runsheet.Choice) error {
	all := slices.Concat(c.On, c.Off, c.First)
	if len(all) > mostKeys || slices.ContainsFunc(all, func(k string) bool { return k == "" || len(k) > longestKey }) {
		return errChoice
	}
	return nil
}

// chosen is what a form of the sheet says: of the rows that it shows, those that are ticked otherwise than proposed, and in which order.
func chosen(f url.Values) runsheet.Choice {
	shown, ticked, preset := f["shown"], f["tick"], f["preset"]
	c := runsheet.Choice{First: f["first"]}
	for _, k := range shown {
		was, is := slices.Contains(preset, k), slices.Contains(ticked, k)
		if is && !was {
			c.On = append(c.On, k)
		}
		if was && !is {
			c.Off = append(c.Off, k)
		}
	}
	if up := f.Get("up"); up != "" {
		if i := slices.Index(shown, up); i > 0 {
			order := slices.Clone(shown)
			order[i-1], order[i] = order[i], order[i-1]
			c.First = order[:i]
		}
	}
	return c
}

// rows answers with the rows that the page has not, as soon as there is one.
func (h *handlers) rows(c *gin.Context) {
	v := h.Look(c, "log")
	if v == nil {
		return
	}
	q := c.Request.URL.Query()
	choice := choiceOf(q)
	from, err := strconv.Atoi(q.Get("from"))
	if err != nil || from < 0 || checked(choice) != nil {
		h.Fail(c, http.StatusBadRequest, shell.Sentence(errChoice.Error()))
		return
	}
	if rev, _ := strconv.ParseInt(q.Get("of"), 10, 64); rev != v.Rev { // the page is of another revision; its next edit says so
		h.Write(c, http.StatusOK, "runrows", rowsView{View: v, Failed: "The song was changed meanwhile, so the sheet is no longer its own."})
		return
	}
	h.writeRows(c, v, choice, from)
}

func (h *handlers) writeRows(c *gin.Context, v *shell.View, choice runsheet.Choice, from int) {
	m := h.sheets.of(v.Song, choice)
	k := m.more(c.Request.Context(), from, soon)
	out := rowsView{View: v, Query: queryOf(choice), First: choice.First, Fresh: from == 0, Next: len(k.rows), Done: k.sheet}
	if k.err != nil {
		if c.Request.Context().Err() != nil {
			c.Abort()
			return
		}
		if out.Failed = "The sheet could not be made: " + k.err.Error() + "."; errors.Is(k.err, context.Canceled) {
			out.Failed = "The sheet was left while it was made."
		}
	}
	for i, r := range k.rows {
		if r.Kept {
			out.Ticked++
		}
		if i >= from {
			out.Rows = append(out.Rows, h.rowOf(r, i))
		}
	}
	if k.sheet != nil {
		for i, w := range k.sheet.Won {
			out.Won = append(out.Won, wonOf(i, w))
		}
	}
	what, _ := m.work.Now()
	out.Lead = what
	h.Write(c, http.StatusOK, "runrows", out)
}

// wonOf draws a figure of what was won.
func wonOf(i int, c runsheet.Change) wonView {
	none := func(f meter.Figure) float64 {
		if !f.Valid() {
			return math.NaN()
		}
		return float64(f)
	}
	out := wonView{Change: c}
	if c.Asked() {
		out.Picture = plot.Brackets(
			plot.Moved{
				ID:       strconv.Itoa(i),
				Name:     c.Name,
				Before:   none(c.Before),
				After:    none(c.After),
				Lo:       c.Bracket.Lo,
				Hi:       c.Bracket.Hi,
				Decimals: c.Decimals,
				Unit:     c.Short(),
			},
		)
	}
	return out
}

func (h *handlers) rowOf(r runsheet.Row, at int) rowView {
	out := rowView{Row: r, At: at, Preset: r.Doubt == "", Movable: at > 0 && r.Edit != nil && !strings.HasSuffix(r.Key, "/again")}
	for _, st := range h.Stages() {
		if st.Key == r.Stage {
			out.Name = st.Name
		}
	}
	return out
}

// choose answers with the sheet for another choice; its address is the page's.
func (h *handlers) choose(c *gin.Context) {
	v := h.Look(c, "log")
	if v == nil {
		return
	}
	choice := chosen(c.Request.URL.Query())
	if err := checked(choice); err != nil {
		h.Fail(c, http.StatusBadRequest, shell.Sentence(err.Error()))
		return
	}
	at := "/songs/" + v.ID + "/log"
	if q := queryOf(choice); q != "" {
		at += "?" + q
	}
	c.Header("HX-Push-Url", at)
	h.writeRows(c, v, choice, 0)
}

// leave puts all that a row deals with aside, with a reason.
func (h *handlers) leave(c *gin.Context) {
	h.WorkOut(c, "log", "finding", func(song *session.Song) (session.Edit, error) {
		var e session.Together
		for _, f := range c.PostFormArray("finding") {
			stage, rest, _ := strings.Cut(f, "/")
			id, what, ok := strings.Cut(rest, "/")
			known := slices.ContainsFunc(h.Stages(), func(st *shell.Stage) bool { return st.Key == stage && st.Judge != nil })
			if !ok || !known || id == "" || len(e.Edits) >= mostKeys {
				return nil, shell.BadInput("finding", errChoice)
			}
			e.Edits = append(e.Edits, session.Dismiss{Dismissal: session.Dismissal{Stage: stage, Finding: id, What: what, Why: c.PostForm("why")}})
		}
		if len(e.Edits) == 0 {
			return nil, shell.BadInput("finding", errChoice)
		}
		return e, nil
	})
}

// reopen takes back what was put aside, of any stage.
func (h *handlers) reopen(c *gin.Context) {
	h.Edit(c, "log", "finding", session.Reopen{Stage: c.PostForm("stage"), Finding: c.PostForm("finding")})
}

// try is what the deck's After plays of a row: it, on top of those that are kept above it.
func (h *handlers) try(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error) {
	return h.upTo(ctx, song, t, true)
}

// tryOn is what Before is then: those above it alone.
func (h *handlers) tryOn(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error) {
	return h.upTo(ctx, song, t, false)
}

func (h *handlers) upTo(ctx context.Context, song *store.Song, t ask.Try, with bool) (session.Edit, error) {
	bad := func(text string) error { return &shell.InputError{Field: "finding", Sentence: text} }
	if t.Is("takes", 2) {
		if with {
			return h.tryTake(ctx, song, t.Args[1])
		}
		return h.tryTake(ctx, song, t.Args[0])
	}
	key, choice := t.What, choiceOf(t.With)
	if checked(choice) != nil {
		return nil, bad(shell.Sentence(errChoice.Error()))
	}
	stored, err := h.Store.Load(ctx, song.ID)
	if err != nil {
		return nil, err
	}
	stored.Song = song.Song
	m := h.sheets.of(stored, choice)
	var k known
	for there := false; !there && k.sheet == nil; { // until the row is there
		if k = m.more(ctx, len(k.rows), soon); k.err != nil {
			return nil, k.err
		}
		there = slices.ContainsFunc(k.rows, func(r runsheet.Row) bool { return r.Key == key })
	}
	var e session.Together
	for _, r := range k.rows {
		if r.Key == key {
			if r.Edit == nil {
				return nil, bad("No single change mends that, so there is none to hear.")
			}
			if with {
				e.Edits = append(e.Edits, r.Edit)
			}
			e.Said = r.Do
			if len(e.Edits) == 0 {
				return session.Settings{}, nil // as it is
			}
			return e, nil
		}
		if r.Kept {
			e.Edits = append(e.Edits, r.Edit)
		}
	}
	return nil, bad("That row is no longer on the sheet; reload to see it as it is now.")
}
