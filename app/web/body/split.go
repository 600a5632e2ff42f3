package body

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"slices"
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/hits"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/body"
	"mellowthump/core/field"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/move"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
)

// mostPart is how many bytes a part may have.
const mostPart = 8 << 30

// splitPayload is what a job that takes a stem apart works on.
type splitPayload struct {
	Stem  string `json:"stem"`
	Audio string `json:"audio"`
	Drums bool   `json:"drums,omitempty"` // into their kick and the rest
}

// apartView is what is apart, what is being taken apart, and what may be.
type apartView struct {
	*shell.View
	Whole  []*session.Stem // what may be taken apart
	Likely string          // id of the one that is likely meant: the first that is not said to be anything
	Under  []store.Job
	Failed []store.Job
	Apart  []apartRow
}

type apartRow struct {
	*body.ApartState
	Found  []find.Finding // what Pocket tells of its parts, as estimates
	Target float64
	Values string
	On     bool // the shelf is in
	Strip  template.HTML
}

// apart answers with the stems that were taken apart, and asks again while one is.
func (h *handlers) apart(c *gin.Context) {
	under, failed, ok := h.Coming(c, shell.SplitJob)
	if !ok {
		return
	}
	v := h.Look(c, "body")
	if v == nil || len(under) == 0 && h.CameIn(c, v.Song, "body") {
		return
	}
	out := apartView{View: v, Under: under, Failed: failed}
	for i := range v.Stems {
		if st := &v.Song.Stems[i]; st.Apart == nil && len(v.Parts(st.ID)) == 0 {
			out.Whole = append(out.Whole, st)
			if st.Role == session.Drums && v.Bench.Facts[st.Audio].KickWithin() {
				out.Likely = st.ID
			} else if st.Role == session.Other && out.Likely == "" {
				out.Likely = st.ID
			}
		}
	}
	if len(out.Under) == 0 {
		for _, of := range body.TakenApart(&v.Song.Song) {
			a, err := body.ApartOn(c.Request.Context(), v.Bench, of.ID)
			if err != nil {
				h.FailWith(c, err)
				return
			}
			row := apartRow{ApartState: a, Target: v.Targets.Clearance}
			if l := a.Lowered; l != nil {
				row.Values, row.On = v.Stem(l.Stem).Name+": "+move.Words(l.Move), v.Stem(l.Stem).Move(session.BodyShelf) != nil
			}
			if a.Trouble == "" && !a.Drums {
				if row.Found, err = pocket.Findings(c.Request.Context(), a.Alone); err != nil {
					h.FailWith(c, err)
					return
				}
				row.Strip = plot.HitStrip(hits.Between(v, "apart-strip-"+of.ID, 760, 120, a.Before, a.Now))
			}
			out.Apart = append(out.Apart, row)
		}
	}
	h.Write(c, http.StatusOK, "bodyapart", out)
}

// split starts taking a stem apart.
func (h *handlers) split(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	st := song.Stem(c.PostForm("stem"))
	bad := func(sentence string) {
		h.Answer(c, "body", http.StatusUnprocessableEntity, shell.BadInput("split", errors.New(sentence)))
	}
	switch {
	case st == nil:
		bad("choose the stem to take apart")
		return
	case st.Apart != nil:
		bad(st.Name + " is a part itself")
		return
	case len(song.Parts(st.ID)) > 0:
		bad(st.Name + " is apart already")
		return
	case len(song.Stems)+len(session.KindsOf(st.Role)) > session.MaxStems:
		bad(fmt.Sprintf("a song holds at most %d stems", session.MaxStems))
		return
	}
	a, err := h.Store.Facts(c.Request.Context(), st.Audio)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	payload, err := json.Marshal(splitPayload{Stem: st.ID, Audio: st.Audio, Drums: st.Role == session.Drums && a.KickWithin()})
	if err != nil {
		h.FailWith(c, err)
		return
	}
	jobs, err := h.Store.Jobs(c.Request.Context(), song.ID)
	if err == nil && !slices.ContainsFunc(jobs, func(j store.Job) bool { return j.Kind == shell.SplitJob && j.Active() && j.Payload == string(payload) }) {
		err = h.Store.ForgetJobsOf(c.Request.Context(), song.ID, shell.SplitJob)
		if err == nil {
			_, err = h.Pool.Submit(c.Request.Context(), store.Job{SongID: song.ID, Kind: shell.SplitJob, Name: st.Name, Payload: string(payload)})
		}
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.Answer(c, "body", http.StatusOK, nil)
}

// cancelSplit ends a job that takes a stem apart.
func (h *handlers) cancelSplit(c *gin.Context) {
	id, _ := strconv.ParseInt(c.Param("job"), 10, 64)
	if j, err := h.Store.Job(c.Request.Context(), id); err != nil || j.SongID != c.Param("id") || j.Kind != shell.SplitJob {
		h.FailWith(c, store.ErrNotFound)
		return
	}
	h.Pool.Cancel(id)
	h.Answer(c, "body", http.StatusOK, nil)
}

// runSplit takes a stem's file apart into three files of their own, and puts them in its place.
func (h *handlers) runSplit(ctx context.Context, j store.Job, report worker.Report) error {
	var p splitPayload
	if err := json.Unmarshal([]byte(j.Payload), &p); err != nil {
		return fmt.Errorf("the job's own data is damaged: %w", err)
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	a, err := h.Store.Facts(ctx, p.Audio)
	if err != nil {
		return err
	}
	switch {
	case a.Damage != "":
		return fmt.Errorf("its file is %s; bring it again on Intake", a.Damage)
	case a.Silent():
		return errors.New("it is silent from start to end: there is nothing to take apart")
	}
	src, closeFile, err := h.Store.Open(p.Audio)
	if err != nil {
		return err
	}
	defer closeFile()
	report(0, "taking it apart")
	kinds, low := session.KindsOf(session.Other), []float64(nil)
	if p.Drums {
		if !a.KickWithin() {
			return errors.New("none of its hits is low: there is no kick in it to take out")
		}
		kinds, low = session.KindsOf(session.Drums), a.Portrait.LowHits
	}
	incoming, err := h.splitInto(ctx, src, kinds, low, a.Onsets, report)
	defer func() {
		for _, name := range incoming {
			h.Store.DropIncoming(name)
		}
	}()
	if err != nil {
		return err
	}
	e := session.TakeApart{Stem: p.Stem, Audio: p.Audio, Parts: map[session.PartKind]string{}}
	is := src.Format()
	original := audio.Format{Container: "wav", Encoding: audio.Float, BitDepth: 32, Rate: is.Rate, Channels: is.Channels, Frames: is.Frames}
	for i, kind := range kinds {
		sha, _, _, err := h.TakeIn(ctx, incoming[i], j.Name+", "+string(kind)+".wav", original, func(at float64, _ string) {
			report(0.4+0.2*(float64(i)+at), "measuring its "+string(kind))
		})
		if err != nil {
			return err
		}
		e.Parts[kind] = sha
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return h.Store.EditDone(context.WithoutCancel(ctx), j.SongID, store.AnyRevision, e, j.ID)
}

// splitInto writes the parts of some kinds among what came in, and returns their names; low and all are the hits of drums.
func (h *handlers) splitInto(
	ctx context.Context, src audio.Source, kinds []session.PartKind, low, all []float64, report worker.Report,
) ([]string, error) {
	is := src.Format()
	names := make([]string, len(kinds))
	var files group.Group
	var ends []*io.PipeWriter
	var parts []*wav.Writer
	for i := range names {
		r, w := io.Pipe()
		files.Go(func() (err error) {
			names[i], err = h.Store.Incoming(r, mostPart)
			r.CloseWithError(err)
			return err
		})
		ends = append(ends, w)
	}
	err := func() error {
		for _, w := range ends {
			out, err := wav.NewWriter(w, is.Rate, is.Channels, int(is.Frames), wav.Float32)
			if err != nil {
				return err
			}
			parts = append(parts, out)
		}
		progress := func(p float64) { report(0.4*p, "taking it apart") }
		write := func(a body.Apart) error {
			of := map[session.PartKind]audio.Buffer{session.Low: a.Struck, session.Struck: a.Struck, session.Sustained: a.Sustained, session.Rest: a.Rest}
			for i, kind := range kinds {
				if err := parts[i].Write(of[kind]); err != nil {
					return err
				}
			}
			return nil
		}
		var err error
		if len(low) > 0 {
			err = body.SplitDrums(ctx, src, low, all, progress, write)
		} else {
			err = body.Split(ctx, src, progress, write)
		}
		for _, out := range parts {
			if err == nil {
				err = out.Close()
			}
		}
		return err
	}()
	for _, w := range ends {
		w.CloseWithError(err)
	}
	wrong := files.Wait()
	if err == nil || store.Full(wrong) {
		err = wrong
	}
	return slices.DeleteFunc(names, func(n string) bool { return n == "" }), err
}

// together puts a stem together again.
func (h *handlers) together(c *gin.Context) {
	h.Edit(c, "body", "split", session.PutTogether{Stem: c.PostForm("stem")})
}

// lower lowers what lasts of a stem that was taken apart.
func (h *handlers) lower(c *gin.Context) {
	h.WorkOut(c, "body", "split", func(song *session.Song) (session.Edit, error) {
		return h.lowered(c.Request.Context(), song, c.PostForm("stem"))
	})
}

func (h *handlers) lowered(ctx context.Context, song *session.Song, id string) (session.Edit, error) {
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	a, err := body.ApartOn(ctx, b, id)
	switch {
	case err != nil:
		return nil, err
	case a == nil:
		return nil, shell.BadInput("split", errors.New("that stem is not apart"))
	case a.Lowered == nil:
		return nil, shell.BadInput("split", errors.New("its hits stand clear already, or nothing that may be lowered brings them there"))
	}
	return a.Lowered.Edit(), nil
}

// shapePart sets what is done to a part.
func (h *handlers) shapePart(c *gin.Context) {
	h.WorkOut(c, "body", "split", func(song *session.Song) (session.Edit, error) {
		st := song.Stem(c.PostForm("stem"))
		if st == nil || st.Apart == nil {
			return nil, shell.BadInput("split", errors.New("that part is no longer there"))
		}
		p := st.PartSound()
		width := p.Percent()
		for _, f := range []struct {
			name, label, unit string
			to                *float64
			lo, hi            float64
		}{{"fader", "level", "dB", &p.Fader, -session.MaxGain, session.MaxGain}, {"shelf", "low end", "dB", &p.Shelf, -24, 24}, {"shelf_hz", "low end's corner",
			"Hz", &p.ShelfHz, 20, 1000},
			{"bell", "bell", "dB", &p.Bell, -24, 24}, {"bell_hz", "bell's place", "Hz", &p.BellHz, 20, 16000}, {"width", "width", "%", &width, 0, 200}, {"sustain",
				"sustain", "dB", &p.Sustain, -12, 12}} {
			text, ok := c.GetPostForm(f.name)
			if !ok {
				continue
			}
			var err error
			if *f.to, err = field.Number(text, f.unit); err != nil {
				return nil, shell.BadInput("split", fmt.Errorf("the %s %w", f.label, err))
			}
			if !(*f.to >= f.lo && *f.to <= f.hi) {
				return nil, shell.BadInput("split", fmt.Errorf("a %s of %g %s is out of bounds; %g to %g are taken", f.label, *f.to, f.unit, f.lo, f.hi))
			}
		}
		p.Width = width/100 - 1
		return session.ShapePart{Stem: st.ID, Sound: p}, nil
	})
}
