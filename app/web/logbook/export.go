package logbook

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"sort"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/export"
	"mellowthump/core/session"
)

// record is the whole log of a song, as it goes out.
type record struct {
	Song      string              `json:"song"`
	On        string              `json:"on"`
	Takes     []recordTake        `json:"takes"`
	Changes   []recordChange      `json:"changes"`
	Runs      []recordRun         `json:"run_sheets"`
	Dismissed []session.Dismissal `json:"left_be"`
}

type recordTake struct {
	Name    string          `json:"name"`
	Note    string          `json:"note"`
	Created string          `json:"created"`
	Pinned  bool            `json:"pinned"`
	Numbers json.RawMessage `json:"numbers"`
}

type recordChange struct {
	Revision int64  `json:"revision"`
	What     string `json:"what"`
	Created  string `json:"created"`
	Run      int64  `json:"run,omitempty"`
}

type recordRun struct {
	ID      int64  `json:"id"`
	Created string `json:"created"`
	Applied
}

const mostHistory = 100000

// recordOf gathers it, the oldest first.
func (h *handlers) recordOf(c *gin.Context, v *shell.View) (*record, error) {
	ctx := c.Request.Context()
	out := &record{
		Song:      v.Name,
		On:        time.Now().UTC().Format(time.RFC3339),
		Takes:     []recordTake{},
		Changes:   []recordChange{},
		Runs:      []recordRun{},
		Dismissed: v.Dismissed,
	}
	if out.Dismissed == nil {
		out.Dismissed = []session.Dismissal{}
	}
	takes, err := h.Store.Takes(ctx, v.ID)
	if err != nil {
		return nil, err
	}
	sort.Slice(takes, func(i, j int) bool { return takes[i].ID < takes[j].ID })
	for _, t := range takes {
		out.Takes = append(out.Takes, recordTake{t.Name, t.Note, t.Created, t.Pinned, json.RawMessage(t.Numbers)})
	}
	history, err := h.Store.History(ctx, v.ID, mostHistory)
	if err != nil {
		return nil, err
	}
	for i := len(history) - 1; i >= 0; i-- {
		r := history[i]
		out.Changes = append(out.Changes, recordChange{r.ID, r.Summary, r.Created, r.Run})
	}
	runs, err := h.Store.Runs(ctx, v.ID, mostHistory)
	if err != nil {
		return nil, err
	}
	for i := len(runs) - 1; i >= 0; i-- {
		r := recordRun{ID: runs[i].ID, Created: runs[i].Created}
		if err := json.Unmarshal([]byte(runs[i].Body), &r.Applied); err != nil {
			return nil, fmt.Errorf("what was kept of a run: %w", err)
		}
		out.Runs = append(out.Runs, r)
	}
	return out, nil
}

// export sends the log as a page for paper, as CSV or as JSON.
func (h *handlers) export(c *gin.Context) {
	v := h.Look(c, "log")
	if v == nil {
		return
	}
	r, err := h.recordOf(c, v)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	name := v.Name + " log." + c.Param("form")
	switch c.Param("form") {
	case "html":
		h.Write(c, http.StatusOK, "logpage", map[string]any{"Record": r, "Built": h.Built()})
	case "json":
		h.Send(c, export.File{Name: export.Safe(name), Type: "application/json", Write: func(_ context.Context, w io.Writer) error {
			e := json.NewEncoder(w)
			e.SetIndent("", "  ")
			e.SetEscapeHTML(false)
			return e.Encode(r)
		}}, nil)
	case "csv":
		h.Send(c, export.CSV(name, ',', r.table()), nil)
	default:
		h.Fail(c, http.StatusNotFound, "The log goes out as html, csv or json.")
	}
}

// table is the record in rows.
func (r *record) table() [][]string {
	rows := [][]string{{"kind", "when", "name", "note or reason", "run"}}
	for _, t := range r.Takes {
		rows = append(rows, []string{"take", t.Created, t.Name, t.Note, ""})
	}
	for _, x := range r.Changes {
		run := ""
		if x.Run > 0 {
			run = strconv.FormatInt(x.Run, 10)
		}
		rows = append(rows, []string{"change", x.Created, x.What, "", run})
	}
	for _, x := range r.Runs {
		for _, m := range x.Back {
			rows = append(rows, []string{"taken back", x.Created, m.Do, "made worse: " + m.Broke, strconv.FormatInt(x.ID, 10)})
		}
	}
	for _, d := range r.Dismissed {
		rows = append(rows, []string{"left be", "", d.What, d.Why, ""})
	}
	return rows
}
