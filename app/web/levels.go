package web

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/dsp"
	"mellowthump/core/intake"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// levelsState is what of the page stands in its address.
type levelsState struct {
	Scope  string // "loop" or "song"
	Open   string // the stem, "bus:" and a bus, or "master" whose details are shown
	Order  levels.Order
	Anchor levels.Anchor
	Offset bool // as heard with +6 dB on the master
}

// mixOffset is the gain on the master that some mix into and take off at the end, dB.
const mixOffset = 6.0

// levelsStateOf reads the state from the page's own address: that of the request where it asks
// for the page, else that of the page it came from.
func levelsStateOf(c *gin.Context) levelsState {
	q := c.Request.URL.Query()
	if c.Param("stage") == "" || c.Request.Method != http.MethodGet {
		for _, from := range []string{c.GetHeader("HX-Current-URL"), c.GetHeader("Referer")} {
			if u, err := url.Parse(from); err == nil && strings.HasSuffix(u.Path, "/levels") {
				own := q
				q = u.Query()
				for k, v := range own {
					q[k] = v
				}
				break
			}
		}
	}
	st := levelsState{Scope: "loop", Open: q.Get("open"), Order: levels.ByRole, Anchor: levels.KickPeak, Offset: q.Get("offset") != ""}
	if q.Get("scope") == "song" {
		st.Scope = "song"
	}
	for _, o := range levels.Orders {
		if string(o.Order) == q.Get("order") {
			st.Order = o.Order
		}
	}
	for _, a := range levels.Anchors {
		if string(a.Anchor) == q.Get("anchor") {
			st.Anchor = a.Anchor
		}
	}
	return st
}

// With returns the state's query with one value changed; an empty value takes it out.
func (st levelsState) With(key, value string) string {
	q := url.Values{}
	set := func(k, v, plain string) {
		if k == key {
			v = value
		}
		if v != "" && v != plain {
			q.Set(k, v)
		}
	}
	set("scope", st.Scope, "loop")
	set("open", st.Open, "")
	set("order", string(st.Order), string(levels.ByRole))
	set("anchor", string(st.Anchor), string(levels.KickPeak))
	offset := ""
	if st.Offset {
		offset = "on"
	}
	set("offset", offset, "")
	if len(q) == 0 {
		return "?"
	}
	return "?" + q.Encode()
}

type levelsSheet struct {
	*view
	State     levelsState
	Rules     session.Levels
	RuleRoles []ruleRow
	Rows      []levelRow
	Findings  []levels.Finding
	More      int // findings that are folded away
	Landings  []levels.Landing
	Over      string // what the figures are of
	With, Off meter.Figure
	Presets   []string
}

type ruleRow struct {
	Role   session.Role
	Label  string
	Window session.Window
}

type levelRow struct {
	Kind, ID, Name string // kind: stem, group, bus, straight, master
	Role           session.Role
	Deep           bool
	Gains          []gainCell
	Peak, LUFS     meter.Figure
	Bar            template.HTML
	Tag            string
	Muted, Open    bool
	Stem           *session.Stem
	Bus            *session.Bus
	Steps          []stepFigures
	Shares         []mix.Share
	Parents        []session.Bus // where it may go
}

type gainCell struct {
	Step   session.Step
	Value  string
	Zero   bool
	Locked bool
}

type stepFigures struct {
	Step       session.Step
	Gain       float64
	Peak, LUFS meter.Figure
	Locked     bool
}

// fillLedger measures the ledger over a window, and judges it.
func (s *Server) fillLedger(ctx context.Context, v *view, w mix.Window) (err error) {
	v.Ledger, err = levels.Measure(ctx, s.Renderer, &v.Song.Song, w)
	if err != nil {
		return err
	}
	v.Found = levels.Judge(v.Ledger, v.sounds(), func(frame int) string {
		return v.Position(float64(frame) / float64(v.Rate))
	})
	return nil
}

// levelsCount answers with the mark of Levels in the rail, for what was shown before it was known.
func (s *Server) levelsCount(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	v := &view{Song: song, Stage: "levels", Facts: map[string]*intake.Analysis{}}
	err := s.fillFacts(c.Request.Context(), v)
	if err == nil && len(v.Stems) > 0 {
		err = s.fillLedger(c.Request.Context(), v, v.Win)
	}
	if err != nil {
		s.failWith(c, err)
		return
	}
	s.write(c, http.StatusOK, "railmark", s.levelsMark(v, railItem{}))
}

// sounds is what the files sound like, as far as it bears on levels.
func (v *view) sounds() map[string]levels.Sound {
	out := map[string]levels.Sound{}
	for sha, a := range v.Facts {
		if a.Portrait != nil {
			out[sha] = levels.Sound{Spectrum: a.Portrait.Spectrum, Sustain: a.Portrait.Sustain}
		}
	}
	return out
}

const findingsShown = 6

func (s *Server) levelsSheet(c *gin.Context, v *view) (*levelsSheet, error) {
	out := &levelsSheet{view: v, State: levelsStateOf(c), Rules: v.LevelRules(), Presets: []string{"Drums", "Melody", "Low end", "Effects"}}
	if v.Ledger == nil {
		v.Lead = "There are no stems yet. Drop them on Intake."
		return out, nil
	}
	ctx := c.Request.Context()
	out.Over = v.Bars()
	if out.State.Scope == "song" {
		if err := s.fillLedger(ctx, v, mix.Window{To: v.Length}); err != nil {
			return nil, err
		}
		out.Over = "the whole song"
	}
	v.Lead = "Sample peaks over " + out.Over + ", each in a real render. Brackets: where such a part usually sits; thin mark: the file."
	for _, r := range session.Roles {
		if w, ok := out.Rules.Windows[r.Role]; ok {
			out.RuleRoles = append(out.RuleRoles, ruleRow{r.Role, r.Label, w})
		}
	}
	out.rows()
	if err := s.openRow(ctx, out); err != nil {
		return nil, err
	}
	out.Findings = v.Found
	if len(out.Findings) > findingsShown {
		out.Findings, out.More = out.Findings[:findingsShown], len(v.Found)-findingsShown
	}
	out.Off = v.Ledger.Master.Out.Peak
	if out.State.Offset {
		loud := v.Song.Clone()
		loud.Master.Fader += mixOffset
		w := v.Win
		if out.State.Scope == "song" {
			w = mix.Window{To: v.Length}
		}
		l, err := s.Renderer.GroupLevel(ctx, &loud, "", w)
		if err != nil {
			return nil, err
		}
		out.With = l.Turned(loud.Master.Fader).Peak
	}
	var err error
	out.Landings, err = levels.Landings(ctx, s.Renderer, &v.Song.Song)
	return out, err
}

// Rest are the findings that are folded away.
func (o *levelsSheet) Rest() []levels.Finding { return o.Found[len(o.Findings):] }

// rows lists the ledger: each bus with what goes to it, then what goes straight to the master,
// then the premaster.
func (o *levelsSheet) rows() {
	grouped := map[session.Role]bool{}
	var walk func(bus string, deep bool)
	stems := func(bus string, deep bool) {
		for i := range o.Ledger.Rows {
			row := &o.Ledger.Rows[i]
			if row.Stem.Bus != bus {
				continue
			}
			if role := row.Stem.Role; row.Group && !grouped[role] {
				grouped[role] = true
				o.Rows = append(o.Rows, o.groupRow(o.Ledger.Group(role), deep))
			}
			o.Rows = append(o.Rows, o.stemRow(row, deep))
		}
	}
	walk = func(bus string, deep bool) {
		for i := range o.Buses {
			b := &o.Buses[i]
			if b.Bus != bus {
				continue
			}
			o.Rows = append(o.Rows, o.busRow(b, deep))
			stems(b.ID, deep)
			walk(b.ID, true)
		}
	}
	walk("", false)
	at := len(o.Rows)
	stems("", false)
	if at > 0 && len(o.Rows) > at {
		o.Rows = append(o.Rows[:at], append([]levelRow{{Kind: "straight", Name: "Straight to the master"}}, o.Rows[at:]...)...)
	}
	o.Rows = append(o.Rows, o.masterRow())
}

// cell makes a field for a gain; what was typed where an edit was refused stays in it.
func (o *levelsSheet) cell(id string, step session.Step, db float64, locked bool) gainCell {
	g := gainCell{Step: step, Value: typed(db), Zero: db == 0, Locked: locked}
	if db > 0 {
		g.Value = "+" + g.Value
	}
	if b := o.Bad; b != nil && b.Field == "gain" && b.Typed["of"] == id && b.Typed["step"] == string(step) {
		g.Value = b.Typed["db"]
	}
	return g
}

func tag(out float64) string {
	if math.Abs(out) <= 0.05 {
		return ""
	}
	return signedTenth(out)
}

func signedTenth(v float64) string {
	t := plot.Signed(v, 1)
	if v > 0 {
		t = "+" + t
	}
	return t
}

func (o *levelsSheet) bar(id, name string, role session.Role, peak, was meter.Figure, w *session.Window, outside bool) template.HTML {
	b := plot.LevelBar{ID: "bar-" + id, Name: name, Role: string(role), Peak: peak, Was: was, Lo: math.NaN(), Hi: math.NaN(), Out: outside}
	if w != nil {
		b.Lo, b.Hi = w.Lo, w.Hi
	}
	return plot.Level(b)
}

func (o *levelsSheet) stemRow(row *levels.Row, deep bool) levelRow {
	st := row.Stem
	track := row.Levels.Steps[session.TrackStep]
	off := levels.Outside(track.Peak, row.Window)
	r := levelRow{
		Kind: "stem", ID: st.ID, Name: st.Name, Role: st.Role, Deep: deep, Muted: st.Mute, Stem: st,
		Peak: track.Peak, LUFS: track.Integrated(), Tag: tag(off), Open: o.State.Open == st.ID,
		Bar: o.bar(st.ID, st.Name, st.Role, track.Peak, row.Levels.File.Peak, row.Window, math.Abs(off) > 0.05 && !st.Mute),
	}
	for _, step := range session.StemSteps {
		r.Gains = append(r.Gains, o.cell(st.ID, step, st.Gain(step), st.Locked(step)))
		r.Steps = append(r.Steps, stepFigures{step, st.Gain(step), row.Levels.Steps[step].Peak, row.Levels.Steps[step].Integrated(), st.Locked(step)})
	}
	if st.Mute {
		r.Tag = "muted"
	}
	return r
}

func (o *levelsSheet) groupRow(g *levels.Group, deep bool) levelRow {
	off := levels.Outside(g.Level.Peak, g.Window)
	name := fmt.Sprintf("%s, %d together", strings.ToUpper(string(g.Role)[:1])+string(g.Role)[1:], len(g.Stems))
	return levelRow{
		Kind: "group", Name: name, Role: g.Role, Deep: deep, Peak: g.Level.Peak, LUFS: g.Level.Integrated(), Tag: tag(off),
		Bar: o.bar("all-"+string(g.Role), name, g.Role, g.Level.Peak, meter.None, g.Window, math.Abs(off) > 0.05),
	}
}

// limited makes a window that has but an upper end.
func limited(limit float64) *session.Window { return &session.Window{Lo: math.NaN(), Hi: limit} }

func (o *levelsSheet) busRow(b *session.Bus, deep bool) levelRow {
	r := levelRow{
		Kind: "bus", ID: b.ID, Name: b.Name, Deep: deep, Peak: meter.None, LUFS: meter.None, Muted: b.Mute, Bus: b,
		Open: o.State.Open == "bus:"+b.ID, Gains: []gainCell{o.cell("bus:"+b.ID, session.BusStep, b.Fader, b.Locked())},
	}
	for _, m := range o.Ledger.Buses {
		if m.Bus.ID == b.ID {
			r.Peak, r.LUFS = m.Out.Peak, m.Out.Integrated()
			r.Steps = []stepFigures{{"before its fader", 0, m.In.Peak, m.In.Integrated(), false}, {session.BusStep, b.Fader, m.Out.Peak, m.Out.Integrated(), b.Locked()}}
		}
	}
	over := float64(r.Peak) > o.Rules.Bus+0.05 && !b.Mute
	if over {
		r.Tag = "over"
	}
	if b.Mute {
		r.Tag = "muted"
	}
	r.Bar = o.bar("bus-"+b.ID, b.Name, "", r.Peak, meter.None, limited(o.Rules.Bus), over)
	return r
}

func (o *levelsSheet) masterRow() levelRow {
	m := o.Ledger.Master
	r := levelRow{
		Kind: "master", ID: "master", Name: "Premaster", Peak: m.Out.Peak, LUFS: m.Out.Integrated(), Open: o.State.Open == "master",
		Gains: []gainCell{o.cell("master", session.MasterStep, o.Song.Song.Master.Fader, o.Song.Song.Master.Locked())},
		Steps: []stepFigures{{"before its fader", 0, m.In.Peak, m.In.Integrated(), false}, {session.MasterStep, o.Song.Song.Master.Fader, m.Out.Peak, m.Out.Integrated(), o.Song.Song.Master.Locked()}},
	}
	over := float64(r.Peak) > o.Rules.Limit+0.05
	if over {
		r.Tag = "over"
	}
	r.Bar = o.bar("master", "the premaster", "", r.Peak, meter.None, &session.Window{Lo: o.Rules.Premaster, Hi: o.Rules.Limit}, over)
	return r
}

// openRow works out what only the opened row shows: who causes the peaks of a bus, where a stem
// or bus may go.
func (s *Server) openRow(ctx context.Context, o *levelsSheet) error {
	for i := range o.Rows {
		r := &o.Rows[i]
		if !r.Open {
			continue
		}
		for _, b := range o.Buses {
			within := r.Bus != nil && slices.ContainsFunc(o.Path(b.ID), func(p *session.Bus) bool { return p.ID == r.Bus.ID })
			if !within {
				r.Parents = append(r.Parents, b)
			}
		}
		if r.Kind == "stem" {
			continue
		}
		bus, level := "", o.Ledger.Master.Out
		if r.Bus != nil {
			bus = r.Bus.ID
			for _, m := range o.Ledger.Buses {
				if m.Bus.ID == bus {
					level = m.Out
				}
			}
		}
		var err error
		if r.Shares, err = s.Renderer.Shares(ctx, &o.Song.Song, bus, level); err != nil {
			return err
		}
	}
	return nil
}

// SendTo returns the stem's send to a bus, nil where there is none.
func (r levelRow) SendTo(bus string) *session.Send {
	for i := range r.Stem.Sends {
		if r.Stem.Sends[i].Bus == bus {
			return &r.Stem.Sends[i]
		}
	}
	return nil
}

// View is what every page of the song shows.
func (o *levelsSheet) View() *view { return o.view }

// IsKickTrigger reports whether the stem gives the hits of the duck.
func (r levelRow) IsKickTrigger(v *view) bool {
	t := v.TriggerStem()
	return t != nil && r.Stem != nil && t.ID == r.Stem.ID
}

// TriggerAt is the bus at which the kick's trigger is taken.
func (v *view) TriggerAt() string {
	if t := v.Trigger(session.KickTrigger); t != nil {
		return t.At
	}
	return ""
}

// Percent is for fields that show a share.
func (r levelRow) WidthPercent() float64 { return 100 * (1 + r.Stem.Width) }

// PanPercent is the pan from -100 left to 100 right.
func (r levelRow) PanPercent() float64 { return 100 * r.Stem.Pan }

// setGain changes one gain at one step.
func (s *Server) setGain(c *gin.Context) {
	s.edit(c, "levels", func(song *session.Song) (string, error) {
		db, err := move.ParseNumber(c.PostForm("db"), "dB")
		if err != nil {
			return "", badInput(c, "gain", err)
		}
		if math.Abs(db) > session.MaxGain {
			return "", badInput(c, "gain", fmt.Errorf("a gain of %g dB is outside −60 to +60", db))
		}
		of, step := c.PostForm("of"), session.Step(c.PostForm("step"))
		name := "Master"
		switch bus, isBus := strings.CutPrefix(of, "bus:"); {
		case of == "master":
			song.Master.Fader = db
		case isBus:
			b := song.Bus(bus)
			if b == nil {
				return "", badInput(c, "gain", errors.New("that bus is no longer there"))
			}
			b.Fader, name = db, b.Name
		default:
			st := song.Stem(of)
			if st == nil || !slices.Contains(session.StemSteps, step) {
				return "", badInput(c, "gain", errors.New("that stem is no longer there"))
			}
			st.SetGain(step, db)
			name = st.Name + ", " + string(step)
		}
		return fmt.Sprintf("%s %s dB", name, signedTenth(db)), nil
	})
}

// locks reads which of some steps are ticked as locked.
func locks(c *gin.Context, steps []session.Step) []session.Step {
	var out []session.Step
	for _, step := range steps {
		if c.PostForm("lock-"+string(step)) != "" {
			out = append(out, step)
		}
	}
	return out
}

// setStemRouting changes where a stem goes, its pan and width, its sends and locks.
func (s *Server) setStemRouting(c *gin.Context) {
	s.edit(c, "levels", func(song *session.Song) (string, error) {
		st := song.Stem(c.Param("stem"))
		if st == nil {
			return "", badInput(c, "detail", errors.New("that stem is no longer there"))
		}
		pan, err := move.ParseNumber(c.PostForm("pan"), "%")
		if err != nil {
			return "", badInput(c, "detail", fmt.Errorf("the pan %w", err))
		}
		width, err := move.ParseNumber(c.PostForm("width"), "%")
		if err != nil {
			return "", badInput(c, "detail", fmt.Errorf("the width %w", err))
		}
		was := *st
		st.Pan, st.Width = pan/100, width/100-1
		if math.Abs(st.Width) < 1e-9 {
			st.Width = 0
		}
		st.Mute = c.PostForm("mute") != ""
		st.Bus = c.PostForm("bus")
		st.Locks = locks(c, session.StemSteps)
		st.Sends = nil
		for _, b := range song.Buses {
			text := strings.TrimSpace(c.PostForm("send-" + b.ID))
			if text == "" || text == "–" {
				continue
			}
			db, err := move.ParseNumber(text, "dB")
			if err != nil {
				return "", badInput(c, "detail", fmt.Errorf("the send to %s %w", b.Name, err))
			}
			st.Sends = append(st.Sends, session.Send{Bus: b.ID, Level: db, Pre: c.PostForm("pre-"+b.ID) != ""})
		}
		if st.Bus != "" && song.Bus(st.Bus) == nil {
			return "", badInput(c, "detail", errors.New("that bus is no longer there"))
		}
		if at, ok := c.GetPostForm("trigger-at"); ok {
			if t := song.Trigger(session.KickTrigger); t != nil {
				t.At = at
			}
		}
		if err := song.Validate(); err != nil {
			return "", badInput(c, "detail", err)
		}
		what := "Change " + st.Name
		switch {
		case was.Bus != st.Bus && st.Bus == "":
			what = st.Name + " straight to the master"
		case was.Bus != st.Bus:
			what = st.Name + " to " + song.Bus(st.Bus).Name
		case was.Mute != st.Mute && st.Mute:
			what = "Mute " + st.Name
		case was.Mute != st.Mute:
			what = "Unmute " + st.Name
		case was.Pan != st.Pan:
			what = fmt.Sprintf("Pan %s to %s", st.Name, panSaid(st.Pan))
		case was.Width != st.Width:
			what = fmt.Sprintf("%s %.0f %% wide", st.Name, width)
		}
		return what, nil
	})
}

func panSaid(pan float64) string {
	switch {
	case pan < 0:
		return fmt.Sprintf("%.0f %% left", -100*pan)
	case pan > 0:
		return fmt.Sprintf("%.0f %% right", 100*pan)
	}
	return "the middle"
}

// addBus makes a new bus.
func (s *Server) addBus(c *gin.Context) {
	s.edit(c, "levels", func(song *session.Song) (string, error) {
		name := strings.TrimSpace(c.PostForm("name"))
		if name == "" {
			return "", badInput(c, "bus", errors.New("a bus needs a name"))
		}
		if slices.ContainsFunc(song.Buses, func(b session.Bus) bool { return strings.EqualFold(b.Name, name) }) {
			return "", badInput(c, "bus", fmt.Errorf("there is a bus called %s already", name))
		}
		id := 1
		for song.Bus(fmt.Sprintf("b%d", id)) != nil {
			id++
		}
		song.Buses = append(song.Buses, session.Bus{ID: fmt.Sprintf("b%d", id), Name: name})
		if err := song.Validate(); err != nil {
			return "", badInput(c, "bus", err)
		}
		return "Add the bus " + name, nil
	})
}

// setBus changes a bus's name, where it goes, its mute and its lock.
func (s *Server) setBus(c *gin.Context) {
	s.edit(c, "levels", func(song *session.Song) (string, error) {
		b := song.Bus(c.Param("bus"))
		if b == nil {
			return "", badInput(c, "detail", errors.New("that bus is no longer there"))
		}
		name := strings.TrimSpace(c.PostForm("name"))
		if name == "" {
			return "", badInput(c, "detail", errors.New("a bus needs a name"))
		}
		b.Name, b.Bus, b.Mute = name, c.PostForm("bus"), c.PostForm("mute") != ""
		b.Locks = locks(c, []session.Step{session.BusStep})
		if err := song.Validate(); err != nil {
			return "", badInput(c, "detail", err)
		}
		return "Change the bus " + b.Name, nil
	})
}

// removeBus takes a bus away; what went to it goes where it went.
func (s *Server) removeBus(c *gin.Context) {
	s.edit(c, "levels", func(song *session.Song) (string, error) {
		b := song.Bus(c.Param("bus"))
		if b == nil {
			return "", badInput(c, "detail", errors.New("that bus is no longer there"))
		}
		gone := *b
		var members []string
		for i := range song.Stems {
			st := &song.Stems[i]
			if song.Reaches(st, gone.ID) {
				members = append(members, st.ID)
			}
			if st.Bus == gone.ID {
				st.Bus = gone.Bus
			}
			st.Sends = slices.DeleteFunc(st.Sends, func(e session.Send) bool { return e.Bus == gone.ID })
		}
		song.Buses = slices.DeleteFunc(song.Buses, func(b session.Bus) bool { return b.ID == gone.ID })
		for i := range song.Buses {
			if song.Buses[i].Bus == gone.ID {
				song.Buses[i].Bus = gone.Bus
			}
		}
		for i := range song.Triggers {
			t := &song.Triggers[i]
			if t.At == gone.ID {
				t.At = ""
			}
			if t.Bus == gone.ID { // it listens to what the bus carried
				t.Stem, t.Stems, t.Bus = "", members, ""
			}
		}
		return "Remove the bus " + gone.Name, nil
	})
}

// setMaster changes the master's lock.
func (s *Server) setMaster(c *gin.Context) {
	s.edit(c, "levels", func(song *session.Song) (string, error) {
		song.Master.Locks = locks(c, []session.Step{session.MasterStep})
		if song.Master.Locked() {
			return "Lock the master", nil
		}
		return "Unlock the master", nil
	})
}

// fixLevels makes the change that a finding proposes.
func (s *Server) fixLevels(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	v, err := s.view(c, song, "levels", nil)
	if err == nil && levelsStateOf(c).Scope == "song" {
		err = s.fillLedger(c.Request.Context(), v, mix.Window{To: v.Length})
	}
	if err != nil {
		s.failWith(c, err)
		return
	}
	what := c.PostForm("what")
	for _, f := range v.Found {
		if f.What != what || len(f.Fix) == 0 {
			continue
		}
		s.edit(c, "levels", func(song *session.Song) (string, error) {
			if err := levels.Apply(song, f.Fix); err != nil {
				return "", badInput(c, "gain", err)
			}
			if err := song.Validate(); err != nil {
				return "", badInput(c, "gain", err)
			}
			return "Mend: " + f.What, nil
		})
		return
	}
	s.fail(c, http.StatusConflict, "That finding is no longer open. Reload to see the levels as they are now.")
}

// setRules changes the windows and targets of the song.
func (s *Server) setRules(c *gin.Context) {
	s.edit(c, "levels", func(song *session.Song) (string, error) {
		if c.PostForm("reset") != "" {
			if song.Levels == nil {
				return "", nil
			}
			song.Levels = nil
			return "Windows of common practice", nil
		}
		rules := song.LevelRules()
		windows := map[session.Role]session.Window{}
		var wrong error
		read := func(name string, was float64) float64 {
			text, ok := c.GetPostForm(name)
			if !ok {
				return was
			}
			db, err := move.ParseNumber(text, "dB")
			if err != nil && wrong == nil {
				wrong = fmt.Errorf("%s: %w", strings.ReplaceAll(name, "-", " "), err)
			}
			return db
		}
		for role, w := range rules.Windows {
			windows[role] = session.Window{Lo: read(string(role)+"-lo", w.Lo), Hi: read(string(role)+"-hi", w.Hi)}
		}
		rules.Windows = windows
		rules.Kick, rules.Bus = read("anchor", rules.Kick), read("bus", rules.Bus)
		rules.Premaster, rules.Limit = read("premaster", rules.Premaster), read("limit", rules.Limit)
		rules.BassUnder = session.Window{Lo: read("under-lo", rules.BassUnder.Lo), Hi: read("under-hi", rules.BassUnder.Hi)}
		rules.BassOver = session.Window{Lo: read("over-lo", rules.BassOver.Lo), Hi: read("over-hi", rules.BassOver.Hi)}
		rules.MelodyGap = read("gap", rules.MelodyGap)
		if wrong == nil {
			wrong = rules.Validate()
		}
		if wrong != nil {
			return "", badInput(c, "rules", wrong)
		}
		song.Levels = &rules
		return "Change the level windows", nil
	})
}

// runningSum draws who uses the headroom.
func (s *Server) runningSum(c *gin.Context) {
	v, st, w := s.levelsView(c)
	if v == nil {
		return
	}
	sum, err := levels.RunningSum(c.Request.Context(), s.Renderer, v.Ledger, st.Order, w)
	if err != nil {
		s.failWith(c, err)
		return
	}
	var steps []plot.SumStep
	for _, j := range sum {
		steps = append(steps, plot.SumStep{Name: j.Name, Role: string(j.Role), Peak: j.Level.Peak, LUFS: j.Level.Integrated()})
	}
	rules := v.LevelRules()
	s.write(c, http.StatusOK, "levelssum", map[string]any{
		"ID": v.ID, "State": st, "Orders": levels.Orders, "Steps": steps, "Rules": rules, "Picture": plot.RunningSum(steps, rules.Premaster, rules.Limit),
	})
}

// levelsView loads the song with its ledger over the window that the page shows.
func (s *Server) levelsView(c *gin.Context) (*view, levelsState, mix.Window) {
	st := levelsStateOf(c)
	song := s.load(c)
	if song == nil {
		return nil, st, mix.Window{}
	}
	v, err := s.view(c, song, "levels", nil)
	if err == nil && v.Ledger == nil {
		s.fail(c, http.StatusConflict, "There are no stems yet. Drop them on Intake.")
		return nil, st, mix.Window{}
	}
	w := v.Win
	if err == nil && st.Scope == "song" {
		w = mix.Window{To: v.Length}
		err = s.fillLedger(c.Request.Context(), v, w)
	}
	if err != nil {
		s.failWith(c, err)
		return nil, st, w
	}
	return v, st, w
}

// wholeSong says in a line what the peaks are over the whole song, where the page shows the loop.
func (s *Server) wholeSong(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	v, err := s.view(c, song, "levels", nil)
	if err != nil {
		s.failWith(c, err)
		return
	}
	l, err := levels.Measure(c.Request.Context(), s.Renderer, &song.Song, mix.Window{To: v.Length})
	if err != nil {
		s.failWith(c, err)
		return
	}
	s.write(c, http.StatusOK, "levelswhole", map[string]any{
		"Peak": l.Master.Out.Peak, "LUFS": l.Master.Out.Integrated(), "At": v.Position(float64(l.Master.Out.At) / float64(v.Rate)), "Over": float64(l.Master.Out.Peak) > v.LevelRules().Limit,
	})
}

// planOptions reads what a plan is made by.
func (s *Server) planOptions(c *gin.Context, v *view, st levelsState) (levels.Options, error) {
	o := levels.Options{Anchor: st.Anchor, Melody: c.Query("melody"), Sounds: v.sounds()}
	number := func(name, unit string, lo, hi float64) (float64, error) {
		text := c.Query(name)
		if text == "" {
			return 0, nil
		}
		n, err := move.ParseNumber(text, unit)
		if err == nil && !(n >= lo && n <= hi) {
			err = fmt.Errorf("%g is outside %g to %g dB", n, lo, hi)
		}
		return n, err
	}
	var err error
	if o.Under, err = number("under", "dB", 1, 40); err != nil {
		return o, fmt.Errorf("the distance from the click: %w", err)
	}
	if o.Threshold, err = number("threshold", "dB", -20, 20); err != nil {
		return o, fmt.Errorf("the threshold: %w", err)
	}
	for _, ref := range v.References {
		if ref.ID == c.Query("reference") || c.Query("reference") == "" {
			a, err := s.Store.Facts(c.Request.Context(), ref.Audio)
			if err != nil {
				return o, err
			}
			if a.Portrait != nil {
				o.Finished = &a.Portrait.Spectrum
			}
			break
		}
	}
	return o, nil
}

type planSheet struct {
	*view
	State   levelsState
	Query   string
	Plan    *levels.Plan
	Wrong   string
	Table   string // tab-separated, to be copied
	Melody  []*session.Stem
	Options levels.Options
}

// solvePlan makes the plan that the page asks for, over the whole song.
func (s *Server) solvePlan(c *gin.Context) (*planSheet, error) {
	st := levelsStateOf(c)
	song := s.load(c)
	if song == nil {
		return nil, errAnswered
	}
	v, err := s.view(c, song, "levels", nil)
	if err != nil {
		return nil, err
	}
	out := &planSheet{view: v, State: st, Melody: v.ByRole(session.Melodic), Query: c.Request.URL.RawQuery}
	if out.Options, err = s.planOptions(c, v, st); err != nil {
		out.Wrong = sentence(err.Error())
		return out, nil
	}
	p, err := levels.Solve(c.Request.Context(), s.Renderer, &song.Song, mix.Window{To: v.Length}, out.Options)
	if errors.Is(err, levels.ErrNothing) || errors.Is(err, levels.ErrNoKick) || errors.Is(err, levels.ErrNoMelody) || errors.Is(err, levels.ErrNoReference) {
		out.Wrong = sentence(err.Error())
		return out, nil
	}
	if err != nil {
		return nil, err
	}
	out.Plan = p
	out.Table = planTable(p, "\t")
	return out, nil
}

// noisePlayed is the level at which the noise is played at the most, dBFS RMS: its peaks stay
// under full scale and it does not startle.
const noisePlayed = -24.0

// NoisePad is how far the loop is turned down beside the noise, so that their distance is the
// plan's, dB.
func (p *planSheet) NoisePad() float64 { return max(0, float64(p.Plan.Noise)-noisePlayed) }

// NoisePlayed is the level at which the noise is played, dBFS RMS.
func (p *planSheet) NoisePlayed() float64 { return float64(p.Plan.Noise) - p.NoisePad() }

// errAnswered means that the request was answered already.
var errAnswered = errors.New("answered")

// previewPlan shows a plan before anything is changed.
func (s *Server) previewPlan(c *gin.Context) {
	p, err := s.solvePlan(c)
	switch {
	case errors.Is(err, errAnswered):
	case err != nil:
		s.failWith(c, err)
	default:
		s.write(c, http.StatusOK, "levelsplan", p)
	}
}

// applyPlan makes the trims of a plan here, or keeps them to be checked where they are made
// elsewhere.
func (s *Server) applyPlan(c *gin.Context) {
	p, err := s.solvePlan(c)
	if errors.Is(err, errAnswered) {
		return
	}
	if err != nil {
		s.failWith(c, err)
		return
	}
	if p.Plan == nil {
		s.fail(c, http.StatusUnprocessableEntity, p.Wrong)
		return
	}
	s.edit(c, "levels", func(song *session.Song) (string, error) {
		if c.PostForm("outside") != "" {
			song.Plan = &session.Plan{Trims: p.Plan.Trims()}
			return "Take the plan of " + count(len(p.Plan.Changes), "trim") + " elsewhere", nil
		}
		if len(p.Plan.Changes) == 0 {
			return "", nil
		}
		for _, ch := range p.Plan.Changes {
			set := levels.Set{Stem: ch.Stem, Bus: ch.Bus, Step: ch.Step, DB: ch.To}
			if err := levels.Apply(song, []levels.Set{set}); err != nil {
				return "", badInput(c, "gain", err)
			}
		}
		return "Apply the plan: " + count(len(p.Plan.Changes), "trim"), nil
	})
}

// forgetPlan ends the waiting for new bounces.
func (s *Server) forgetPlan(c *gin.Context) {
	s.edit(c, "levels", func(song *session.Song) (string, error) {
		if song.Plan == nil {
			return "", nil
		}
		song.Plan = nil
		return "Close the plan", nil
	})
}

// planTable writes a plan as a table in the order of the steps, from source to master.
func planTable(p *levels.Plan, separator string) string {
	var b strings.Builder
	w := csv.NewWriter(&b)
	w.Comma = []rune(separator)[0]
	w.Write([]string{"step", "part", "from dB", "to dB", "change dB"})
	for _, c := range p.Changes {
		w.Write([]string{string(c.Step), c.Name, fmt.Sprintf("%.1f", c.From), fmt.Sprintf("%.1f", c.To), fmt.Sprintf("%+.1f", c.To-c.From)})
	}
	w.Flush()
	return b.String()
}

// planCSV sends the table as a file.
func (s *Server) planCSV(c *gin.Context) {
	p, err := s.solvePlan(c)
	if errors.Is(err, errAnswered) {
		return
	}
	if err != nil || p.Plan == nil {
		s.fail(c, http.StatusUnprocessableEntity, "There is no plan to write down.")
		return
	}
	c.Header("Content-Disposition", `attachment; filename="levels.csv"`)
	c.Data(http.StatusOK, "text/csv; charset=utf-8", []byte(planTable(p.Plan, ",")))
}

// noiseFrames is the length of the pink noise that is played in a circle.
const noiseFrames = 1 << 19

// pinkNoise sends pink noise of a level in dBFS RMS, to be looped.
func (s *Server) pinkNoise(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	db, err := move.ParseNumber(c.Query("db"), "dB")
	if err != nil || !(db >= -80 && db <= -10) || song.Rate == 0 {
		s.fail(c, http.StatusBadRequest, "The noise is played at a level from −80 to −10 dBFS.")
		return
	}
	b := audio.New(song.Rate, 1, 0)
	b.Ch[0] = dsp.PinkNoise(noiseFrames, float64(song.Rate))
	g := float32(dsp.Gain(db))
	for i := range b.Ch[0] {
		b.Ch[0][i] *= g
	}
	var out bytes.Buffer
	if err := wav.Write(&out, b, wav.Int24); err != nil {
		s.failWith(c, err)
		return
	}
	c.Header("Cache-Control", "private, max-age=3600")
	c.Data(http.StatusOK, "audio/wav", out.Bytes())
}

// references shows the finished tracks, and asks again while one is coming in.
func (s *Server) references(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	jobs, err := s.Store.Jobs(c.Request.Context(), song.ID)
	if err != nil {
		s.failWith(c, err)
		return
	}
	var under, failed []string
	for _, j := range jobs {
		switch {
		case j.Kind != referenceJob:
		case j.Active():
			under = append(under, j.Name)
		default:
			failed = append(failed, j.Name+": "+j.Message)
		}
	}
	s.write(c, http.StatusOK, "references", map[string]any{"ID": song.ID, "Rev": song.Rev, "References": song.References, "Under": under, "Failed": failed})
}

// removeReference takes a finished track out of the song.
func (s *Server) removeReference(c *gin.Context) {
	s.edit(c, "levels", func(song *session.Song) (string, error) {
		song.References = slices.DeleteFunc(song.References, func(r session.Reference) bool { return r.ID == c.Param("ref") })
		return "Remove a finished track", nil
	})
}
