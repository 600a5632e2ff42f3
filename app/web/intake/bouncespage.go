package intake

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"math"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/bounces"
	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/landed"
	"mellowthump/core/session"
)

// bounceRow is a file of the folder with what became of it.
type bounceRow struct {
	store.Bounce
	Stem  *session.Stem // whose file it is now; nil: it was taken back, or is of none
	Is    *landed.OnBench
	State string
	Class string // of the mark
}

// bouncesView is the folder as it stands.
type bouncesView struct {
	ID, Stage string
	Rev       int64
	Folder    string
	Typed     string
	Wrong     string // what is wrong with what was typed
	Gone      string // why the folder cannot be read
	Closed    bool   // it is named on the command line alone
	Coming    []bounces.File
	Jobs      []store.Job
	Rows      []bounceRow
	Left      int
	Seen      string // what the page shows: while it is the same nothing is sent

	waits []string // files that are asked about on Intake
}

// bounces answers with the folder as it stands; nothing where that is what the page shows already.
func (h *handlers) bounces(c *gin.Context) { h.showBounces(c, http.StatusOK, "", "") }

func (h *handlers) showBounces(c *gin.Context, status int, typed, wrong string) {
	song := h.Load(c)
	if song == nil {
		return
	}
	ctx, asked := c.Request.Context(), c.Request.URL.Query()
	v, seen, err := h.bouncesOf(ctx, song)
	if err == nil && asked.Has("seen") && asked.Get("seen") == v.Seen {
		c.Status(http.StatusNoContent)
		return
	}
	if err == nil {
		err = h.bounceRows(ctx, song, v, seen)
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	v.Stage, v.Typed, v.Wrong, v.Closed = h.CurrentStage(c), typed, wrong, h.OnNetwork()
	if rev := asked.Get("rev"); rev != "" && rev != strconv.FormatInt(song.Rev, 10) { // a bounce has come in: all of the page is of it
		c.Header("HX-Retarget", "#sheet")
		c.Header("HX-Reswap", "innerHTML")
		h.Show(c, song, v.Stage)
		return
	}
	h.Write(c, status, "bounces", v)
}

// bouncesOf is the folder without its rows, which seen becomes.
func (h *handlers) bouncesOf(ctx context.Context, song *store.Song) (v *bouncesView, seen []store.Bounce, err error) {
	v = &bouncesView{ID: song.ID, Rev: song.Rev}
	if v.Folder, err = h.Store.BounceFolder(ctx, song.ID); err != nil || v.Folder == "" {
		v.Seen = "none"
		return v, nil, err
	}
	v.Coming, v.Gone = h.watched.now(song.ID)
	if seen, err = h.Store.Bounces(ctx, song.ID); err != nil {
		return nil, nil, err
	}
	jobs, err := h.Store.Jobs(ctx, song.ID)
	if err != nil {
		return nil, nil, err
	}
	hash := fnv.New64a()
	fmt.Fprint(hash, song.Rev, v.Folder, v.Gone)
	for _, j := range h.Pool.Now(jobs) {
		if j.Kind == shell.BounceJob && j.Active() {
			v.Jobs = append(v.Jobs, j)
			fmt.Fprint(hash, j.ID, math.Round(10*j.Progress), j.Message)
		}
		if j.State == store.Ready {
			fmt.Fprint(hash, j.ID)
			v.waits = append(v.waits, j.Name)
		}
	}
	for _, f := range v.Coming {
		fmt.Fprint(hash, f.Name)
	}
	for _, b := range seen {
		fmt.Fprint(hash, b.Name, b.State, b.Seen)
	}
	v.Seen = strconv.FormatUint(hash.Sum64(), 36)
	return v, seen, nil
}

// bounceRows says of each file that was seen what became of it.
func (h *handlers) bounceRows(ctx context.Context, song *store.Song, v *bouncesView, seen []store.Bounce) error {
	var b *bench.Bench // of the song, once
	for _, s := range seen {
		switch s.State {
		case store.BounceLeft:
			v.Left++
			continue
		case store.BounceComing:
			continue
		}
		if b == nil {
			var err error
			if b, err = h.Bench(ctx, &song.Song); err != nil {
				return err
			}
		}
		r, err := bounceRowOf(ctx, b, s, slices.Contains(v.waits, shownName(s.Name)))
		if err != nil {
			return err
		}
		v.Rows = append(v.Rows, r)
	}
	return nil
}

// bounceRowOf says what became of a file; one that is a stem's file now is compared with its plan. waits says that it is asked about.
func bounceRowOf(ctx context.Context, v *bench.Bench, b store.Bounce, waits bool) (bounceRow, error) {
	r := bounceRow{Bounce: b, State: string(b.State), Class: "soft"}
	switch b.State {
	case store.BounceFailed:
		r.State, r.Class = "not taken", "wrong"
		return r, nil
	case store.BounceAsked:
		r.State, r.Class = "asked on Intake", "attention"
		if !waits {
			r.State, r.Class, r.Said = "left", "soft", "it was left on Intake"
		}
		for i := range v.Song.Stems {
			if st := &v.Song.Stems[i]; st.Audio == b.SHA {
				r.Stem, r.State, r.Class, r.Said = st, "taken in", "ok", "as it was told on Intake"
			}
		}
		return r, nil
	}
	st := v.Song.Stem(b.Stem)
	switch {
	case st == nil:
		r.State, r.Said = "its stem is gone", "the stem that it was the file of was removed"
	case st.Audio != b.SHA && b.State != store.BounceOlder:
		r.State, r.Said = "not its file now", "it was the file of "+st.Name+"; undone, or another came after it"
	case b.State == store.BounceOlder:
		r.State = "left"
	case b.State == store.BounceSame:
		r.Stem, r.State = st, "as before"
	case st.Back == nil:
		r.Stem, r.State, r.Class = st, "exported from here", "ok"
	default:
		r.Stem = st
		var err error
		if r.Is, err = landed.On(ctx, v, st.ID, st.Audio); err != nil {
			return r, err
		}
		r.State, r.Class = string(r.Is.State()), map[landed.State]string{landed.Yes: "ok", landed.Partly: "attention", landed.No: "attention"}[r.Is.State()]
		switch {
		case !r.Is.Sound():
			r.State, r.Class = "another sound", "attention"
		case len(r.Is.Items) == 0:
			r.State = "nothing planned"
		}
	}
	return r, nil
}

// nameFolder names the folder of a song, or ends the watching.
func (h *handlers) nameFolder(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	if h.OnNetwork() {
		h.Fail(c, http.StatusForbidden, "Where the program is open to a network, a folder of its machine is named where it is started: --bounces.")
		return
	}
	path := strings.TrimSpace(c.PostForm("folder"))
	if path != "" {
		path = filepath.Clean(path)
	}
	err := h.watched.change(song.ID, func() error { return NameBounces(c.Request.Context(), h.Store, song.ID, path) })
	if err != nil {
		h.showBounces(c, http.StatusUnprocessableEntity, c.PostForm("folder"), err.Error())
		return
	}
	h.showBounces(c, http.StatusOK, "", "")
}

// stopBounce cancels the taking in of a file.
func (h *handlers) stopBounce(c *gin.Context) {
	id, _ := strconv.ParseInt(c.Param("job"), 10, 64)
	if j, err := h.Store.Job(c.Request.Context(), id); err != nil || j.SongID != c.Param("id") || j.Kind != shell.BounceJob {
		h.FailWith(c, store.ErrNotFound)
		return
	}
	h.Pool.Cancel(id)
	h.showBounces(c, http.StatusOK, "", "")
}

// NameBounces names a song's bounce folder; what is there already is left. An empty one ends the watching. The error says in a
// sentence what is wrong with it.
func NameBounces(ctx context.Context, st *store.Store, song, path string) error {
	var known []store.Bounce
	if path != "" {
		if err := bounces.Check(path); err != nil {
			return err
		}
		if st.Holds(path) {
			return errOwnFolder
		}
		files, err := bounces.Files(path)
		if err != nil {
			return errors.New(bounces.Why(err))
		}
		for _, f := range files {
			known = append(known, store.Bounce{Name: f.Name, Size: f.Size, Stamp: f.Mod.Format(time.RFC3339Nano), State: store.BounceLeft})
		}
	}
	return st.SetBounceFolder(ctx, song, path, known)
}

// takeLeft takes in what was in the folder when it was named.
func (h *handlers) takeLeft(c *gin.Context) {
	err := h.watched.change(c.Param("id"), func() error { return h.Store.ForgetBounces(c.Request.Context(), c.Param("id"), store.BounceLeft) })
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.showBounces(c, http.StatusOK, "", "")
}
