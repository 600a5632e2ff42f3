package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/audio"
	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/session"
)

// Files that are dropped on a song that has stems may be bounces of them that come back. Each is measured and kept (its
// job is ready) until all of the drop are there; then they are matched with the stems, and what they are taken for is
// proposed. Where none is a version of anything they are added at once.

// settling lets one job at a time look whether it is the last of its drop.
var settling sync.Mutex

// broughtRow is a file that waits to be told what it is.
type broughtRow struct {
	Job   int64
	Name  string
	Match facts.Match
	Holds string // of an export of ours: what it holds
	Facts *facts.Analysis
	Was   *facts.Analysis // of the stem that it is taken for a version of

	payload importPayload
}

// broughtView is what waits, with what it comes to.
type broughtView struct {
	Rows  []broughtRow
	Stems []session.Stem
	Says  string // "11 new versions, 1 new stem"

	Missing []string // stems of which nothing came, where most of the song did
}

// keepReady keeps what a job brought, and adds the whole drop where nothing is to be asked.
func (h *handlers) keepReady(ctx context.Context, j store.Job, p importPayload) error {
	body, err := json.Marshal(p)
	if err != nil {
		return err
	}
	settling.Lock()
	defer settling.Unlock()
	if err := ctx.Err(); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	keep := func() error {
		if err := h.Store.SetReady(ctx, j.ID, string(body)); err != nil {
			return err
		}
		return worker.ErrKept
	}
	jobs, err := h.Store.Jobs(ctx, j.SongID)
	if err != nil {
		return err
	}
	for i := range jobs {
		o := &jobs[i]
		if o.ID == j.ID {
			o.State, o.Payload = store.Ready, string(body)
		} else if o.Kind == importJob && o.Active() {
			return keep() // it is not the last
		}
	}
	song, err := h.Store.Load(ctx, j.SongID)
	if err != nil {
		return err
	}
	rows, err := h.brought(ctx, song, jobs)
	if err != nil {
		return err
	}
	edits := session.Together{Said: "Add " + figure.Count(len(rows), "stem")}
	var done []int64
	for _, r := range rows {
		if r.Match.Stem != "" {
			return keep() // it is asked
		}
		e := r.add()
		edits.Edits, done = append(edits.Edits, e), append(done, r.Job)
		if len(rows) == 1 {
			edits.Said = "Add " + session.StemName(e.File)
		}
	}
	if err := h.Store.EditDone(ctx, j.SongID, store.AnyRevision, h.withTempo(ctx, edits), done...); err != nil {
		return err
	}
	return worker.ErrKept
}

func (r broughtRow) add() session.AddStem {
	return session.AddStem{File: r.Name, Audio: r.payload.Audio, Rate: r.Facts.Rate, Role: r.Facts.Guess(session.StemName(r.Name)).Role}
}

// brought lists what waits of a song's jobs, matched with its stems.
func (h *handlers) brought(ctx context.Context, song *store.Song, jobs []store.Job) ([]broughtRow, error) {
	var err error
	var rows []broughtRow
	var files []facts.Brought
	for _, j := range jobs {
		if j.State != store.Ready {
			continue
		}
		r := broughtRow{Job: j.ID, Name: j.Name}
		if err := json.Unmarshal([]byte(j.Payload), &r.payload); err != nil {
			return nil, fmt.Errorf("the job's own data is damaged: %w", err)
		}
		if r.Facts, err = h.Store.Facts(ctx, r.payload.Audio); err != nil {
			return nil, err
		}
		of := ""
		if held := r.payload.Held; held != nil && song.Stem(held.Stem) != nil {
			of, r.Holds = held.Stem, holds(held)
		}
		rows = append(rows, r)
		files = append(files, facts.Brought{Name: j.Name, Audio: r.payload.Audio, Facts: r.Facts, Of: of})
	}
	known := map[string]*facts.Analysis{}
	for _, st := range song.Stems {
		if known[st.Audio], err = h.Store.Facts(ctx, st.Audio); err != nil {
			return nil, err
		}
	}
	for i, m := range facts.MatchStems(song.Stems, known, files) {
		rows[i].Match = m
		if files[i].Of != m.Stem { // of another stem's chain
			rows[i].Holds = ""
		}
		if st := song.Stem(m.Stem); st != nil {
			rows[i].Was = known[st.Audio]
		}
	}
	return rows, nil
}

// holds says what an export holds.
func holds(held *session.Held) string {
	switch {
	case held.Gains && len(held.Moves) > 0:
		return "its moves and gains"
	case held.Gains:
		return "its gains"
	case len(held.Moves) > 0:
		return "its moves"
	}
	return "the source alone"
}

// broughtOf is what waits, for the page; nothing while files are still coming.
func (h *handlers) broughtOf(ctx context.Context, song *store.Song) (*broughtView, error) {
	jobs, err := h.Store.Jobs(ctx, song.ID)
	if err != nil {
		return nil, err
	}
	rows, err := h.brought(ctx, song, jobs)
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	v := &broughtView{Rows: rows, Stems: song.Stems}
	versions, added, same := 0, 0, 0
	for _, r := range rows {
		switch {
		case r.Match.Same:
			same++
		case r.Match.Stem != "":
			versions++
		default:
			added++
		}
	}
	v.Says = counted(versions, added, same)
	if back := versions + same; back > 1 && 2*back >= len(song.Stems) { // most of a song came: what did not is told
		for _, st := range song.Stems {
			if !slices.ContainsFunc(rows, func(r broughtRow) bool { return r.Match.Stem == st.ID }) {
				v.Missing = append(v.Missing, st.Name)
			}
		}
	}
	return v, nil
}

// counted says "11 new versions, 1 new stem, 2 as before".
func counted(versions, added, same int) string {
	var said []string
	if versions > 0 {
		said = append(said, figure.Count(versions, "new version"))
	}
	if added > 0 {
		said = append(said, figure.Count(added, "new stem"))
	}
	if same > 0 {
		said = append(said, fmt.Sprintf("%d as before", same))
	}
	return strings.Join(said, ", ")
}

// takeBrought takes in what waits as the form says, in one step.
// Long because each choice about a file that came is taken in its own way.
func (h *handlers) takeBrought(c *gin.Context) {
	ctx := c.Request.Context()
	song := h.Load(c)
	if song == nil {
		return
	}
	jobs, err := h.Store.Jobs(ctx, song.ID)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	rows, err := h.brought(ctx, song, jobs)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	edits := session.Together{}
	var done []int64
	versions, added := 0, 0
	taken := map[string]string{}
	for _, r := range rows {
		to := c.PostForm("to-" + strconv.FormatInt(r.Job, 10))
		if to == "" { // it came after the page was drawn, and is still to be asked
			continue
		}
		done = append(done, r.Job)
		switch to {
		case "leave":
		case "new":
			added++
			edits.Edits = append(edits.Edits, r.add())
		default:
			st := song.Stem(to)
			if st == nil || taken[to] != "" {
				text := "the stem that " + r.Name + " is to be a version of is no longer there"
				if st != nil {
					text = fmt.Sprintf("%s and %s cannot both be the new version of %s", taken[to], r.Name, st.Name)
				}
				h.Answer(c, "intake", http.StatusUnprocessableEntity, shell.BadInput("brought", errors.New(text)))
				return
			}
			taken[to] = r.Name
			if st.Audio == r.payload.Audio {
				continue
			}
			versions++
			edits.Edits = append(edits.Edits, session.NewVersion{Stem: to, Audio: r.payload.Audio, Holds: r.payload.Held})
		}
	}
	edits.Said = counted(versions, added, 0)
	if song.Rev != shell.Base(c) {
		h.FailWith(c, store.ErrConflict)
		return
	}
	e, err := h.keepLoop(ctx, song, edits)
	if err == nil {
		err = h.Store.EditDone(ctx, song.ID, song.Rev, h.withTempo(ctx, e), done...)
	}
	var no *store.Refused
	switch {
	case errors.As(err, &no):
		h.Answer(c, "intake", http.StatusUnprocessableEntity, shell.BadInput("brought", no.Err))
	case err != nil:
		h.FailWith(c, err)
	default:
		h.Answer(c, "intake", http.StatusOK, nil)
	}
}

// keepLoop adds to an edit of stems that the judged stretch stays where it was, where it was found by itself and would move:
// old and new figures are of one place.
func (h *handlers) keepLoop(ctx context.Context, song *store.Song, e session.Edit) (session.Edit, error) {
	was, err := h.Bench(ctx, &song.Song)
	if err != nil || !was.Auto || was.Length == 0 {
		return e, err
	}
	after, said, err := session.Made(&song.Song, e)
	if err != nil || said == "" { // it is told where it is made
		return e, nil
	}
	now, err := h.Bench(ctx, &after)
	if err != nil || now.Loop == was.Loop || now.Length < was.Loop.To {
		return e, err
	}
	rate := float64(song.Rate)
	span := session.Span{From: float64(was.Loop.From) / rate, To: float64(was.Loop.To) / rate}
	return session.Together{Said: said, Edits: []session.Edit{e, session.Loop{Span: &span, Said: "as it was"}}}, nil
}

// heldBy finds what a file holds that was exported from its song; nil where it is none.
func (h *handlers) heldBy(ctx context.Context, song string, src audio.Source) (*session.Held, error) {
	if any, err := h.Store.Exports(ctx, song); err != nil || !any {
		return nil, err
	}
	print, err := audio.Digest(src)
	if err != nil {
		return nil, err
	}
	return h.Store.Exported(ctx, song, print)
}
