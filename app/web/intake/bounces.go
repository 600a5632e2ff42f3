package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"mellowthump/app/bounces"
	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/facts"
	"mellowthump/core/landed"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// A bounce folder closes the loop to the program in which a song is worked on: what is bounced there comes in by itself, and is
// compared with what was planned. One loop looks into all folders; each file that is complete becomes a job.

// readShare is the part of the way that is done when a bounce is read and measured.
const readShare = 0.4

// errOwnFolder is said of a bounce folder that is the program's own, by whatever link.
var errOwnFolder = errors.New("that is the program's own folder; name the one that you bounce to")

// bounceTries is how often a bounce is compared anew because another file of its stem came in meanwhile.
const bounceTries = 5

// watched is what the loop knows of the folders, for the page.
type watched struct {
	looking sync.Mutex // a look, or a change of what is known, at a time
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

// change changes what is known of a song's folder, between two looks, and lets the loop read it anew.
func (w *watched) change(song string, do func() error) error {
	w.looking.Lock()
	defer w.looking.Unlock()
	if err := do(); err != nil {
		return err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.folders, song)
	delete(w.coming, song)
	delete(w.wrong, song)
	return nil
}

// watch looks into all folders until the program stops.
func (h *handlers) watch(ctx context.Context) {
	looks := h.Looks
	if looks == nil {
		tick := time.NewTicker(bounces.Every)
		defer tick.Stop()
		looks = tick.C
	}
	for {
		var now time.Time
		select {
		case <-ctx.Done():
			return
		case now = <-looks:
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
			if err := h.look(ctx, song, path, now); err != nil && ctx.Err() == nil {
				slog.Error("looking into a bounce folder", "song", song, "err", err)
			}
		}
	}
}

// look looks into one folder at a time, and makes a job of each file that is complete.
func (h *handlers) look(ctx context.Context, song, path string, now time.Time) error {
	w := h.watched
	w.looking.Lock()
	defer w.looking.Unlock()
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
	var complete, coming []bounces.File
	var err error
	if h.Store.Holds(path) { // its link was turned here since it was named
		err = errOwnFolder
	} else {
		complete, coming, err = f.Look(now)
	}
	w.mu.Lock()
	w.folders[song], w.coming[song], w.wrong[song] = f, coming, ""
	if err != nil {
		w.wrong[song] = bounces.Why(err)
		if errors.Is(err, errOwnFolder) {
			w.wrong[song] = err.Error()
		}
	}
	w.mu.Unlock()
	for _, file := range complete {
		err := h.fetch(ctx, song, f, file)
		if store.Full(err) {
			w.mu.Lock()
			w.wrong[song] = worker.NoRoom
			w.mu.Unlock()
			return nil
		}
		if err != nil {
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
	case errors.Is(err, bounces.ErrChanged) || errors.Is(err, fs.ErrNotExist): // the next look tells
		return nil
	case err != nil:
		b.State, b.Said = store.BounceFailed, bounces.Unread(err)
		f.Took(file)
		return h.Store.SetBounce(ctx, b)
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
	if b.State == store.BounceTaken { // that is stored
		return err
	}
	if e := h.Store.EndBounce(context.WithoutCancel(ctx), b); e != nil && err == nil {
		err = e
	}
	return err
}

// turns lets one bounce of a song be compared and taken at a time: each looks at what those before it have put in.
type turns struct {
	mu sync.Mutex
	of map[string]chan struct{}
}

// take waits for a song's turn; done gives it on.
func (t *turns) take(ctx context.Context, song string) (done func(), err error) {
	t.mu.Lock()
	if t.of == nil {
		t.of = map[string]chan struct{}{}
	}
	one := t.of[song]
	if one == nil {
		one = make(chan struct{}, 1)
		t.of[song] = one
	}
	t.mu.Unlock()
	select {
	case one <- struct{}{}:
		return func() { <-one }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (h *handlers) takeBounce(ctx context.Context, j store.Job, p *bouncePayload, b *store.Bounce, report worker.Report) error {
	if older, err := h.Store.Older(ctx, *b, ""); err != nil || older { // it was written anew while this waited
		return err
	}
	sha, a, _, err := h.measured(ctx, p.Incoming, j.Name, func(part float64, what string) { report(readShare*part, what) })
	if err != nil {
		return err
	}
	b.SHA = sha
	if p.Held, err = h.holdsFile(ctx, j.SongID, sha); err != nil {
		return err
	}
	report(readShare, "waiting for the bounce before it")
	done, err := h.turns.take(ctx, j.SongID)
	if err != nil {
		return err
	}
	defer done()
	report(readShare, "comparing")
	ctx = mix.Watched(ctx, &mix.Work{Told: func(_ string, part float64) { report(readShare+(1-readShare)*part, "comparing") }})
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
		if older, err := h.Store.Older(ctx, *b, st.Audio); err != nil || older {
			b.State, b.Stem, b.Said = store.BounceOlder, st.ID, "it is older than the bounce that "+st.Name+" has; to take it all the same, drop it on the stem"
			return err
		}
		e, err := h.bounced(ctx, song, st, sha, p.Held)
		if err != nil {
			return err
		}
		if older, err := h.Store.Older(ctx, *b, st.Audio); err != nil || older { // while it was compared
			return err
		}
		taken := *b
		taken.Stem, taken.State = st.ID, store.BounceTaken
		err = h.Store.TakeBounce(context.WithoutCancel(ctx), song.Rev, e, j.ID, taken)
		if errors.Is(err, store.ErrConflict) && try < bounceTries {
			continue
		}
		if err == nil {
			*b = taken
		}
		return err
	}
}

// bounceOf finds the stem whose bounce a file is: by what was exported, by name, by sound.
func (h *handlers) bounceOf(ctx context.Context, song *store.Song, b *store.Bounce, a *facts.Analysis, p *bouncePayload) (facts.Match, error) {
	known := map[string]*facts.Analysis{}
	of := ""
	for _, st := range song.Stems {
		if st.Audio == b.SHA {
			return facts.Match{Stem: st.ID, Same: true}, nil
		}
		var err error
		if known[st.Audio], err = h.Store.Facts(ctx, st.Audio); err != nil {
			return facts.Match{}, err
		}
	}
	if p.Held != nil && song.Stem(p.Held.Stem) != nil {
		of = p.Held.Stem
	}
	m := facts.MatchStems(song.Stems, known, []facts.Brought{{Name: b.Name, Audio: b.SHA, Facts: a, Of: of}})[0]
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
		l, err := landed.On(ctx, v, st.ID, sha)
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
