package duck

import (
	"errors"
	"fmt"
	"math"
	"mime/multipart"
	"path"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/facts"
	"mellowthump/core/field"
	"mellowthump/core/midi"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// matrix shows who ducks to whom: parts down, triggers across.
type matrix struct {
	Triggers []matrixTrigger
	Rows     []matrixRow
	Shapes   []partShape
}

// partShape is the shape of a drawn duck of a part's own.
type partShape struct {
	Part, Name, Trigger, To string
	move.Shape
}

// ID is what its fields' ids end in.
func (p partShape) ID() string { return p.Part + "-" + p.Trigger }

type matrixTrigger struct {
	session.Trigger
	Says string // what it takes its hits from
	Free bool   // nothing ducks to it, so it can go
}

type matrixRow struct {
	Part, Name string // part: a stem's id, or "bus:" and a bus's
	Bus        bool
	Cells      []matrixCell
}

// Ducks reports whether the part is a stem with a duck of its own, on.
func (r matrixRow) Ducks() bool {
	return !r.Bus && slices.ContainsFunc(r.Cells, func(c matrixCell) bool { return !c.Main && c.Depth != "" && !c.Off })
}

type matrixCell struct {
	Trigger string
	Depth   string // as typed; empty: does not duck to it
	Main    bool   // the bass's own duck, set above
	Makes   bool   // the part is the one that makes room
	Off     bool
}

// fillMatrix lists the parts that may duck: buses, and stems that are no drums.
func fillMatrix(v *shell.View) matrix {
	var m matrix
	used := map[string]bool{}
	for _, at := range v.Places() {
		chain, _ := v.Song.Chain(at)
		for _, m := range *chain {
			used[m.Params.Needs().Trigger] = true
		}
	}
	triggers := v.Triggers
	cells := func(part, name string, chain move.Chain, main bool) []matrixCell {
		var out []matrixCell
		for _, t := range triggers {
			c := matrixCell{Trigger: t.ID, Main: main && t.ID == v.DuckTrigger(), Makes: main}
			if own := session.DuckTo(chain, t.ID); own != nil {
				d := own.Params.(*move.Duck)
				c.Depth, c.Off = shell.Typed(-d.DepthDB()), own.Off
				if at, err := d.AtTempo(v.BPM); err == nil && !c.Main && !d.Keyed() {
					m.Shapes = append(m.Shapes, partShape{part, name, t.ID, t.Name, at.Shape()})
				}
			}
			if v.Bad != nil && v.Bad.Typed["part"] == part && v.Bad.Typed["trigger"] == t.ID {
				c.Depth = v.Bad.Typed["depth"]
			}
			out = append(out, c)
		}
		return out
	}
	for i := range v.Stems {
		st := &v.Stems[i]
		if st.Role != v.Ducked() && st.Role.Struck() { // the kick's own, where the bass leads
			continue
		}
		m.Rows = append(m.Rows, matrixRow{Part: st.ID, Name: st.Name, Cells: cells(st.ID, st.Name, st.Moves, st.Role == v.Ducked())})
	}
	for i := range v.Buses {
		b := &v.Buses[i]
		m.Rows = append(m.Rows, matrixRow{Part: "bus:" + b.ID, Name: b.Name, Bus: true, Cells: cells("bus:"+b.ID, b.Name, b.Moves, false)})
	}
	for _, t := range triggers {
		says := "a grid of " + t.Grid
		if t.MIDI != nil {
			says = fmt.Sprintf("%d notes of %s", len(t.MIDI.Notes), t.MIDI.Name)
		} else if t.Grid == "" {
			var names []string
			for _, st := range v.Sources(&t) {
				names = append(names, st.Name)
			}
			says = strings.Join(names, " and ")
		}
		m.Triggers = append(m.Triggers, matrixTrigger{t, says, !used[t.ID] && t.ID != session.KickTrigger})
	}
	return m
}

// setCell sets by how much a part ducks to a trigger; an empty field takes it out.
func (h *handlers) setCell(c *gin.Context) {
	h.WorkOut(c, "duck", "matrix", func(*session.Song) (session.Edit, error) {
		depth, text := 0.0, strings.TrimSpace(c.PostForm("depth"))
		if text != "" && text != "–" {
			var err error
			if depth, err = field.Number(text, "dB"); err != nil {
				return nil, shell.BadInput("matrix", fmt.Errorf("the depth %w", err))
			}
		}
		return session.PartDepth{At: session.ParseAt(c.PostForm("part")), Trigger: c.PostForm("trigger"), Depth: math.Abs(depth)}, nil
	})
}

// setShape gives a part's duck a shape of its own.
func (h *handlers) setShape(c *gin.Context) {
	h.WorkOut(c, "duck", "shape", func(song *session.Song) (session.Edit, error) {
		e := session.PartShape{At: session.ParseAt(c.PostForm("part")), Trigger: c.PostForm("trigger")}
		e.Shape.Follow = c.PostForm("follow") != ""
		for _, f := range []struct {
			name, says string
			to         *move.Time
		}{{"begins", "where it begins", &e.Shape.Begins}, {"down", "where it is down", &e.Shape.Down}, {"back", "where it is held to", &e.Shape.Back}, {"end",
			"where it is back", &e.Shape.End}} {
			ms, note, err := field.Time(c.PostForm(f.name), song.BPM)
			if err != nil {
				return nil, shell.BadInput("shape", fmt.Errorf("%s: %w", f.says, err))
			}
			*f.to = move.Time{MS: ms, Note: note}
		}
		return e, nil
	})
}

// addTrigger makes a trigger of several stems, a bus, the song's grid or a MIDI file.
func (h *handlers) addTrigger(c *gin.Context) {
	h.WorkOut(c, "duck", "trigger", func(song *session.Song) (session.Edit, error) {
		t := session.Trigger{Post: c.PostForm("post") != ""}
		if grid := strings.TrimSpace(c.PostForm("grid")); grid != "" {
			t.Grid, t.Name = grid, "every "+grid
		} else if f, err := c.FormFile("midi"); err == nil {
			notes, err := readNotes(f)
			if err != nil {
				return nil, shell.BadInput("trigger", fmt.Errorf("%s: %w", f.Filename, err))
			}
			name := path.Base(f.Filename)
			t.MIDI, t.Name = &session.MIDI{Name: name, Notes: notes}, session.StemName(name)
		} else if b := song.Bus(c.PostForm("bus")); b != nil {
			t.Bus = b.ID
		} else {
			for _, of := range c.PostFormArray("stem") {
				if t.Stem == "" {
					t.Stem = of
				} else {
					t.Stems = append(t.Stems, of)
				}
			}
		}
		return session.AddTrigger{Trigger: t}, nil
	})
}

// readNotes reads a MIDI file that was sent with a form.
func readNotes(h *multipart.FileHeader) ([]midi.Note, error) {
	f, err := h.Open()
	if err != nil {
		return nil, errors.New("the upload is no longer there; send the file again")
	}
	defer f.Close()
	notes, err := midi.Read(f)
	if err != nil {
		return nil, err
	}
	if len(notes) == 0 {
		return nil, errors.New("it holds no notes")
	}
	return notes, nil
}

// mainTrigger chooses the trigger of the song's own duck.
func (h *handlers) mainTrigger(c *gin.Context) {
	h.Edit(c, "duck", "matrix", session.MainTrigger{ID: c.PostForm("trigger")})
}

// removeTrigger takes a trigger out that nothing ducks to.
func (h *handlers) removeTrigger(c *gin.Context) {
	h.Edit(c, "duck", "trigger", session.RemoveTrigger{ID: c.Param("trigger")})
}

// doubtfulListed is how many doubtful hits are named on the page; the rest are counted.
const doubtfulListed = 8

// DoubtfulFew are the doubtful hits that are named, and how many there are besides.
func (v *sheet) DoubtfulFew() (out struct {
	Hits []facts.Doubtful
	More int
}) {
	out.Hits = v.Doubtful()
	if out.More = len(out.Hits) - doubtfulListed; out.More > 0 {
		out.Hits = out.Hits[:doubtfulListed]
	}
	return out
}

// setHit puts a hit of the kick in at a typed place, takes one out, or gives all back.
func (h *handlers) setHit(c *gin.Context) {
	h.WorkOut(c, h.current(c), "trigger", func(song *session.Song) (session.Edit, error) {
		do := c.PostForm("do")
		switch do {
		case "reset":
			return session.FoundHits{}, nil
		case "post":
			return session.SwitchPost{}, nil
		case "add", "remove":
			at, err := song.ParsePosition(c.PostForm("at"))
			if err != nil {
				return nil, shell.BadInput("trigger", err)
			}
			if do == "remove" {
				return session.EditHits{Out: []float64{at}}, nil
			}
			return session.EditHits{In: []float64{at}}, nil
		}
		return nil, shell.BadInput("trigger", shell.ErrUnknown())
	})
}

// current is the stage a request came from, Duck where that is not known.
func (h *handlers) current(c *gin.Context) string {
	if st := h.CurrentStage(c); st != stage.Intake {
		return st
	}
	return stage.Duck
}

// MatrixOf is for the template.
func (v *sheet) Matrix() matrix { return fillMatrix(v.View) }

// TriggerEdits is how many hits of the kick were changed by hand.
func (v *sheet) TriggerEdits() int {
	if t := v.Trigger(session.KickTrigger); t != nil {
		return len(t.Added) + len(t.Removed)
	}
	return 0
}

// TriggerPost reports whether the kick is listened to behind its fader.
func (v *sheet) TriggerPost() bool {
	t := v.Trigger(session.KickTrigger)
	return t != nil && t.Post
}

// TriggerLost says why the kick's trigger does not arrive; empty where it does.
func (v *sheet) TriggerLost() string {
	t := v.Trigger(session.KickTrigger)
	if t == nil || v.TriggerArrives(t) {
		return ""
	}
	st, b := v.TriggerStem(), v.Bus(t.At)
	if st == nil || b == nil {
		return ""
	}
	return fmt.Sprintf("The trigger does not arrive: it is taken at %s, and %s no longer goes there.", b.Name, st.Name)
}

// DrumStems are the stems that may give a trigger's hits.
func (v *sheet) DrumStems() []*session.Stem {
	var out []*session.Stem
	for i := range v.Stems {
		if v.Stems[i].Role.Struck() {
			out = append(out, &v.Stems[i])
		}
	}
	return out
}
