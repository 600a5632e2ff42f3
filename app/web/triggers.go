package web

import (
	"errors"
	"fmt"
	"math"
	"mime/multipart"
	"path"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/core/intake"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// matrix shows who ducks to whom: parts down, triggers across.
type matrix struct {
	Triggers []matrixTrigger
	Rows     []matrixRow
}

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
	Off     bool
}

// fillMatrix lists the parts that may duck: buses, and stems that are no drums.
func (v *view) fillMatrix() matrix {
	var m matrix
	used := map[string]bool{}
	triggers := v.Triggers
	cells := func(part string, own *move.Move, main bool) []matrixCell {
		var out []matrixCell
		for _, t := range triggers {
			c := matrixCell{Trigger: t.ID, Main: main}
			if own != nil {
				if d := own.Params.(*move.Duck); d.Trigger == t.ID {
					used[t.ID] = true
					c.Depth, c.Off = typed(-depthOf(d)), own.Off
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
		switch st.Role {
		case v.Ducked(): // the kick's own, where the bass leads
		case session.Kick, session.Snare, session.Hats, session.Perc:
			continue
		}
		own, _ := st.DuckMove()
		m.Rows = append(m.Rows, matrixRow{Part: st.ID, Name: st.Name, Cells: cells(st.ID, own, st.Role == v.Ducked())})
	}
	for i := range v.Buses {
		b := &v.Buses[i]
		m.Rows = append(m.Rows, matrixRow{Part: "bus:" + b.ID, Name: b.Name, Bus: true, Cells: cells("bus:"+b.ID, b.Duck, false)})
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

// depthOf is how far a duck goes, dB, 0 or less.
func depthOf(d *move.Duck) float64 {
	switch {
	case d.School == move.BandSchool:
		return -d.Band.Range
	case d.Keyed():
		return -d.Comp.Reduction(0)
	}
	return d.Depth()
}

// partDuck draws a duck for a part: the shape of the bass's own where that is a curve, else a usual one.
func partDuck(song *session.Song, trigger string, depth float64) *move.Duck {
	shape := startingDuck(session.KickLeads)
	if d, _ := song.Duck(); d != nil && song.Leader == session.KickLeads && !d.Keyed() && d.Depth() < 0 {
		shape = d
	}
	out := &move.Duck{School: move.CurveSchool, Trigger: trigger}
	for _, p := range shape.Points {
		p.DB = math.Round(10*p.DB*depth/-shape.Depth()) / 10
		out.Points = append(out.Points, p)
	}
	return out
}

// setCell sets by how much a part ducks to a trigger; an empty field takes it out.
func (s *Server) setCell(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		part, trigger := c.PostForm("part"), c.PostForm("trigger")
		t := song.Trigger(trigger)
		if t == nil {
			return "", badInput(c, "matrix", errors.New("that trigger is no longer there"))
		}
		depth, text := 0.0, strings.TrimSpace(c.PostForm("depth"))
		if text != "" && text != "–" {
			var err error
			if depth, err = move.ParseNumber(text, "dB"); err != nil {
				return "", badInput(c, "matrix", fmt.Errorf("the depth %w", err))
			}
			if depth = math.Abs(depth); depth > -move.DuckFloor {
				return "", badInput(c, "matrix", fmt.Errorf("a depth of %g dB is over %g", depth, -move.DuckFloor))
			}
		}
		var duck *move.Duck
		if depth > 0 {
			duck = partDuck(song, trigger, depth)
		}
		name := ""
		if bus, isBus := strings.CutPrefix(part, "bus:"); isBus {
			b := song.Bus(bus)
			if b == nil {
				return "", badInput(c, "matrix", errors.New("that bus is no longer there"))
			}
			b.Duck, name = nil, b.Name
			if duck != nil {
				b.Duck = &move.Move{ID: "duck-bus-" + b.ID, Params: duck}
			}
		} else {
			st := song.Stem(part)
			if st == nil {
				return "", badInput(c, "matrix", errors.New("that part is no longer there"))
			}
			if slices.ContainsFunc(song.Sources(t), func(o *session.Stem) bool { return o.ID == st.ID }) {
				return "", badInput(c, "matrix", fmt.Errorf("%s gives this trigger's hits, so it cannot duck to it", st.Name))
			}
			name = st.Name
			if st.Role == song.Ducked() {
				return "", badInput(c, "matrix", fmt.Errorf("the %s's own duck is set above", song.Ducked()))
			}
			m := move.Move{ID: session.PartDuck + st.ID}
			if duck != nil {
				m.Params = duck
			}
			st.SetMove(m)
		}
		if err := song.Validate(); err != nil {
			return "", badInput(c, "matrix", err)
		}
		if depth == 0 {
			return name + " ducks no more to " + t.Name, nil
		}
		return fmt.Sprintf("%s ducks by %s dB to %s", name, plot.Signed(depth, 1), t.Name), nil
	})
}

// longestTrigger is the most characters of a trigger's name: it heads a narrow column.
const longestTrigger = 40

// addTrigger makes a trigger of several stems, a bus, the song's grid or a MIDI file.
func (s *Server) addTrigger(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		id := 1
		for song.Trigger(fmt.Sprintf("t%d", id)) != nil {
			id++
		}
		t := session.Trigger{ID: fmt.Sprintf("t%d", id), Post: c.PostForm("post") != ""}
		if grid := strings.TrimSpace(c.PostForm("grid")); grid != "" {
			if _, err := move.NoteMS(grid, song.BPM); err != nil {
				return "", badInput(c, "trigger", err)
			}
			t.Grid, t.Name = grid, "every "+grid
		} else if f, err := c.FormFile("midi"); err == nil {
			notes, err := readNotes(f)
			if err != nil {
				return "", badInput(c, "trigger", fmt.Errorf("%s: %w", f.Filename, err))
			}
			name := path.Base(f.Filename)
			t.MIDI, t.Name = &session.MIDI{Name: name, Notes: notes}, strings.TrimSuffix(name, path.Ext(name))
		} else if b := song.Bus(c.PostForm("bus")); b != nil {
			t.Bus, t.Name = b.ID, b.Name
		} else {
			var names []string
			for _, of := range c.PostFormArray("stem") {
				st := song.Stem(of)
				if st == nil {
					return "", badInput(c, "trigger", errors.New("one of these stems is no longer there"))
				}
				if t.Stem == "" {
					t.Stem = of
				} else {
					t.Stems = append(t.Stems, of)
				}
				names = append(names, st.Name)
			}
			if t.Stem == "" {
				return "", badInput(c, "trigger", errors.New("tick the stems whose hits count, or choose a bus, type a note value for a grid, or bring a MIDI file"))
			}
			t.Name = strings.Join(names, " + ")
		}
		if name := []rune(t.Name); len(name) > longestTrigger {
			t.Name = string(name[:longestTrigger-1]) + "…"
		}
		song.Triggers = append(song.Triggers, t)
		if err := song.Validate(); err != nil {
			return "", badInput(c, "trigger", err)
		}
		return "Add the trigger " + t.Name, nil
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
func (s *Server) mainTrigger(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		t := song.Trigger(c.PostForm("trigger"))
		was, off := song.Duck()
		switch {
		case t == nil:
			return "", badInput(c, "matrix", errors.New("that trigger is no longer there"))
		case was == nil:
			return "", badInput(c, "matrix", errors.New("there is no duck yet; press Fit, or draw one"))
		case was.Trigger == t.ID:
			return "", nil
		}
		for _, st := range song.Sources(t) {
			if st.Role == song.Ducked() && song.Leader != session.BassLeads {
				return "", badInput(c, "matrix", fmt.Errorf("%s gives this trigger's hits, so it cannot duck to it", st.Name))
			}
		}
		d := *was
		d.Trigger, d.Parts = t.ID, nil
		song.SetDuck(&d, off, "")
		if err := song.Validate(); err != nil {
			return "", badInput(c, "matrix", err)
		}
		return fmt.Sprintf("The %s ducks to %s", song.Ducked(), t.Name), nil
	})
}

// removeTrigger takes a trigger out that nothing ducks to.
func (s *Server) removeTrigger(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		t := song.Trigger(c.Param("trigger"))
		if t == nil || t.ID == session.KickTrigger {
			return "", badInput(c, "trigger", errors.New("that trigger stays"))
		}
		name, id := t.Name, t.ID
		song.Triggers = slices.DeleteFunc(song.Triggers, func(o session.Trigger) bool { return o.ID == id })
		if err := song.Validate(); err != nil {
			return "", badInput(c, "trigger", fmt.Errorf("something still ducks to it: %w", err))
		}
		return "Take the trigger " + name + " out", nil
	})
}

// Doubtful lists the kick's hits that are kept apart: by its own threshold, but for those that were put in by hand.
func (v *view) Doubtful() []intake.Doubtful {
	t, st := v.Trigger(session.KickTrigger), v.TriggerStem()
	if t == nil || st == nil || st.MIDI != nil || v.Facts[st.Audio] == nil {
		return nil
	}
	by := st.Nudged() / 1000
	out := intake.DoubtfulHits(v.Facts[st.Audio].Hits, t.QuietDB())
	for i := range out {
		out[i].At += by
	}
	return slices.DeleteFunc(out, func(d intake.Doubtful) bool {
		return slices.ContainsFunc(t.Added, func(at float64) bool { return math.Abs(at-d.At) <= hitNear })
	})
}

// doubtfulListed is how many doubtful hits are named on the page; the rest are counted.
const doubtfulListed = 8

// DoubtfulFew are the doubtful hits that are named, and how many there are besides.
func (v *view) DoubtfulFew() (out struct {
	Hits []intake.Doubtful
	More int
}) {
	out.Hits = v.Doubtful()
	if out.More = len(out.Hits) - doubtfulListed; out.More > 0 {
		out.Hits = out.Hits[:doubtfulListed]
	}
	return out
}

// Quiet is the threshold of the kick's quiet hits, dB.
func (v *view) Quiet() float64 {
	if t := v.Trigger(session.KickTrigger); t != nil {
		return t.QuietDB()
	}
	return meter.QuietHits
}

// hitNear is how near a hit lies to the place that an edit names, s.
const hitNear = 0.030

// setQuiet sets the threshold of the kick's quiet hits.
func (s *Server) setQuiet(c *gin.Context) {
	s.edit(c, currentStageOf(c, "duck"), func(song *session.Song) (string, error) {
		t, st := song.Trigger(session.KickTrigger), song.TriggerStem()
		if t == nil || st == nil {
			return "", badInput(c, "quiet", errors.New("there is no kick whose hits could be changed"))
		}
		quiet, err := move.ParseNumber(c.PostForm("quiet"), "dB")
		if err != nil {
			return "", badInput(c, "quiet", fmt.Errorf("the threshold %w", err))
		}
		if quiet < session.LeastQuiet || quiet > session.MostQuiet {
			return "", badInput(c, "quiet", fmt.Errorf("a threshold of %g dB is out of bounds; %g to %g dB are taken", quiet, session.LeastQuiet, session.MostQuiet))
		}
		if quiet == t.QuietDB() {
			return "", nil
		}
		t.Quiet = quiet
		return fmt.Sprintf("Take hits down to %g dB under the others", quiet), song.Validate()
	})
}

// setHit puts a hit of the kick in, takes one out, or gives all back.
func (s *Server) setHit(c *gin.Context) {
	s.edit(c, currentStageOf(c, "duck"), func(song *session.Song) (string, error) {
		t := song.Trigger(session.KickTrigger)
		if t == nil {
			return "", badInput(c, "trigger", errors.New("there is no kick whose hits could be changed"))
		}
		if c.PostForm("do") == "reset" {
			t.Added, t.Removed = nil, nil
			return "The kick's hits as they were found", nil
		}
		if c.PostForm("do") == "post" {
			t.Post = !t.Post
			return map[bool]string{true: "Trigger behind the fader", false: "Trigger before the fader"}[t.Post], nil
		}
		at, err := song.ParsePosition(c.PostForm("at"))
		if err != nil {
			return "", badInput(c, "trigger", err)
		}
		close := func(v float64) bool { return math.Abs(v-at) <= hitNear }
		switch c.PostForm("do") {
		case "add":
			t.Removed = slices.DeleteFunc(t.Removed, close)
			t.Added = append(slices.DeleteFunc(t.Added, close), at)
			slices.Sort(t.Added)
		case "remove":
			was := len(t.Added)
			if t.Added = slices.DeleteFunc(t.Added, close); len(t.Added) == was {
				t.Removed = append(t.Removed, at)
				slices.Sort(t.Removed)
			}
		default:
			return "", badInput(c, "trigger", errors.New("the page asked for something unknown"))
		}
		if err := song.Validate(); err != nil {
			return "", badInput(c, "trigger", err)
		}
		return map[string]string{"add": "Put a hit in at ", "remove": "Leave out the hit at "}[c.PostForm("do")] + song.Position(at), nil
	})
}

// currentStageOf is the stage a request came from, or the given one where that is not known.
func currentStageOf(c *gin.Context, plain string) string {
	if st := currentStage(c); st != stageOfASong {
		return st
	}
	return plain
}

// MatrixOf is for the template.
func (d *duckSheet) Matrix() matrix { return d.fillMatrix() }

// TriggerEdits is how many hits of the kick were changed by hand.
func (v *view) TriggerEdits() int {
	if t := v.Trigger(session.KickTrigger); t != nil {
		return len(t.Added) + len(t.Removed)
	}
	return 0
}

// TriggerPost reports whether the kick is listened to behind its fader.
func (v *view) TriggerPost() bool {
	t := v.Trigger(session.KickTrigger)
	return t != nil && t.Post
}

// TriggerLost says why the kick's trigger does not arrive; empty where it does.
func (v *view) TriggerLost() string {
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

// triggerName names what the song's own duck works at.
func (v *view) triggerName() string {
	if id := v.DuckTrigger(); id != session.KickTrigger {
		return v.Trigger(id).Name
	}
	if st := v.TriggerStem(); st != nil {
		return st.Name
	}
	return "the kick"
}

// keyInput says what a keyed duck listens to, and where.
func (v *view) keyInput() string {
	t := v.Trigger(v.DuckTrigger())
	switch {
	case t == nil:
		return v.triggerName() + ", before its fader"
	case t.Clicks() || len(t.Added)+len(t.Removed) > 0:
		return v.triggerName() + ", as the trigger clicks"
	case t.Post || t.Bus != "":
		return v.triggerName() + ", behind its fader"
	}
	return v.triggerName() + ", before its fader"
}

// DrumStems are the stems that may give a trigger's hits.
func (v *view) DrumStems() []*session.Stem {
	var out []*session.Stem
	for i := range v.Stems {
		switch v.Stems[i].Role {
		case session.Kick, session.Snare, session.Hats, session.Perc:
			out = append(out, &v.Stems[i])
		}
	}
	return out
}
