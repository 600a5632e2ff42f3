package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"hash/fnv"
	"io"
	"log/slog"
	"maps"
	"math"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/bounces"
	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/bench"
	"mellowthump/core/intake"
	"mellowthump/core/landed"
	"mellowthump/core/session"
)

// A bounce folder closes the loop to the program in which a song is worked on: what is bounced there comes in by itself, and is
// compared with what was planned. One loop looks into all folders; each file that is complete becomes a job.

// bounceTries is how often a bounce is compared anew because another file of its stem came in meanwhile.
const bounceTries = 5

// watched is what the loop knows of the folders, for the page.
type watched struct {
	mu      sync.Mutex
	folders map[string]*bounces.Folder // by song
	coming  map[string][]bounces.File
	wrong   map[string]string
}

func newWatched() *watched {
	return &watched{folders: map[string]*bounces.Folder{}, coming: map[string][]bounces.File{}, wrong: map[string]string{}}
}

// now is what is being written into a song's folder, and why it cannot be read.
func (w *watched) now(song string) (coming []bounces.File, wrong string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.coming[song], w.wrong[song]
}

// forget lets the loop read anew what is known of a song's folder.
func (w *watched) forget(song string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.folders, song)
	delete(w.coming, song)
	delete(w.wrong, song)
}

// watch looks into all folders until the program stops.
func (h *handlers) watch(ctx context.Context) {
	for tick := time.NewTicker(bounces.Every); ; {
		select {
		case <-ctx.Done():
			tick.Stop()
			return
		case <-tick.C:
		}
		folders, err := h.Store.BounceFolders(ctx)
		if err != nil {
			if ctx.Err() == nil {
				slog.Error("reading which folders are watched", "err", err)
			}
			continue
		}
		h.watched.mu.Lock()
		maps.DeleteFunc(h.watched.folders, func(song string, f *bounces.Folder) bool { return folders[song] != f.Path })
		h.watched.mu.Unlock()
		for song, path := range folders {
			if err := h.look(ctx, song, path); err != nil && ctx.Err() == nil {
				slog.Error("looking into a bounce folder", "song", song, "err", err)
			}
		}
	}
}

// look looks into one folder, and makes a job of each file that is complete.
func (h *handlers) look(ctx context.Context, song, path string) error {
	w := h.watched
	w.mu.Lock()
	f := w.folders[song]
	w.mu.Unlock()
	if f == nil {
		seen, err := h.Store.Bounces(ctx, song)
		if err != nil {
			return err
		}
		jobs, err := h.Store.Jobs(ctx, song)
		if err != nil {
			return err
		}
		var known []bounces.File
		for _, b := range seen {
			if b.State == store.BounceComing && !slices.ContainsFunc(jobs, func(j store.Job) bool {
				return j.Kind == shell.BounceJob && j.Active() && j.Name == shownName(b.Name)
			}) {
				continue // a stop came between
			}
			known = append(known, bounces.File{Name: b.Name, Size: b.Size, Mod: b.Mod()})
		}
		f = bounces.Watch(path, known)
	}
	complete, coming, err := f.Look(time.Now())
	w.mu.Lock()
	w.folders[song], w.coming[song], w.wrong[song] = f, coming, ""
	if err != nil {
		w.wrong[song] = bounces.Why(err)
	}
	w.mu.Unlock()
	for _, file := range complete {
		if err := h.fetch(ctx, song, f, file); err != nil {
			return err
		}
	}
	return nil
}

// bouncePayload is a file of a folder that was copied.
type bouncePayload struct {
	importPayload
	File store.Bounce `json:"file"`
}

// fetch copies a file that is complete and makes a job of it; one that changes meanwhile is left until it rests again.
func (h *handlers) fetch(ctx context.Context, song string, f *bounces.Folder, file bounces.File) error {
	b := store.Bounce{SongID: song, Name: file.Name, Size: file.Size, Stamp: file.Mod.Format(time.RFC3339Nano), State: store.BounceComing}
	incoming := ""
	err := f.Copy(file, func(r io.Reader) (err error) {
		incoming, err = h.Store.Incoming(r, MaxFileBytes)
		return err
	})
	if err != nil && incoming != "" {
		h.Store.DropIncoming(incoming)
	}
	switch {
	case errors.Is(err, store.ErrTooLarge):
		b.State, b.Said = store.BounceFailed, fmt.Sprintf("it is larger than %d GiB", MaxFileBytes>>30)
		f.Took(file)
		return h.Store.SetBounce(ctx, b)
	case store.Full(err):
		return err
	case err != nil: // it changed, or is gone: the next look tells
		return nil
	}
	payload, err := json.Marshal(bouncePayload{importPayload{Incoming: incoming, Ask: true}, b})
	if err != nil {
		return err
	}
	f.Took(file)
	if err := h.Store.SetBounce(ctx, b); err != nil {
		return err
	}
	_, err = h.Pool.Submit(ctx, store.Job{SongID: song, Kind: shell.BounceJob, Name: shownName(file.Name), Payload: string(payload)})
	return err
}

// runBounce takes a file of the folder in: as the new file of its stem, compared with the plan; or, where it is of none, to be asked.
func (h *handlers) runBounce(ctx context.Context, j store.Job, report worker.Report) error {
	var p bouncePayload
	if err := json.Unmarshal([]byte(j.Payload), &p); err != nil {
		return fmt.Errorf("the job's own data is damaged: %w", err)
	}
	b := p.File
	err := h.takeBounce(ctx, j, &p, &b, report)
	if store.Full(err) && ctx.Err() == nil {
		return err // it is tried again
	}
	if err != nil && !errors.Is(err, worker.ErrKept) {
		if ctx.Err() != nil && !errors.Is(context.Cause(ctx), worker.ErrCancelled) {
			return err // the program stops: it is taken up again
		}
		b.State, b.Said = store.BounceFailed, shell.Sentence(err.Error())
		if ctx.Err() != nil {
			b.Said = "cancelled"
		}
	}
	h.Store.DropIncoming(p.Incoming)
	if e := h.Store.SetBounce(context.WithoutCancel(ctx), b); e != nil && err == nil {
		err = e
	}
	return err
}

func (h *handlers) takeBounce(ctx context.Context, j store.Job, p *bouncePayload, b *store.Bounce, report worker.Report) error {
	report(0, "reading")
	original, wav, err := h.asWAV(ctx, p.Incoming)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%w; nothing was taken from it", err)
	}
	if wav != p.Incoming {
		defer h.Store.DropIncoming(wav)
	}
	sha, a, _, err := h.TakeIn(ctx, wav, j.Name, original, report)
	if err != nil {
		return err
	}
	b.SHA = sha
	src, closeFile, err := h.Store.Open(sha)
	if err != nil {
		return err
	}
	p.Held, err = h.heldBy(ctx, j.SongID, src)
	closeFile()
	if err != nil {
		return err
	}
	report(0.9, "comparing")
	for try := 1; ; try++ {
		song, err := h.Store.Load(ctx, j.SongID)
		if err != nil {
			return err
		}
		m, err := h.bounceOf(ctx, song, b, a, p)
		if err != nil {
			return err
		}
		st := song.Stem(m.Stem)
		switch {
		case m.Same:
			b.State, b.Stem, b.Said = store.BounceSame, st.ID, "as it is here"
			return nil
		case st == nil:
			return h.askBounce(ctx, j, p, b)
		}
		e, err := h.bounced(ctx, song, st, sha, p.Held)
		if err != nil {
			return err
		}
		b.Stem = st.ID
		err = h.Store.EditDone(context.WithoutCancel(ctx), j.SongID, song.Rev, e, j.ID)
		if errors.Is(err, store.ErrConflict) && try < bounceTries {
			continue
		}
		if err == nil {
			b.State = store.BounceTaken
		}
		return err
	}
}

// bounceOf finds the stem whose bounce a file is: that of the file's last one, else by name and sound.
func (h *handlers) bounceOf(ctx context.Context, song *store.Song, b *store.Bounce, a *intake.Analysis, p *bouncePayload) (intake.Match, error) {
	facts := map[string]*intake.Analysis{}
	of := ""
	for _, st := range song.Stems {
		if st.Audio == b.SHA {
			return intake.Match{Stem: st.ID, Same: true}, nil
		}
		var err error
		if facts[st.Audio], err = h.Store.Facts(ctx, st.Audio); err != nil {
			return intake.Match{}, err
		}
	}
	if p.Held != nil && song.Stem(p.Held.Stem) != nil {
		of = p.Held.Stem
	}
	m := intake.MatchStems(song.Stems, facts, []intake.Brought{{Name: b.Name, Audio: b.SHA, Facts: a, Of: of}})[0]
	return m, nil
}

// bounced is the edit that puts a bounce in its stem's place. What was exported from here is known; all else is compared.
func (h *handlers) bounced(ctx context.Context, song *store.Song, st *session.Stem, sha string, held *session.Held) (session.Edit, error) {
	var e session.Edit = session.NewVersion{Stem: st.ID, Audio: sha, Holds: held}
	if held == nil {
		v, err := h.Bench(ctx, &song.Song)
		if err != nil {
			return nil, err
		}
		l, err := v.Landed(ctx, st.ID, sha)
		if err != nil {
			return nil, err
		}
		e = l.Edit(st, sha)
	}
	return h.keepLoop(ctx, song, e)
}

// askBounce keeps a file that is of no stem until it is told what it is, on Intake.
func (h *handlers) askBounce(ctx context.Context, j store.Job, p *bouncePayload, b *store.Bounce) error {
	p.Audio = b.SHA
	body, err := json.Marshal(p.importPayload)
	if err != nil {
		return err
	}
	b.State, b.Said = store.BounceAsked, "no stem has its name or sounds like it"
	if err := h.Store.SetReady(context.WithoutCancel(ctx), j.ID, string(body)); err != nil {
		return err
	}
	return worker.ErrKept
}

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
