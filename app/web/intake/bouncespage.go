package intake

import (
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"math"
	"net/http"
	"path/filepath"
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
	Is    *bench.Landed
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
}

// bounces answers with the folder as it stands; nothing where that is what the page shows already.
func (h *handlers) bounces(c *gin.Context) { h.showBounces(c, http.StatusOK, "", "") }

func (h *handlers) showBounces(c *gin.Context, status int, typed, wrong string) {
	song := h.Load(c)
	if song == nil {
		return
	}
	v, err := h.bouncesOf(c.Request.Context(), song)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	v.Stage, v.Typed, v.Wrong, v.Closed = h.CurrentStage(c), typed, wrong, h.OnNetwork()
	asked := c.Request.URL.Query()
	if asked.Has("seen") && asked.Get("seen") == v.Seen {
		c.Status(http.StatusNoContent)
		return
	}
	if rev := asked.Get("rev"); rev != "" && rev != strconv.FormatInt(song.Rev, 10) { // a bounce has come in: all of the page is of it
		c.Header("HX-Retarget", "#sheet")
		c.Header("HX-Reswap", "innerHTML")
		h.Show(c, song, v.Stage)
		return
	}
	h.Write(c, status, "bounces", v)
}

func (h *handlers) bouncesOf(ctx context.Context, song *store.Song) (*bouncesView, error) {
	v := &bouncesView{ID: song.ID, Rev: song.Rev}
	var err error
	if v.Folder, err = h.Store.BounceFolder(ctx, song.ID); err != nil || v.Folder == "" {
		v.Seen = "none"
		return v, err
	}
	v.Coming, v.Gone = h.watched.now(song.ID)
	seen, err := h.Store.Bounces(ctx, song.ID)
	if err != nil {
		return nil, err
	}
	jobs, err := h.Store.Jobs(ctx, song.ID)
	if err != nil {
		return nil, err
	}
	for _, j := range h.Pool.Now(jobs) {
		if j.Kind == shell.BounceJob && j.Active() {
			v.Jobs = append(v.Jobs, j)
		}
	}
	for _, b := range seen {
		switch b.State {
		case store.BounceLeft:
			v.Left++
			continue
		case store.BounceComing:
			continue
		}
		r, err := h.bounceRow(ctx, song, b)
		if err != nil {
			return nil, err
		}
		v.Rows = append(v.Rows, r)
	}
	hash := fnv.New64a()
	fmt.Fprint(hash, song.Rev, v.Folder, v.Gone, v.Left)
	for _, f := range v.Coming {
		fmt.Fprint(hash, f.Name)
	}
	for _, j := range v.Jobs {
		fmt.Fprint(hash, j.ID, math.Round(10*j.Progress), j.Message)
	}
	for _, r := range v.Rows {
		fmt.Fprint(hash, r.Name, r.State, r.Seen)
	}
	v.Seen = strconv.FormatUint(hash.Sum64(), 36)
	return v, nil
}

// bounceRow says what became of a file; one that is a stem's file now is compared with its plan.
func (h *handlers) bounceRow(ctx context.Context, song *store.Song, b store.Bounce) (bounceRow, error) {
	r := bounceRow{Bounce: b, State: string(b.State), Class: "soft"}
	switch b.State {
	case store.BounceFailed:
		r.State, r.Class = "not taken", "wrong"
		return r, nil
	case store.BounceAsked:
		r.State, r.Class = "asked on Intake", "attention"
		return r, nil
	}
	st := song.Stem(b.Stem)
	switch {
	case st == nil:
		r.State, r.Said = "its stem is gone", ""
	case st.Audio != b.SHA:
		r.State, r.Said = "not its file now", ""
		if name := st.Name; b.State == store.BounceTaken {
			r.Said = "it was the file of " + name + "; undone, or another came after it"
		}
	case b.State == store.BounceSame:
		r.Stem, r.State = st, "as before"
	case st.Back == nil:
		r.Stem, r.State, r.Class = st, "exported from here", "ok"
	default:
		r.Stem = st
		v, err := h.Bench(ctx, &song.Song)
		if err != nil {
			return r, err
		}
		if r.Is, err = v.Landed(ctx, st.ID, st.Audio); err != nil {
			return r, err
		}
		r.State, r.Class = string(r.Is.State()), map[landed.State]string{landed.Yes: "ok", landed.Part: "attention", landed.No: "attention"}[r.Is.State()]
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
	if err := NameBounces(c.Request.Context(), h.Store, song.ID, path); err != nil {
		h.showBounces(c, http.StatusUnprocessableEntity, c.PostForm("folder"), err.Error())
		return
	}
	h.watched.forget(song.ID)
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
			return errors.New("that is the program's own folder; name the one that you bounce to")
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
	if err := h.Store.ForgetBounces(c.Request.Context(), c.Param("id"), store.BounceLeft); err != nil {
		h.FailWith(c, err)
		return
	}
	h.watched.forget(c.Param("id"))
	h.showBounces(c, http.StatusOK, "", "")
}
