package web

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"math"
	"net/http"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"
	"unicode"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/plot"
	"mellowthump/app/worker"
	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/audio/wav"
	"mellowthump/core/intake"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
	"mellowthump/core/session"
)

// The kinds of the jobs that take a file in.
const (
	importJob = "import"
	midiJob   = "midi"

	referenceJob = "reference" // a finished track
)

type importPayload struct {
	Incoming string `json:"incoming"`
	Replace  string `json:"replace,omitempty"` // the stem that this is a new version of
}

type intakeSheet struct {
	*view
	Rows      []intakeRow
	Imports   importsView
	Missing   string // what keeps the Pocket from measuring
	Proposals []proposal
	MaxGiB    int
	MaxMins   int
}

type intakeRow struct {
	session.Stem
	*intake.Analysis
	Wave     template.HTML
	Findings []intake.Finding
	Trigger  bool
	Guess    intake.Guess
	Was      *intake.Analysis // the version before, nil where there is none
}

// proposal is a value that the files suggest for the song.
type proposal struct{ What, Why, Field, Value string }

func (s *Server) intakeSheet(c *gin.Context, v *view) (*intakeSheet, error) {
	out := &intakeSheet{view: v, MaxGiB: MaxFileBytes >> 30, MaxMins: 30}
	trigger := v.TriggerStem()
	for i, st := range v.Stems {
		a := v.Facts[st.Audio]
		row := intakeRow{
			Stem: st, Analysis: a, Findings: s.stemFindings(v, &st), Guess: a.Guess(st.Name),
			Wave:    plot.Wave(fmt.Sprintf("wave-%d", i), string(st.Role), st.Name, a.Overview, 150, 26),
			Trigger: trigger != nil && trigger.ID == st.ID,
		}
		if st.Was != "" {
			was, err := s.Store.Facts(c.Request.Context(), st.Was)
			if err != nil {
				return nil, err
			}
			row.Was = was
		}
		out.Rows = append(out.Rows, row)
	}
	out.Proposals = propose(v)
	var err error
	if out.Imports, err = s.importsView(c.Request.Context(), v.ID); err != nil {
		return nil, err
	}
	order := map[session.Role]int{}
	for i, r := range session.Roles {
		order[r.Role] = i
	}
	sort.SliceStable(out.Rows, func(i, j int) bool { return order[out.Rows[i].Role] < order[out.Rows[j].Role] })
	switch {
	case len(v.Stems) == 0:
		v.Lead = "Nothing yet. Bounce the stems of the beat, all from the same start, and drop them here."
	default:
		found := 0
		for _, r := range out.Rows {
			found += len(r.Findings)
		}
		v.Lead = fmt.Sprintf("%s, %s, rendered at %g kHz. ", count(len(v.Stems), "stem"), clock(float64(v.Length)/float64(v.Rate)), float64(v.Rate)/1000)
		var all []*intake.Analysis
		for _, r := range out.Rows {
			all = append(all, r.Analysis)
		}
		if head := intake.HeadOfAll(all); head > headTell && out.Imports.Active == 0 { // judged when all are in
			v.Lead += fmt.Sprintf("All of them begin with %.2f s of silence, which may be trimmed off each. ", head)
		}
		if found == 0 {
			v.Lead += "Nothing is wrong with the files."
		} else {
			v.Lead += "There is something to look at in " + count(found, "place") + "."
		}
		if v.State == nil {
			out.Missing = v.Trouble
		}
	}
	// An import may have ended after the song was read and before the jobs were: then the
	// page asks once more.
	now, err := s.Store.Head(c.Request.Context(), v.ID)
	if err == nil && now != v.Rev {
		out.Imports.Rev = now
	}
	return out, err
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}

// stemFindings are the findings about a stem's file, alone and beside the kick's.
func (s *Server) stemFindings(v *view, st *session.Stem) []intake.Finding {
	a := v.Facts[st.Audio]
	out := intake.Findings(st.Role, a)
	if t := v.twin(st.ID); t != nil {
		out = append(out, *t)
	}
	if g := a.Guess(st.Name); g.Doubt != "" && g.Role == st.Role {
		out = append(out, intake.Finding{What: g.Doubt, Why: "Its name says " + string(g.Role) + ". Choose the role that is right."})
	}
	if a.Rate != v.Rate && v.Rate > 0 {
		out = append(out, intake.Finding{What: fmt.Sprintf("%g kHz among stems at %g kHz", float64(a.Rate)/1000, float64(v.Rate)/1000), Why: "It is resampled; a bounce at the song's rate is the safer way."})
	}
	var all []*intake.Analysis
	for _, o := range v.Stems {
		all = append(all, v.Facts[o.Audio])
	}
	short := intake.Short(a, all)
	out = append(out, short...)
	if k := v.TriggerStem(); k != nil && st.Role == session.Bass && len(short) == 0 {
		out = append(out, intake.Against(a, v.Facts[k.Audio])...)
	}
	return out
}

// upload takes the files of a drop, one after another, and starts a job for each.
func (s *Server) upload(c *gin.Context) { s.receive(c, importJob, s.imports, "intake") }

// uploadReference takes finished tracks.
func (s *Server) uploadReference(c *gin.Context) {
	s.receive(c, referenceJob, s.references, "levels")
}

func (s *Server) receive(c *gin.Context, kind string, answer func(*gin.Context), stage string) {
	if s.load(c) == nil {
		return
	}
	reader, err := c.Request.MultipartReader()
	if err != nil {
		s.fail(c, http.StatusBadRequest, "Nothing arrived. Choose files, or drop them on the page.")
		return
	}
	taken := 0
	for {
		part, err := reader.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			s.fail(c, http.StatusBadRequest, "The upload broke off. The files before it were taken; send the rest again.")
			return
		}
		if part.FileName() == "" {
			continue
		}
		if taken++; taken > MaxFilesAt {
			s.fail(c, http.StatusRequestEntityTooLarge, fmt.Sprintf("More than %d files at once. The first %d were taken; send the rest after them.", MaxFilesAt, MaxFilesAt))
			return
		}
		if err := s.takeIn(c, kind, part.FileName(), c.Param("stem"), part); err != nil {
			s.failWith(c, err)
			return
		}
	}
	if taken == 0 {
		s.fail(c, http.StatusBadRequest, "No file was chosen.")
		return
	}
	if !isHTMX(c) {
		c.Redirect(http.StatusSeeOther, "/songs/"+c.Param("id")+"/"+stage)
		return
	}
	answer(c)
}

func (s *Server) takeIn(c *gin.Context, kind, fileName, replace string, r io.Reader) error {
	name := shownName(fileName)
	job := store.Job{SongID: c.Param("id"), Kind: kind, Name: name}
	incoming, err := s.Store.Incoming(r, MaxFileBytes)
	if errors.Is(err, store.ErrTooLarge) {
		job.State, job.Message = store.Failed, fmt.Sprintf("it is larger than %d GiB; nothing was taken from it", MaxFileBytes>>30)
		_, err = s.Store.AddJob(c.Request.Context(), job)
		return err
	}
	if err != nil {
		return err
	}
	payload, err := json.Marshal(importPayload{Incoming: incoming, Replace: replace})
	if err != nil {
		return err
	}
	job.Payload = string(payload)
	if kind == importJob && s.isMIDI(incoming) {
		job.Kind = midiJob
	}
	_, err = s.Pool.Submit(c.Request.Context(), job)
	return err
}

// shownName makes a file's name fit to be shown: no folders, no control characters, not
// endless. It is never used as a path.
func shownName(name string) string {
	name = path.Base(strings.ReplaceAll(name, `\`, "/"))
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
func (s *Server) runImport(ctx context.Context, j store.Job, report worker.Report) error {
	var p importPayload
	if err := json.Unmarshal([]byte(j.Payload), &p); err != nil {
		return fmt.Errorf("the job's own data is damaged: %w", err)
	}
	take := s.importFile
	if j.Kind == midiJob {
		take = s.importMIDI
	}
	err := take(ctx, j, p.Incoming, p.Replace, report)
	if err == nil || ctx.Err() == nil || errors.Is(context.Cause(ctx), worker.ErrCancelled) {
		s.Store.DropIncoming(p.Incoming) // what was wanted has been moved away
	}
	return err
}

func (s *Server) importFile(ctx context.Context, j store.Job, incoming, replace string, report worker.Report) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	report(0, "reading")
	original, converted, err := s.asWAV(ctx, incoming)
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%w; nothing was taken from it", err)
	}
	if converted != incoming {
		defer s.Store.DropIncoming(converted) // nothing is left of it once it is registered
		incoming = converted
	}
	sha, err := s.Store.HashIncoming(incoming)
	if err != nil {
		return errors.New("the upload is no longer there; send the file again")
	}
	a, err := s.Store.Facts(ctx, sha)
	if errors.Is(err, store.ErrNotFound) {
		f, err := s.Store.OpenIncoming(incoming)
		if err != nil {
			return err
		}
		defer f.Close()
		st, err := f.Stat()
		if err != nil {
			return err
		}
		src, err := wav.NewReader(f, st.Size())
		if err != nil {
			return fmt.Errorf("%w; nothing was taken from it", err)
		}
		report(0, "measuring")
		if a, err = intake.Analyse(ctx, src, j.Name, func(p float64) { report(p, "measuring") }); err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			return fmt.Errorf("%w; nothing was taken from it", err)
		}
		report(0.85, "listening")
		if err := intake.Describe(ctx, src, a); err != nil {
			return err
		}
		a.Format, a.BitDepth, a.EncodingIs = original.Container, original.BitDepth, string(original.Encoding)
		if err := s.Store.Register(ctx, incoming, sha, a); err != nil {
			return fmt.Errorf("it could not be stored: %w", err)
		}
	} else if err != nil {
		return err
	}
	_, err = s.Store.Edit(ctx, j.SongID, store.AnyRevision, func(song *session.Song) (string, error) {
		if replace != "" {
			st := song.Stem(replace)
			if st == nil {
				return "", errors.New("the stem that it is a new version of is no longer there")
			}
			if st.Audio == sha {
				return "", errors.New("it is the same file as before")
			}
			st.Was, st.Audio = st.Audio, sha
			return "New version of " + st.Name, nil
		}
		if j.Kind == referenceJob {
			return addReference(song, j.Name, sha)
		}
		addStem(song, j.Name, sha, a)
		return "Add " + song.Stems[len(song.Stems)-1].Name, nil
	})
	return err
}

// addReference adds a finished track to the song.
func addReference(song *session.Song, name, sha string) (string, error) {
	id := 1
	for slices.ContainsFunc(song.References, func(r session.Reference) bool { return r.ID == fmt.Sprintf("r%d", id) }) {
		id++
	}
	if slices.ContainsFunc(song.References, func(r session.Reference) bool { return r.Audio == sha }) {
		return "", errors.New("it is among the finished tracks already")
	}
	name = strings.TrimSuffix(name, path.Ext(name))
	song.References = append(song.References, session.Reference{ID: fmt.Sprintf("r%d", id), Name: name, Audio: sha})
	return "Add the finished track " + name, nil
}

// isMIDI reports whether an upload is a MIDI file.
func (s *Server) isMIDI(incoming string) bool {
	f, err := s.Store.OpenIncoming(incoming)
	if err != nil {
		return false
	}
	defer f.Close()
	var head [4]byte
	_, err = f.ReadAt(head[:], 0)
	return err == nil && midi.IsMIDI(head[:])
}

// importMIDI attaches the notes of a file, once the song's other imports are done: the stem
// they belong to may be among them.
func (s *Server) importMIDI(ctx context.Context, j store.Job, incoming, stem string, report worker.Report) error {
	for others := true; others; {
		jobs, err := s.Store.Jobs(ctx, j.SongID)
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
	f, err := s.Store.OpenIncoming(incoming)
	if err != nil {
		return errors.New("the upload is no longer there; send the file again")
	}
	defer f.Close()
	notes, err := midi.Read(f)
	if err != nil {
		return fmt.Errorf("%w; nothing was taken from it", err)
	}
	return s.attachMIDI(ctx, j, stem, notes)
}

// midiPatience is the time between two looks at the imports that notes wait for.
const midiPatience = 50 * time.Millisecond

// attachMIDI gives notes to the stem they were dropped on, or to the one whose name they
// bear, shifted so that they meet the stem's hits.
func (s *Server) attachMIDI(ctx context.Context, j store.Job, stem string, notes []midi.Note) error {
	_, err := s.Store.Edit(ctx, j.SongID, store.AnyRevision, func(song *session.Song) (string, error) {
		st := song.Stem(stem)
		for i := range song.Stems {
			if stem == "" && strings.EqualFold(song.Stems[i].Name, strings.TrimSuffix(j.Name, path.Ext(j.Name))) {
				st = &song.Stems[i]
			}
		}
		if st == nil {
			return "", errors.New("no stem has the name of this MIDI file; drop it on the row of the stem that it belongs to")
		}
		a, err := s.Store.Facts(ctx, st.Audio)
		if err != nil {
			return "", err
		}
		offset, share := midi.Match(midi.Starts(notes), a.Onsets)
		if share < midiShare {
			return "", fmt.Errorf("only %.0f %% of its notes meet the hits of %s at any offset; is it the right one?", 100*share, st.Name)
		}
		st.MIDI = &session.MIDI{Name: j.Name, Offset: math.Round(offset*1e4) / 1e4, Notes: notes}
		return fmt.Sprintf("Attach %s to %s", j.Name, st.Name), nil
	})
	return err
}

// headTell is the silence in seconds from which it is told that all stems begin with it.
const headTell = 0.5

// midiShare is the part of the notes that must meet a stem's hits.
const midiShare = 0.5

// dropMIDI takes the notes off a stem again.
func (s *Server) dropMIDI(c *gin.Context) {
	s.edit(c, "intake", func(song *session.Song) (string, error) {
		st := song.Stem(c.Param("stem"))
		if st == nil || st.MIDI == nil {
			return "", nil
		}
		st.MIDI = nil
		return "Take the MIDI off " + st.Name, nil
	})
}

// asWAV returns an upload as it is where it is a WAV, and else what it decodes to, as a new
// upload: audio is kept in one form, so that any place of it can be read at once. Integer
// samples of up to 24 bits stay what they are; all others become 32-bit float.
func (s *Server) asWAV(ctx context.Context, incoming string) (audio.Format, string, error) {
	f, err := s.Store.OpenIncoming(incoming)
	if err != nil {
		return audio.Format{}, "", errors.New("the upload is no longer there; send the file again")
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return audio.Format{}, "", err
	}
	src, err := codec.Open(f, st.Size())
	if err != nil {
		return audio.Format{}, "", err
	}
	format := src.Format()
	if format.Container == "wav" {
		return format, incoming, nil
	}
	depth := wav.Float32
	if format.Encoding == audio.PCM && format.BitDepth <= 24 {
		depth = wav.Int24
	}
	r, w := io.Pipe()
	go func() { w.CloseWithError(decode(ctx, w, src, depth)) }()
	name, err := s.Store.Incoming(r, MaxDecodedBytes)
	r.CloseWithError(err)
	return format, name, err
}

// decode writes a source as WAV, block by block.
func decode(ctx context.Context, w io.Writer, src audio.Source, depth wav.Depth) error {
	f := src.Format()
	out, err := wav.NewWriter(w, f.Rate, f.Channels, int(f.Frames), depth)
	if err != nil {
		return err
	}
	buf := audio.New(f.Rate, f.Channels, 1<<15)
	for at := int64(0); at < f.Frames; at += int64(buf.Frames()) {
		if err := ctx.Err(); err != nil {
			return err
		}
		b := buf.Slice(0, int(min(int64(buf.Frames()), f.Frames-at)))
		if err := src.ReadAt(b, at); err != nil {
			return err
		}
		if err := out.Write(b); err != nil {
			return err
		}
	}
	return out.Close()
}

// The rates a song is rendered at follow its first stem within these bounds.
const (
	leastRate = 44100
	mostRate  = 96000
)

func addStem(song *session.Song, fileName, sha string, a *intake.Analysis) {
	if song.Rate == 0 {
		song.Rate = min(max(a.Rate, leastRate), mostRate)
	}
	name := strings.TrimSpace(strings.TrimSuffix(fileName, path.Ext(fileName)))
	if name == "" {
		name = fileName
	}
	id := ""
	for k := len(song.Stems) + 1; id == "" || song.Stem(id) != nil; k++ {
		id = fmt.Sprintf("s%d", k)
	}
	song.Stems = append(song.Stems, session.Stem{ID: id, Name: name, Role: a.Guess(name).Role, Audio: sha})
	song.Settle()
}

// importsView is the list of imports that are under way or failed.
type importsView struct {
	SongID string
	Rev    int64
	Jobs   []store.Job
	Active int
	Total  int // per cent over all that are under way
}

func (s *Server) importsView(ctx context.Context, id string) (importsView, error) {
	jobs, err := s.Store.Jobs(ctx, id)
	jobs = slices.DeleteFunc(jobs, func(j store.Job) bool { return j.Kind == referenceJob }) // shown on Levels
	v := importsView{SongID: id, Jobs: jobs}
	sum := 0.0
	for _, j := range jobs {
		if j.Active() {
			v.Active++
			sum += j.Progress
		}
	}
	if v.Active > 0 {
		v.Total = int(100 * sum / float64(v.Active))
	}
	return v, err
}

// imports answers the poll of the import list; when the song has changed since the page
// was drawn, the whole sheet comes with it.
func (s *Server) imports(c *gin.Context) {
	v, err := s.importsView(c.Request.Context(), c.Param("id")) // before the song: what has ended by now is in it
	if err != nil {
		s.failWith(c, err)
		return
	}
	song := s.load(c)
	if song == nil {
		return
	}
	if seen := c.Query("rev"); seen != "" && seen != strconv.FormatInt(song.Rev, 10) {
		c.Header("HX-Retarget", "#sheet")
		c.Header("HX-Reswap", "innerHTML")
		s.show(c, http.StatusOK, song, "intake", nil)
		return
	}
	if c.Request.Method == http.MethodPost { // a short file may be done already: look once more
		v.Rev = song.Rev
	}
	s.write(c, http.StatusOK, "imports", v)
}

func (s *Server) cancelImport(c *gin.Context) {
	id, _ := strconv.ParseInt(c.Param("job"), 10, 64)
	if j, err := s.Store.Job(c.Request.Context(), id); err != nil || j.SongID != c.Param("id") {
		s.failWith(c, store.ErrNotFound)
		return
	}
	s.Pool.Cancel(id)
	s.answer(c, "intake", http.StatusOK, nil)
}

func (s *Server) forgetImports(c *gin.Context) {
	if err := s.Store.ForgetJobs(c.Request.Context(), c.Param("id")); err != nil {
		s.failWith(c, err)
		return
	}
	s.answer(c, "intake", http.StatusOK, nil)
}

func (s *Server) setRole(c *gin.Context) {
	s.edit(c, "intake", func(song *session.Song) (string, error) {
		st := song.Stem(c.Param("stem"))
		if st == nil {
			return "", badInput(c, "stems", errors.New("that stem is no longer there"))
		}
		role := session.Role(c.PostForm("role"))
		if !role.Valid() {
			return "", badInput(c, "stems", errors.New("that is no role"))
		}
		if st.Role == role {
			return "", nil
		}
		st.Role = role
		song.Settle()
		return fmt.Sprintf("%s is %s", st.Name, role), nil
	})
}

// setRoles gives several stems one role at once.
func (s *Server) setRoles(c *gin.Context) {
	s.edit(c, "intake", func(song *session.Song) (string, error) {
		role := session.Role(c.PostForm("role"))
		if !role.Valid() {
			return "", badInput(c, "stems", errors.New("choose a role for the ticked stems"))
		}
		n := 0
		for _, id := range c.PostFormArray("stem") {
			if st := song.Stem(id); st != nil {
				st.Role = role
				n++
			}
		}
		if n == 0 {
			return "", badInput(c, "stems", errors.New("tick the stems first"))
		}
		song.Settle()
		return fmt.Sprintf("%s are %s", count(n, "stem"), role), nil
	})
}

// stemMore shows a stem's closer look: its spectrum with note names, its sweep, its line.
func (s *Server) stemMore(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	st := song.Stem(c.Param("stem"))
	if st == nil {
		s.failWith(c, store.ErrNotFound)
		return
	}
	a, err := s.Store.Facts(c.Request.Context(), st.Audio)
	if err != nil {
		s.failWith(c, err)
		return
	}
	data := map[string]any{"Stem": st, "A": a}
	if a.Portrait != nil {
		data["Bands"] = plot.BandPicture("bands-"+st.ID, string(st.Role), st.Name, a.Portrait.Spectrum)
		line := intake.Line(a, st.MIDI)
		data["Line"] = line
		data["Root"], data["Share"] = intake.LineRoot(line)
	}
	s.write(c, http.StatusOK, "stemmore", data)
}

// twin names what a stem has a twin of.
func (v *view) twin(id string) *intake.Finding {
	st := v.Stem(id)
	if st == nil {
		return nil
	}
	var names []string
	var all []*intake.Analysis
	for i := range v.Stems {
		o := &v.Stems[i]
		if o.ID != id && o.Audio == st.Audio && o.Split() && st.Split() {
			continue // head and tail of one file are no twins
		}
		names, all = append(names, o.Name), append(all, v.Facts[o.Audio])
		if o.ID == id {
			break
		}
	}
	return intake.Twins(names, all)[len(all)-1]
}

const (
	gridTell      = 0.02 // s by which hits may miss the grid unremarked
	earlyHandover = 40.0 // ms: an earlier median handover looks as if the bass led; our own bound
)

// propose suggests tempo, grid, leader and key where the files tell and the song says otherwise.
func propose(v *view) []proposal {
	var out []proposal
	var hits []float64
	trigger := v.TriggerStem()
	for _, st := range v.Stems {
		if st.Role == session.Snare || trigger != nil && st.ID == trigger.ID {
			hits = append(hits, v.Facts[st.Audio].Onsets...)
		}
	}
	sort.Float64s(hits)
	t := meter.EstimateTempo(hits, nil)
	if t != nil && t.Confidence > 0.15 {
		same := math.Abs(t.BPM/v.BPM-1) < 0.004
		for _, o := range t.Others {
			same = same || math.Abs(o/v.BPM-1) < 0.004
		}
		if !same {
			bpm := math.Round(t.BPM*10) / 10
			out = append(out, proposal{fmt.Sprintf("%g bpm", bpm), fmt.Sprintf("The hits stand on a grid of %g bpm (or %s)%s, from %.3f s on; %.0f %% sure.", bpm, tempi(t.Others), swung(t), t.Offset, 100*t.Confidence), "bpm", fmt.Sprintf("%g", bpm)})
		}
	}
	if t != nil && t.Confidence > 0.15 && len(out) == 0 { // of the song's own tempo
		beat := 60 / v.BPM
		if d := math.Abs(math.Remainder(t.Offset-v.Grid, beat)); d > gridTell {
			at := math.Round(10000*t.Offset) / 10
			out = append(out, proposal{fmt.Sprintf("first bar at %g ms", at), "The hits stand beside the grid; from there on they meet it.", "grid", fmt.Sprintf("%g", at)})
		}
	}
	if st := v.State; st != nil && v.Leader == session.KickLeads && st.Before.HandoverMedian.Valid() && st.Before.HandoverMedian < earlyHandover && st.Before.ClearanceMedian < 0 {
		out = append(out, proposal{"bass leads", fmt.Sprintf("The bass takes over %.0f ms after the hit and sits over the kick in the median.", float64(st.Before.HandoverMedian)), "leader", "bass"})
	}
	if b := v.ByRole(session.Bass); len(b) > 0 && v.Key == "" {
		if root, share := intake.LineRoot(intake.Line(v.Facts[b[0].Audio], b[0].MIDI)); root != "" && share > 0.3 {
			out = append(out, proposal{"root " + root, fmt.Sprintf("%s stands on %s for %.0f %% of its time.", b[0].Name, root, 100*share), "key", root})
		}
	}
	return out
}

// tempi lists tempi, "71, 284 or 213".
func tempi(bpm []float64) string {
	words := make([]string, len(bpm))
	for i, b := range bpm {
		words[i] = fmt.Sprintf("%g", math.Round(b*10)/10)
	}
	if n := len(words); n > 1 {
		return strings.Join(words[:n-1], ", ") + " or " + words[n-1]
	}
	return strings.Join(words, "")
}

// swung says how a grid is swung; empty where it is straight.
func swung(t *meter.Tempo) string {
	if t.Swung == 0 {
		return ""
	}
	return fmt.Sprintf(", its %s swung at %.0f %%", map[int]string{8: "eighths", 16: "sixteenths"}[t.Swung], 100*t.Swing)
}

func (s *Server) removeStem(c *gin.Context) {
	s.edit(c, "intake", func(song *session.Song) (string, error) {
		st := song.Stem(c.Param("stem"))
		if st == nil {
			return "", badInput(c, "stems", errors.New("that stem is no longer there"))
		}
		name := st.Name
		var kept []session.Stem
		for _, other := range song.Stems {
			if other.ID != st.ID {
				kept = append(kept, other)
			}
		}
		song.Stems = kept
		song.Settle()
		return "Remove " + name, nil
	})
}
