// Package intake is the stage Intake in the browser: what did I bring, what is it, is any of it broken?
package intake

import (
	"context"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"slices"
	"sort"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/facts"
	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/intake"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/core/stage"
	"mellowthump/core/stages"
)

type handlers struct {
	*shell.Server
	watched *watched
	turns   turns // of the bounces of a song
}

type sheet struct {
	*shell.View
	Rows      []row
	Imports   importsView
	Brought   *broughtView // files that wait to be told what they are
	First     string       // what to look at first, and on which stage
	FirstAt   string
	ToSheet   bool // stems are in, so that the run sheet has something to say
	FirstName string
	Missing   string // what keeps the Pocket from measuring
	Proposals []pair.Proposal
	Ways      []tempoWay // what else the tempo may be, where it was taken from the hits
	MaxGiB    int
	MaxMins   int
}

type row struct {
	session.Stem
	*facts.Analysis
	Wave     template.HTML
	Findings []find.Finding
	Aside    []find.Dismissed
	Trigger  bool
	Guess    facts.Guess
	Was      *facts.Analysis // the version before, nil where there is none
}

// headTell is the silence in seconds from which it is told that all stems begin with it.
const headTell = 0.5

func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	out := &sheet{View: v, MaxGiB: MaxFileBytes >> 30, MaxMins: 30}
	ctx := c.Request.Context()
	if err := h.fillRows(c, out); err != nil {
		return nil, err
	}
	if err := v.NeedPair(ctx); err != nil { // who leads may be proposed, and what is missing is told
		return nil, err
	}
	out.Proposals = pair.Proposals(v.Bench, v.State)
	out.Ways = tempoWays(&v.Song.Song)
	var err error
	if out.Imports, err = h.importsView(ctx, v.ID); err != nil {
		return nil, err
	}
	if out.Imports.Active == 0 {
		if out.Brought, err = h.broughtOf(ctx, v.Song); err != nil {
			return nil, err
		}
	}
	out.lead()
	if v.State == nil && len(v.Stems) > 0 {
		out.Missing = v.Trouble
	}
	out.lookFirst()
	// An import may have ended after the song was read and before the jobs were: then the
	// page asks once more.
	now, err := h.Store.Head(ctx, v.ID)
	if err == nil && now != v.Rev {
		out.Imports.Rev = now
	}
	return out, err
}

// tempoWay is another tempo than the one that was taken from the hits.
type tempoWay struct{ Field, Value, Label string }

func tempoWays(s *session.Song) []tempoWay {
	if !s.FromHits.Taken() {
		return nil
	}
	var out []tempoWay
	for _, r := range []float64{0.5, 2} {
		if bpm := math.Round(10*r*s.BPM) / 10; bpm >= session.MinBPM && bpm <= session.MaxBPM {
			v := figure.Short(bpm)
			out = append(out, tempoWay{"bpm", v, v + " bpm"})
		}
	}
	if was := s.FromHits; was.BPM != s.BPM || was.Grid != s.Grid {
		out = append(out, tempoWay{"back", "", "back to " + figure.Short(was.BPM) + " bpm"})
	}
	return out
}

// fillRows lists the stems by their roles.
func (h *handlers) fillRows(c *gin.Context, out *sheet) error {
	v := out.View
	trigger := v.TriggerStem()
	for i, st := range v.Stems {
		a := v.Facts[st.Audio]
		r := row{
			Stem: st, Analysis: a, Findings: intake.OfStem(v.Found, st.ID), Guess: a.Guess(st.Name),
			Wave:    plot.Wave(fmt.Sprintf("wave-%d", i), string(st.Role), st.Name, a.Overview, 150, 26),
			Trigger: trigger != nil && trigger.ID == st.ID,
		}
		for _, d := range v.Aside {
			if d.Hear == "stem:"+st.ID {
				r.Aside = append(r.Aside, d)
			}
		}
		if st.Was != "" {
			was, err := h.Store.Facts(c.Request.Context(), st.Was)
			if err != nil {
				return err
			}
			r.Was = was
		}
		out.Rows = append(out.Rows, r)
	}
	sort.SliceStable(out.Rows, func(i, j int) bool { return out.Rows[i].Role.Order() < out.Rows[j].Role.Order() })
	return nil
}

// lead says in a line what was brought.
func (out *sheet) lead() {
	v := out.View
	if len(v.Stems) == 0 {
		v.Lead = "Nothing yet. Bounce the stems of the beat, all from the same start, and drop them here."
		return
	}
	v.Lead = fmt.Sprintf("%s, %s, rendered at %g kHz. ", figure.Count(len(v.Stems), "stem"), shell.Clock(float64(v.Length)/float64(v.Rate)), float64(v.Rate)/1000)
	var all []*facts.Analysis
	for _, r := range out.Rows {
		all = append(all, r.Analysis)
	}
	if head := facts.HeadOfAll(all); head > headTell && out.Imports.Active == 0 { // judged when all are in
		v.Lead += fmt.Sprintf("All of them begin with %.2f s of silence, which may be trimmed off each. ", head)
	}
	if found := find.Count(v.Found); found == 0 {
		v.Lead += "Nothing is wrong with the files."
	} else {
		v.Lead += "There is something to look at in " + figure.Count(found, "place") + "."
	}
}

// lookFirst says what to look at first, once the files are in.
func (out *sheet) lookFirst() {
	v := out.View
	out.ToSheet = len(v.Stems) > 0 && out.Imports.Active == 0 && out.Brought == nil
	if v.State == nil || v.BassLeads() || out.Imports.Active > 0 || out.Brought != nil {
		return
	}
	f, target := v.State.After, v.Targets.Clearance
	switch under := f.Under(target - 0.05); {
	case !pair.MetBy(f, target) && v.State.Readout == nil:
		out.First, out.FirstAt = fmt.Sprintf(
			"on %d of %d hits the kick does not clear the bass by %g dB in its own octave.",
			under,
			len(f.Hits),
			target,
		), stage.Pocket
	case !pair.MetBy(f, target):
		out.First, out.FirstAt = fmt.Sprintf("with the duck %d of %d hits are still under %g dB.", under, len(f.Hits), target), stage.Duck
	default:
		out.First, out.FirstAt = "kick and bass are clear of each other; how loud each part is comes next.", stage.Levels
	}
	out.FirstName = stages.Of(out.FirstAt).Name
}

// setSettings changes the song's name, tempo, key and leader.
func (h *handlers) setSettings(c *gin.Context) {
	number := func(name, unit, what string) (*float64, error) {
		text, ok := c.GetPostForm(name)
		if !ok {
			return nil, nil
		}
		v := 0.0
		if strings.TrimSpace(text) != "" || name != "felt" {
			var err error
			if v, err = field.Number(text, unit); err != nil {
				return nil, shell.BadInput("settings", fmt.Errorf("%s %w", what, err))
			}
		}
		return &v, nil
	}
	h.WorkOut(c, "intake", "settings", func(*session.Song) (session.Edit, error) {
		name, key := strings.TrimSpace(c.PostForm("name")), strings.TrimSpace(c.PostForm("key"))
		e := session.Settings{Name: &name, Key: &key}
		var err error
		if e.BPM, err = number("bpm", "bpm", "the tempo"); err != nil {
			return nil, err
		}
		if e.Felt, err = number("felt", "bpm", "the felt tempo"); err != nil {
			return nil, err
		}
		if e.Grid, err = number("grid", "ms", "the first bar:"); err != nil {
			return nil, err
		}
		if e.Grid != nil {
			*e.Grid /= 1000
		}
		if l, ok := c.GetPostForm("leader"); ok {
			leader := session.Leader(l)
			e.Leader = &leader
		}
		return e, nil
	})
}

// takeProposal sets the one value that the files suggest.
func (h *handlers) takeProposal(c *gin.Context) {
	h.WorkOut(c, "intake", "settings", func(song *session.Song) (session.Edit, error) {
		value := c.PostForm("value")
		switch of := c.PostForm("field"); of {
		case "bpm", "grid":
			v, err := field.Number(value, map[string]string{"bpm": "bpm", "grid": "ms"}[of])
			if err != nil {
				return nil, shell.BadInput("settings", err)
			}
			if of == "bpm" {
				return session.Settings{BPM: &v}, nil
			}
			v /= 1000
			return session.Settings{Grid: &v}, nil
		case "back":
			if was := song.FromHits; was.Taken() {
				return session.Settings{BPM: &was.BPM, Grid: &was.Grid}, nil
			}
		case "key":
			return session.Settings{Key: &value}, nil
		case "leader":
			return session.Lead{Leader: session.Leader(value)}, nil
		}
		return nil, shell.BadInput("settings", shell.ErrUnknown())
	})
}

func (h *handlers) setRole(c *gin.Context) {
	e := session.SetRole{Stems: []string{c.Param("stem")}, Role: session.Role(c.PostForm("role"))}
	h.Edit(c, "intake", "stems", h.withTempo(c.Request.Context(), e))
}

// setRoles gives several stems one role at once.
func (h *handlers) setRoles(c *gin.Context) {
	e := session.SetRole{Stems: c.PostFormArray("stem"), Role: session.Role(c.PostForm("role"))}
	h.Edit(c, "intake", "stems", h.withTempo(c.Request.Context(), e))
}

// renameStem gives a stem another name.
func (h *handlers) renameStem(c *gin.Context) {
	h.Edit(c, "intake", "stems", session.RenameStem{Stem: c.Param("stem"), Name: c.PostForm("name")})
}

// setTicked does one thing to all stems that are ticked.
func (h *handlers) setTicked(c *gin.Context) {
	e := session.Ticked{Stems: c.PostFormArray("stem"), Do: session.TickedDo(c.PostForm("do")), Bus: c.PostForm("bus")}
	if e.Do == session.TickedBus && e.Bus == "-" {
		h.Answer(c, "intake", http.StatusOK, nil)
		return
	}
	h.Edit(c, "intake", "stems", e)
}

// stemMore shows a stem's closer look: its spectrum with note names, its sweep, its line.
func (h *handlers) stemMore(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	st := song.Stem(c.Param("stem"))
	if st == nil {
		h.FailWith(c, store.ErrNotFound)
		return
	}
	a, err := h.Store.Facts(c.Request.Context(), st.Audio)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	data := map[string]any{"Stem": st, "A": a}
	if a.Portrait != nil {
		data["Bands"] = plot.BandPicture("bands-"+st.ID, string(st.Role), st.Name, a.Portrait.Spectrum)
		line := facts.Line(a, st.MIDI)
		data["Line"] = line
		data["Root"], data["Share"] = facts.LineRoot(line)
	}
	h.Write(c, http.StatusOK, "stemmore", data)
}

func (h *handlers) removeStem(c *gin.Context) {
	h.Edit(c, "intake", "stems", session.RemoveStem{Stem: c.Param("stem")})
}

// importsView is the list of imports that are under way or failed.
type importsView struct {
	SongID string
	Rev    int64
	Jobs   []store.Job
	Active int
	Total  int // per cent over all that are under way
}

func (h *handlers) importsView(ctx context.Context, id string) (importsView, error) {
	jobs, err := h.Store.Jobs(ctx, id)
	jobs = slices.DeleteFunc(jobs, func(j store.Job) bool {
		return j.Kind == shell.ReferenceJob || j.Kind == shell.VoiceJob || j.Kind == shell.SplitJob || j.Kind == shell.PrintJob || j.Kind == shell.ApplyJob ||
			j.Kind == shell.BounceJob ||
			j.State == store.Ready
	}) // shown on Levels, on Room, on Body, on Print; beside the list
	v := importsView{SongID: id, Jobs: h.Pool.Now(jobs)}
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
