package intake

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/gin-gonic/gin"

	"mellowthump/app/decode"
	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/audio/wav"
	"mellowthump/core/facts"
	"mellowthump/core/midi"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// Limits of what is taken in at once.
const (
	MaxFileBytes    = 2 << 30 // 2 GiB a file
	MaxFilesAt      = 200     // files in one drop
	MaxDecodedBytes = 8 << 30 // of one decoded file
)

// The kinds of the jobs that take a stem, or notes of one, in.
const (
	importJob  = "import"
	midiJob    = "midi"
	archiveJob = "archive"
)

type importPayload struct {
	Incoming string `json:"incoming"`
	Replace  string `json:"replace,omitempty"` // the stem that this is a new version of

	Ask   bool          `json:"ask,omitempty"`   // the song has stems: it may be a version of one
	Audio string        `json:"audio,omitempty"` // of one that is ready: its hash
	Held  *session.Held `json:"held,omitempty"`  // and what it holds, where it was exported from here
}

// upload takes the files of a drop, one after another, and starts a job for each.
func (h *handlers) upload(c *gin.Context) { h.receive(c, importJob, h.imports, "intake") }

// takes returns what takes in files that are no part of the mix, as jobs of a kind, for a stage; answer shows them.
func (h *handlers) takes(kind, stage string) func(answer gin.HandlerFunc) gin.HandlerFunc {
	return func(answer gin.HandlerFunc) gin.HandlerFunc {
		return func(c *gin.Context) { h.receive(c, kind, answer, stage) }
	}
}

func (h *handlers) receive(c *gin.Context, kind string, answer func(*gin.Context), stage string) {
	song := h.Load(c)
	if song == nil {
		return
	}
	ask := kind == importJob && c.Param("stem") == "" && len(song.Stems) > 0
	reader, err := c.Request.MultipartReader()
	if err != nil {
		h.Fail(c, http.StatusBadRequest, "Nothing arrived. Choose files, or drop them on the page.")
		return
	}
	taken := 0
	for {
		part, err := reader.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			h.Fail(c, http.StatusBadRequest, "The upload broke off. The files before it were taken; send the rest again.")
			return
		}
		if part.FileName() == "" {
			continue
		}
		if taken++; taken > MaxFilesAt {
			h.Fail(
				c,
				http.StatusRequestEntityTooLarge,
				fmt.Sprintf("More than %d files at once. The first %d were taken; send the rest after them.", MaxFilesAt, MaxFilesAt),
			)
			return
		}
		if err := h.takeIn(c, kind, part.FileName(), importPayload{Replace: c.Param("stem"), Ask: ask}, part); err != nil {
			h.FailWith(c, err)
			return
		}
	}
	if taken == 0 {
		h.Fail(c, http.StatusBadRequest, "No file was chosen.")
		return
	}
	if !shell.IsHTMX(c) {
		c.Redirect(http.StatusSeeOther, "/songs/"+c.Param("id")+"/"+stage)
		return
	}
	answer(c)
}

func (h *handlers) takeIn(c *gin.Context, kind, fileName string, p importPayload, r io.Reader) error {
	name := shownName(fileName)
	job := store.Job{SongID: c.Param("id"), Kind: kind, Name: name}
	incoming, err := h.Store.Incoming(r, MaxFileBytes)
	if errors.Is(err, store.ErrTooLarge) {
		job.State, job.Message = store.Failed, fmt.Sprintf("it is larger than %d GiB; nothing was taken from it", MaxFileBytes>>30)
		_, err = h.Store.AddJob(c.Request.Context(), job)
		return err
	}
	if err != nil {
		return err
	}
	p.Incoming = incoming
	payload, err := json.Marshal(p)
	if err != nil {
		return err
	}
	job.Payload = string(payload)
	if kind == importJob && p.Replace == "" && h.begins(incoming, isArchive) {
		job.Kind = archiveJob
	} else if kind == importJob && h.begins(incoming, midi.IsMIDI) {
		job.Kind = midiJob
	}
	_, err = h.Pool.Submit(c.Request.Context(), job)
	return err
}

// shownName makes a file's name fit to be shown: no folders, no control characters, not
// endless. It is never used as a path.
func shownName(name string) string {
	name = path.Base(strings.ReplaceAll(strings.ToValidUTF8(name, "_"), `\`, "/"))
	name = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return -1
		}
		return r
	}, name)
	if r := []rune(name); len(r) > session.MaxName {
		name = string(r[:session.MaxName-1]) + "…"
	}
	if name == "" || name == "." || name == "/" {
		name = "unnamed.wav"
	}
	return name
}

// runImport checks and measures a file, puts it in place and makes it a stem of the song.
func (h *handlers) runImport(ctx context.Context, j store.Job, report worker.Report) error {
	var p importPayload
	if err := json.Unmarshal([]byte(j.Payload), &p); err != nil {
		return fmt.Errorf("the job's own data is damaged: %w", err)
	}
	take := h.importFile
	switch j.Kind {
	case midiJob:
		take = h.importMIDI
	case archiveJob:
		take = func(ctx context.Context, j store.Job, p importPayload, report worker.Report) error {
			return h.importArchive(ctx, j, p.Incoming, report)
		}
	}
	err := take(ctx, j, p, report)
	if store.Full(err) && ctx.Err() == nil {
		return err // it is tried again
	}
	if err == nil || errors.Is(err, worker.ErrKept) || ctx.Err() == nil || errors.Is(context.Cause(ctx), worker.ErrCancelled) {
		h.Store.DropIncoming(p.Incoming) // what was wanted has been moved away
	}
	return err
}

// importFile: long because it is one job, from upload to stem: what it has put in place must be known to its end.
func (h *handlers) importFile(ctx context.Context, j store.Job, p importPayload, report worker.Report) error {
	incoming, replace := p.Incoming, p.Replace
	if err := ctx.Err(); err != nil {
		return err
	}
	sha, a, damaged, err := h.measured(ctx, incoming, j.Name, report)
	if err != nil {
		return err
	}
	if damaged && h.holds(ctx, j, replace, sha) {
		return nil // it is mended where it is
	}
	if p.Ask || replace != "" {
		if p.Held, err = h.holdsFile(ctx, j.SongID, sha); err != nil {
			return err
		}
	}
	if p.Ask {
		p.Audio = sha
		return h.keepReady(ctx, j, p)
	}
	var e session.Edit = session.AddStem{File: j.Name, Audio: sha, Rate: a.Rate, Role: a.Guess(session.StemName(j.Name)).Role}
	switch {
	case replace != "":
		song, err := h.Store.Load(ctx, j.SongID)
		if err != nil {
			return err
		}
		if e, err = h.keepLoop(ctx, song, session.NewVersion{Stem: replace, Audio: sha, Holds: p.Held}); err != nil {
			return err
		}
	case j.Kind == shell.ReferenceJob:
		e = session.AddReference{File: j.Name, Audio: sha}
	case j.Kind == shell.VoiceJob:
		e = session.SetVoice{File: j.Name, Audio: sha}
	}
	return h.finish(ctx, j, e)
}

// measured measures an upload and puts it in place, as a WAV.
func (h *handlers) measured(ctx context.Context, incoming, name string, report worker.Report) (sha string, a *facts.Analysis, damaged bool, err error) {
	report(0, "reading")
	original, converted, err := h.asWAV(ctx, incoming)
	if err != nil {
		if ctx.Err() != nil {
			return "", nil, false, ctx.Err()
		}
		return "", nil, false, fmt.Errorf("%w; nothing was taken from it", err)
	}
	if converted != incoming {
		defer h.Store.DropIncoming(converted) // nothing is left of it once it is registered
	}
	return h.TakeIn(ctx, converted, name, original, report)
}

// holdsFile finds what of its chain a file holds, where it was exported from its song; nil where it is none.
func (h *handlers) holdsFile(ctx context.Context, song, sha string) (*session.Held, error) {
	src, closeFile, err := h.Store.Open(sha)
	if err != nil {
		return nil, err
	}
	defer closeFile()
	return h.heldBy(ctx, song, src)
}

// holds reports whether what a job brings is in its song already, where it is to go.
func (h *handlers) holds(ctx context.Context, j store.Job, replace, sha string) bool {
	song, err := h.Store.Load(ctx, j.SongID)
	if err != nil {
		return false
	}
	if j.Kind == shell.VoiceJob {
		return song.Voice != nil && song.Voice.Audio == sha
	}
	if j.Kind == shell.ReferenceJob {
		return slices.ContainsFunc(song.References, func(r session.Reference) bool { return r.Audio == sha })
	}
	return slices.ContainsFunc(song.Stems, func(st session.Stem) bool { return st.Audio == sha && (replace == "" || st.ID == replace) })
}

// finish stores what an import came to together with its end. A stop is heeded before it and not during it.
func (h *handlers) finish(ctx context.Context, j store.Job, e session.Edit) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	return h.Store.EditDone(ctx, j.SongID, store.AnyRevision, h.withTempo(ctx, e), j.ID)
}

// withTempo is an edit of stems with what it says of the tempo, where nobody said one.
func (h *handlers) withTempo(ctx context.Context, e session.Edit) session.Edit {
	return pair.WithTempo{Edit: e, Known: func(audio string) *facts.Analysis {
		a, err := h.Store.Facts(ctx, audio)
		if err != nil {
			return nil // what cannot be read says nothing
		}
		return a
	}}
}

// begins reports whether an upload's first four bytes are what they are asked to be.
func (h *handlers) begins(incoming string, is func(head []byte) bool) bool {
	f, err := h.Store.OpenIncoming(incoming)
	if err != nil {
		return false
	}
	defer f.Close()
	var head [4]byte
	_, err = f.ReadAt(head[:], 0)
	return err == nil && is(head[:])
}

// importMIDI attaches the notes of a file, once the song's other imports are done: the stem
// they belong to may be among them.
func (h *handlers) importMIDI(ctx context.Context, j store.Job, p importPayload, report worker.Report) error {
	incoming, stem := p.Incoming, p.Replace
	for others := true; others; {
		jobs, err := h.Store.Jobs(ctx, j.SongID)
		if err != nil {
			return err
		}
		others = slices.ContainsFunc(jobs, func(o store.Job) bool { return o.Kind == importJob && o.Active() })
		if others {
			report(0, "waiting for its stem")
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(midiPatience):
			}
		}
	}
	f, err := h.Store.OpenIncoming(incoming)
	if err != nil {
		return errors.New("the upload is no longer there; send the file again")
	}
	defer f.Close()
	notes, err := midi.Read(f)
	if err != nil {
		return fmt.Errorf("%w; nothing was taken from it", err)
	}
	return h.attachMIDI(ctx, j, stem, notes)
}

// midiPatience is the time between two looks at the imports that notes wait for.
const midiPatience = 50 * time.Millisecond

// attachMIDI gives notes to the stem they were dropped on, or to the one whose name they
// bear, shifted so that they meet the stem's hits.
func (h *handlers) attachMIDI(ctx context.Context, j store.Job, stem string, notes []midi.Note) error {
	song, err := h.Store.Load(ctx, j.SongID)
	if err != nil {
		return err
	}
	st := song.Stem(stem)
	if stem == "" {
		st = song.Named(session.StemName(j.Name))
	}
	if st == nil {
		return errors.New("no stem has the name of this MIDI file; drop it on the row of the stem that it belongs to")
	}
	a, err := h.Store.Facts(ctx, st.Audio)
	if err != nil {
		return err
	}
	m, err := facts.Notes(a, st.Name, j.Name, notes)
	if err != nil {
		return err
	}
	return h.finish(ctx, j, session.Attach{Stem: st.ID, MIDI: m})
}

// dropMIDI takes the notes off a stem again.
func (h *handlers) dropMIDI(c *gin.Context) {
	h.Edit(c, "intake", "stems", session.Attach{Stem: c.Param("stem")})
}

// asWAV returns an upload as it is where it is a WAV, and else what it decodes to, as a new
// upload: audio is kept in one form, so that any place of it can be read at once. Integer
// samples of up to 24 bits stay what they are; all others become 32-bit float.
func (h *handlers) asWAV(ctx context.Context, incoming string) (audio.Format, string, error) {
	f, err := h.Store.OpenIncoming(incoming)
	if err != nil {
		return audio.Format{}, "", errors.New("the upload is no longer there; send the file again")
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return audio.Format{}, "", err
	}
	if wav.Is(f) {
		src, err := codec.Open(f, st.Size())
		if err != nil {
			return audio.Format{}, "", err
		}
		return src.Format(), incoming, nil
	}
	name := ""
	format, err := decode.WAV(ctx, f, func(r io.Reader) (err error) {
		name, err = h.Store.Incoming(r, MaxDecodedBytes)
		return err
	})
	if err != nil && name != "" {
		h.Store.DropIncoming(name)
	}
	return format, name, err
}

// imports answers the poll of the import list; when the song has changed since the page
// was drawn, the whole sheet comes with it.
func (h *handlers) imports(c *gin.Context) {
	v, err := h.importsView(c.Request.Context(), c.Param("id")) // before the song: what has ended by now is in it
	if err != nil {
		h.FailWith(c, err)
		return
	}
	song := h.Load(c)
	if song == nil {
		return
	}
	if seen := c.Query("rev"); seen != "" && (v.Active == 0 || seen != strconv.FormatInt(song.Rev, 10)) { // all are in: files may have been mended
		c.Header("HX-Retarget", "#sheet")
		c.Header("HX-Reswap", "innerHTML")
		h.Show(c, song, "intake")
		return
	}
	if c.Request.Method == http.MethodPost { // a short file may be done already: look once more
		v.Rev = song.Rev
	}
	h.Write(c, http.StatusOK, "imports", v)
}

func (h *handlers) cancelImport(c *gin.Context) {
	id, _ := strconv.ParseInt(c.Param("job"), 10, 64)
	if j, err := h.Store.Job(c.Request.Context(), id); err != nil || j.SongID != c.Param("id") {
		h.FailWith(c, store.ErrNotFound)
		return
	}
	h.Pool.Cancel(id)
	h.Answer(c, "intake", http.StatusOK, nil)
}

// againImport begins one that was given up for the program's ends.
func (h *handlers) againImport(c *gin.Context) {
	id, _ := strconv.ParseInt(c.Param("job"), 10, 64)
	j, err := h.Store.Job(c.Request.Context(), id)
	if err == nil && j.SongID != c.Param("id") {
		err = store.ErrNotFound
	}
	if err == nil {
		err = h.Pool.Again(c.Request.Context(), id)
	}
	if errors.Is(err, store.ErrNotFound) {
		h.Fail(c, http.StatusNotFound, "That file is under way again already, or in.")
		return
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.Answer(c, h.CurrentStage(c), http.StatusOK, nil)
}

func (h *handlers) forgetImports(c *gin.Context) {
	if err := h.Store.ForgetJobs(c.Request.Context(), c.Param("id")); err != nil {
		h.FailWith(c, err)
		return
	}
	h.Answer(c, "intake", http.StatusOK, nil)
}
