package logbook

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/figure"
	"mellowthump/core/runsheet"
	"mellowthump/core/session"
)

// applyPayload is what is applied: of which revision, by which choice.
type applyPayload struct {
	Rev    int64           `json:"rev"`
	Choice runsheet.Choice `json:"choice"`
}

// Applied is what came of it, as it is kept with the changes.
type Applied struct {
	Made []madeRow       `json:"made"`
	Back []madeRow       `json:"taken_back,omitempty"` // that would have made something worse
	Won  []appliedFigure `json:"won"`
	Left []string        `json:"left,omitempty"`
}

type madeRow struct {
	Stage string   `json:"stage"`
	What  string   `json:"finding"`
	Do    string   `json:"move"`
	Own   []string `json:"figures,omitempty"`
	Other []string `json:"cost,omitempty"`
	Broke string   `json:"made_worse,omitempty"`
}

type appliedFigure struct {
	Name   string `json:"name"`
	Unit   string `json:"unit"`
	Before string `json:"before"`
	After  string `json:"after"`
	In     bool   `json:"in"`
	Asked  bool   `json:"asked"`
}

// applied writes a sheet down.
func applied(s *runsheet.Sheet) Applied {
	var out Applied
	for _, r := range s.Rows {
		m := madeRow{Stage: r.Stage, What: r.What(), Do: r.Do, Broke: r.Broke}
		for _, c := range r.Own {
			m.Own = append(m.Own, c.String())
		}
		for _, c := range r.Other {
			m.Other = append(m.Other, c.String())
		}
		switch {
		case r.Kept:
			out.Made = append(out.Made, m)
		case r.Tick && r.Edit != nil:
			out.Back = append(out.Back, m)
		}
	}
	for _, c := range s.Won {
		out.Won = append(out.Won, appliedFigure{Name: c.Name, Unit: c.Short(), Before: c.Said(c.Before), After: c.Said(c.After), In: c.In(), Asked: c.Asked()})
	}
	out.Left = s.Left
	return out
}

// apply starts making what is ticked. One at a time: a second is the first.
func (h *handlers) apply(c *gin.Context) {
	song := h.LoadSeen(c)
	if song == nil {
		return
	}
	choice := chosen(c.Request.PostForm)
	if err := checked(choice); err != nil {
		h.Fail(c, http.StatusUnprocessableEntity, shell.Sentence(err.Error()))
		return
	}
	if len(c.PostFormArray("tick")) == 0 {
		h.Answer(c, "log", http.StatusUnprocessableEntity, shell.BadInput("apply", errors.New("nothing is ticked, so there is nothing to apply")))
		return
	}
	ctx := c.Request.Context()
	jobs, err := h.Store.Jobs(ctx, song.ID)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	if !slices.ContainsFunc(jobs, func(j store.Job) bool { return j.Kind == shell.ApplyJob && j.Active() }) {
		body, err := json.Marshal(applyPayload{song.Rev, choice})
		if err == nil {
			err = h.Store.ForgetJobsOf(ctx, song.ID, shell.ApplyJob)
		}
		var id int64
		if err == nil {
			id, err = h.Pool.Submit(ctx, store.Job{SongID: song.ID, Kind: shell.ApplyJob, Name: song.Name, Payload: string(body)})
		}
		if err != nil {
			h.FailWith(c, err)
			return
		}
		h.patient(ctx, id)
	}
	h.Answer(c, "log", http.StatusOK, nil)
}

// patient waits a moment for a job to end: one whose sheet is there already ends at once.
func (h *handlers) patient(ctx context.Context, id int64) {
	for end := time.Now().Add(soon); time.Now().Before(end); {
		if j, err := h.Store.Job(ctx, id); err != nil || !j.Active() {
			return
		}
		select {
		case <-time.After(20 * time.Millisecond):
		case <-ctx.Done():
			return
		}
	}
}

// runApply makes the sheet once more, or finds it made, and then all that it keeps in one step: stopped before, nothing is
// changed and it begins anew; after, it has ended.
func (h *handlers) runApply(ctx context.Context, j store.Job, report worker.Report) error {
	var p applyPayload
	if err := json.Unmarshal([]byte(j.Payload), &p); err != nil {
		return fmt.Errorf("the job's own data is damaged: %w", err)
	}
	song, err := h.Store.Load(ctx, j.SongID)
	if err != nil {
		return err
	}
	changed := errors.New("the song was changed meanwhile, so nothing of the sheet was applied. Look at it as it is now, and apply again")
	if song.Rev != p.Rev {
		return changed
	}
	m := h.sheets.of(song, p.Choice)
	var k known
	for n := 0; k.sheet == nil; n = len(k.rows) {
		if k = m.more(ctx, n, time.Second); errors.Is(k.err, context.Canceled) && ctx.Err() == nil { // it was given up for others
			m, k = h.sheets.of(song, p.Choice), known{}
			continue
		}
		if k.err != nil {
			return k.err
		}
		what, _ := m.work.Now()
		report(min(0.95, float64(len(k.rows))/float64(len(k.rows)+4)), what)
	}
	var edits []session.Edit
	for _, r := range k.sheet.Kept() {
		edits = append(edits, r.Named())
	}
	if len(edits) == 0 {
		return errors.New("nothing of what is ticked can be made without making something worse; nothing was changed")
	}
	_, err = h.Store.EditRun(ctx, j.SongID, p.Rev, "Run sheet: "+figure.Count(len(edits), "change"), edits, applied(k.sheet), j.ID)
	if errors.Is(err, store.ErrConflict) {
		return changed
	}
	if err != nil {
		return err
	}
	return worker.ErrKept
}

// stopApply cancels it: nothing is changed.
func (h *handlers) stopApply(c *gin.Context) {
	id, _ := strconv.ParseInt(c.Param("job"), 10, 64)
	if j, err := h.Store.Job(c.Request.Context(), id); err != nil || j.SongID != c.Param("id") || j.Kind != shell.ApplyJob {
		h.FailWith(c, store.ErrNotFound)
		return
	}
	h.Pool.Cancel(id)
	h.patient(c.Request.Context(), id)
	h.Answer(c, "log", http.StatusOK, nil)
}

// applying answers with how far it is; when it has ended, with what brings the page up to date.
func (h *handlers) applying(c *gin.Context) {
	v := h.Look(c, "log")
	if v == nil {
		return
	}
	under, _, err := h.applyJob(c.Request.Context(), v.ID)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.Write(c, http.StatusOK, "runapplying", []any{v.ID, under})
}

// applyJob is the apply that is under way, and the one that failed last.
func (h *handlers) applyJob(ctx context.Context, song string) (under, failed *store.Job, err error) {
	jobs, err := h.Store.Jobs(ctx, song)
	if err != nil {
		return nil, nil, err
	}
	for _, j := range h.Pool.Now(jobs) {
		switch {
		case j.Kind != shell.ApplyJob:
		case j.State == store.Failed:
			failed = &j
		case j.Active():
			under = &j
		}
	}
	return under, failed, nil
}
