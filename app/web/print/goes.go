package print

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/archive"
	"mellowthump/core/export"
)

// goesPayload is what is printed: of which revision, what of it, in which form.
type goesPayload struct {
	Rev  int64    `json:"rev"`
	What []string `json:"what"`
	Form string   `json:"form"`

	Names string `json:"names,omitempty"` // the pattern of the files' names
}

// forms are the forms of stems, buses and the mix.
var forms = []struct{ Key, Label string }{{"", "WAV, 24 bit"}, {"wav16", "WAV, 16 bit, dithered"}, {"wav32", "WAV, 32-bit float"}, {"flac", "FLAC, 24 bit"}}

// goesView is what may go out, and the print that is being made or was made last.
type goesView struct {
	*shell.View
	Goings []export.Going
	Forms  any
	Tokens any
	Chosen goesPayload
	Under  *store.Job
	Failed *store.Job
	Done   *store.Job
	Stale  bool // the song has changed since
	Size   int64
	Wrong  string
}

func (h *handlers) goes(c *gin.Context) {
	if v := h.Look(c, "print"); v != nil {
		h.showGoes(c, http.StatusOK, v, "")
	}
}

// showGoes shows it; typed is what was refused, which stays.
func (h *handlers) showGoes(c *gin.Context, status int, v *shell.View, wrong string, typed ...goesPayload) {
	out := goesView{
		View:   v,
		Goings: export.Goings,
		Forms:  forms,
		Tokens: export.Tokens,
		Chosen: goesPayload{What: []string{"premaster", "copy", "stems", "sheet", "hits"}},
		Wrong:  wrong,
	}
	jobs, err := h.Store.Jobs(c.Request.Context(), v.ID)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	for _, j := range h.Pool.Now(jobs) {
		if j.Kind != shell.PrintJob {
			continue
		}
		switch j.State {
		case store.Failed:
			out.Failed = &j
		case store.Cancelled:
		default:
			out.Under = &j
		}
		json.Unmarshal([]byte(j.Payload), &out.Chosen) // what was chosen last; a damaged one is what a new song has
	}
	if out.Under == nil {
		if last, p, err := h.last(c.Request.Context(), v.ID); err != nil {
			h.FailWith(c, err)
			return
		} else if last != nil {
			out.Done, out.Chosen, out.Stale = last, p, p.Rev != v.Rev
			if f, err := h.Store.OpenPrint(v.ID, last.ID); err == nil {
				if st, err := f.Stat(); err == nil {
					out.Size = st.Size()
				}
				f.Close()
			}
		}
	}
	for _, p := range typed {
		out.Chosen = p
	}
	h.Write(c, status, "printgoes", out)
}

// last is the print of a song that is whole; nil where there is none.
func (h *handlers) last(ctx context.Context, song string) (*store.Job, goesPayload, error) {
	var p goesPayload
	j, err := h.Store.LastJob(ctx, song, shell.PrintJob)
	if errors.Is(err, store.ErrNotFound) || err == nil && j.State != store.Done {
		return nil, p, nil
	}
	if err != nil {
		return nil, p, err
	}
	f, err := h.Store.OpenPrint(song, j.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil, p, nil
	}
	if err != nil {
		return nil, p, err
	}
	f.Close()
	return &j, p, json.Unmarshal([]byte(j.Payload), &p)
}

// goOut starts printing.
func (h *handlers) goOut(c *gin.Context) {
	v := h.Look(c, "print")
	if v == nil {
		return
	}
	if v.Rev != shell.Base(c) { // it would print what this tab never saw
		h.FailWith(c, store.ErrConflict)
		return
	}
	p := goesPayload{Rev: v.Rev, What: c.PostFormArray("what"), Form: c.PostForm("form"), Names: strings.TrimSpace(c.PostForm("names"))}
	for _, w := range p.What {
		if !slices.ContainsFunc(export.Goings, func(g export.Going) bool { return g.Key == w }) {
			h.showGoes(c, http.StatusUnprocessableEntity, v, "There is nothing of that name to print.")
			return
		}
	}
	if err := export.CheckNames(p.Names); err != nil {
		h.showGoes(c, http.StatusUnprocessableEntity, v, shell.Sentence(err.Error()), p)
		return
	}
	switch _, known := export.Forms[p.Form]; {
	case len(p.What) == 0:
		h.showGoes(c, http.StatusUnprocessableEntity, v, "Tick what is to go out.", p)
		return
	case !known && p.Form != "flac":
		h.showGoes(c, http.StatusUnprocessableEntity, v, "There is no such form.")
		return
	case len(v.Stems) == 0:
		h.showGoes(c, http.StatusUnprocessableEntity, v, "There are no stems yet: there is nothing to print.")
		return
	}
	jobs, err := h.Store.Jobs(c.Request.Context(), v.ID)
	if err == nil && slices.ContainsFunc(jobs, func(j store.Job) bool { return j.Kind == shell.PrintJob && j.Active() }) {
		h.showGoes(c, http.StatusOK, v, "") // one at a time
		return
	}
	body, e := json.Marshal(p)
	if err == nil {
		err = e
	}
	if err == nil {
		err = h.Store.ForgetJobsOf(c.Request.Context(), v.ID, shell.PrintJob)
	}
	if err == nil {
		_, err = h.Pool.Submit(c.Request.Context(), store.Job{SongID: v.ID, Kind: shell.PrintJob, Name: v.Name, Payload: string(body)})
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.showGoes(c, http.StatusOK, v, "")
}

// stopGoing cancels the print that is being made.
func (h *handlers) stopGoing(c *gin.Context) {
	id, _ := strconv.ParseInt(c.Param("job"), 10, 64)
	if j, err := h.Store.Job(c.Request.Context(), id); err != nil || j.SongID != c.Param("id") || j.Kind != shell.PrintJob {
		h.FailWith(c, store.ErrNotFound)
		return
	}
	h.Pool.Cancel(id)
	h.goes(c)
}

// runGoes prints everything in one pass, and puts it into one zip. A stop begins it anew; what is there under its name is whole.
func (h *handlers) runGoes(ctx context.Context, j store.Job, report worker.Report) error {
	var p goesPayload
	if err := json.Unmarshal([]byte(j.Payload), &p); err != nil {
		return fmt.Errorf("the job's own data is damaged: %w", err)
	}
	song, err := h.Store.At(ctx, j.SongID, p.Rev)
	if err != nil {
		return err
	}
	var extra []export.File
	if slices.Contains(p.What, "sheet") {
		page, err := h.sheetFile(&song)
		if err != nil {
			return err
		}
		extra = append(extra, page)
	}
	var history *archive.History
	if slices.Contains(p.What, "archive") {
		if history, err = h.Store.Remembered(ctx, j.SongID, p.Rev); err != nil {
			return err
		}
	}
	err = h.Store.WritePrint(j.SongID, j.ID, func(f *os.File, dir string) error {
		const pass = 0.8 // of the work
		files, err := export.Out(
			ctx,
			h.Renderer,
			&song,
			export.Order{What: p.What, Form: p.Form, Names: p.Names, Extra: extra, History: history},
			dir,
			func(sha string) (io.ReadCloser, error) { return h.Store.OpenRaw(sha) },
			func(done float64) { report(pass*done, "printing") },
		)
		if err != nil {
			return err
		}
		for i := range files {
			f := &files[i]
			write := f.Write
			f.Write = func(ctx context.Context, w io.Writer) error {
				report(pass+(1-pass)*float64(i)/float64(len(files)), "packing "+f.Name)
				return write(ctx, w)
			}
		}
		return export.Zip(song.Name+".zip", files).Write(ctx, f)
	})
	if err != nil {
		return err
	}
	return h.Store.DropPrints(j.SongID, j.ID)
}

// fetch sends the print.
func (h *handlers) fetch(c *gin.Context) {
	id, _ := strconv.ParseInt(c.Param("job"), 10, 64)
	j, err := h.Store.Job(c.Request.Context(), id)
	if err == nil && (j.SongID != c.Param("id") || j.Kind != shell.PrintJob) {
		err = store.ErrNotFound
	}
	var f *os.File
	if err == nil {
		f, err = h.Store.OpenPrint(j.SongID, j.ID)
	}
	if errors.Is(err, store.ErrNotFound) {
		h.Fail(c, http.StatusNotFound, "That print is no longer there. Print it again.")
		return
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		h.FailWith(c, err)
		return
	}
	c.Header("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": export.Safe(j.Name + ".zip")}))
	c.DataFromReader(http.StatusOK, st.Size(), export.TypeZip, f, nil)
}
