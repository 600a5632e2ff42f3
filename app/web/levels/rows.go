package levels

import (
	"context"
	"fmt"
	"html/template"
	"math"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

type sheet struct {
	*shell.View
	State     state
	Ledger    *levels.Ledger
	Rules     session.Levels
	RuleRoles []ruleRow
	Rows      []levelRow
	Findings  []find.Finding
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

const findingsShown = 6

func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	out := &sheet{View: v, State: stateOf(shell.PageQuery(c, "levels")), Rules: v.LevelRules(), Presets: []string{"Drums", "Melody", "Low end", "Effects"}}
	ctx := c.Request.Context()
	w := over(out.State, v.Bench)
	var err error
	if out.Ledger, err = levels.LedgerOn(ctx, v.Bench, w); err != nil {
		return nil, err
	}
	out.Over = v.Bars()
	if out.State.Scope == "song" {
		out.Over = "the whole song"
	}
	v.Lead = "Sample peaks over " + out.Over + ", each in a real render. Brackets: where such a part usually sits; thin mark: the file."
	for _, r := range session.Roles {
		if w, ok := out.Rules.Windows[r.Role]; ok {
			out.RuleRoles = append(out.RuleRoles, ruleRow{r.Role, r.Label, *w})
		}
	}
	out.rows()
	if err := h.openRow(ctx, out); err != nil {
		return nil, err
	}
	out.Findings = v.Found
	if len(out.Findings) > findingsShown {
		out.Findings, out.More = out.Findings[:findingsShown], len(v.Found)-findingsShown
	}
	out.Off = out.Ledger.Master.Out.Peak
	if out.State.Offset {
		loud := v.Song.Clone()
		loud.Master.Fader += mixOffset
		l, err := h.Renderer.GroupLevel(ctx, &loud, "", w)
		if err != nil {
			return nil, err
		}
		out.With = l.Turned(loud.Master.Fader).Peak
	}
	out.Landings, err = levels.Landings(ctx, h.Renderer, &v.Song.Song)
	return out, err
}

// Rest are the findings that are folded away.
func (o *sheet) Rest() []find.Finding { return o.Found[len(o.Findings):] }

// rows lists the ledger: each bus with what goes to it, by role as on Intake, then what goes straight to the master,
// then the premaster.
func (o *sheet) rows() {
	grouped := map[session.Role]bool{}
	var walk func(bus string, deep bool)
	stems := func(bus string, deep bool) {
		var here []*levels.Row
		for i := range o.Ledger.Rows {
			if row := &o.Ledger.Rows[i]; row.Stem.Bus == bus {
				here = append(here, row)
			}
		}
		slices.SortStableFunc(here, func(a, b *levels.Row) int { return a.Stem.Role.Order() - b.Stem.Role.Order() })
		for _, row := range here {
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
func (o *sheet) cell(id string, step session.Step, db float64, locked bool) gainCell {
	g := gainCell{Step: step, Value: shell.Typed(db), Zero: db == 0, Locked: locked}
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
	return figure.Plus(out, 1)
}

// bar draws a level in its window, where it has one.
func bar(b plot.LevelBar, w *session.Window) template.HTML {
	b.ID, b.Lo, b.Hi = "bar-"+b.ID, math.NaN(), math.NaN()
	if w != nil {
		b.Lo, b.Hi = w.Lo, w.Hi
	}
	return plot.Level(b)
}

func (o *sheet) stemRow(row *levels.Row, deep bool) levelRow {
	st := row.Stem
	track := row.Levels.Steps[session.TrackStep]
	off := levels.Outside(track.Peak, row.Window)
	r := levelRow{
		Kind: "stem", ID: st.ID, Name: st.Name, Role: st.Role, Deep: deep, Muted: st.Mute, Stem: st,
		Peak: track.Peak, LUFS: track.Integrated(), Tag: tag(off), Open: o.State.Open == st.ID,
		Bar: bar(plot.LevelBar{
			ID: st.ID, Name: st.Name, Role: string(st.Role), Peak: track.Peak, Was: row.Levels.File.Peak, Out: math.Abs(off) > 0.05 && !st.Mute,
		}, row.Window),
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

func (o *sheet) groupRow(g *levels.Group, deep bool) levelRow {
	off := levels.Outside(g.Level.Peak, g.Window)
	name := fmt.Sprintf("%s, %d together", strings.ToUpper(string(g.Role)[:1])+string(g.Role)[1:], len(g.Stems))
	return levelRow{
		Kind: "group", Name: name, Role: g.Role, Deep: deep, Peak: g.Level.Peak, LUFS: g.Level.Integrated(), Tag: tag(off),
		Bar: bar(plot.LevelBar{
			ID: "all-" + string(g.Role), Name: name, Role: string(g.Role), Peak: g.Level.Peak, Was: meter.None, Out: math.Abs(off) > 0.05,
		}, g.Window),
	}
}

// limited makes a window that has but an upper end.
func limited(limit float64) *session.Window { return &session.Window{Lo: math.NaN(), Hi: limit} }

func (o *sheet) busRow(b *session.Bus, deep bool) levelRow {
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
	r.Bar = bar(plot.LevelBar{ID: "bus-" + b.ID, Name: b.Name, Peak: r.Peak, Was: meter.None, Out: over}, limited(o.Rules.Bus))
	return r
}

func (o *sheet) masterRow() levelRow {
	m := o.Ledger.Master
	r := levelRow{
		Kind: "master", ID: "master", Name: "Premaster", Peak: m.Out.Peak, LUFS: m.Out.Integrated(), Open: o.State.Open == "master",
		Gains: []gainCell{o.cell("master", session.MasterStep, o.Song.Song.Master.Fader, o.Song.Song.Master.Locked())},
		Steps: []stepFigures{
			{"before its fader", 0, m.In.Peak, m.In.Integrated(), false},
			{session.MasterStep, o.Song.Song.Master.Fader, m.Out.Peak, m.Out.Integrated(), o.Song.Song.Master.Locked()},
		},
	}
	over := float64(r.Peak) > o.Rules.Limit+0.05
	if over {
		r.Tag = "over"
	}
	r.Bar = bar(plot.LevelBar{ID: "master", Name: "the premaster", Peak: r.Peak, Was: meter.None, Out: over},
		&session.Window{Lo: o.Rules.Premaster, Hi: o.Rules.Limit})
	return r
}

// openRow works out what only the opened row shows: who causes the peaks of a bus, where a stem
// or bus may go.
func (h *handlers) openRow(ctx context.Context, o *sheet) error {
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
		if r.Shares, err = h.Renderer.Shares(ctx, &o.Song.Song, bus, level); err != nil {
			return err
		}
	}
	return nil
}

// At is the place whose chain the row shows.
func (r levelRow) At() session.At {
	switch r.Kind {
	case "stem":
		return session.At{Stem: r.ID}
	case "bus":
		return session.At{Bus: r.ID}
	}
	return session.At{}
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

// IsKickTrigger reports whether the stem gives the hits of the duck.
func (r levelRow) IsKickTrigger(v *shell.View) bool {
	t := v.TriggerStem()
	return t != nil && r.Stem != nil && t.ID == r.Stem.ID
}

// TriggerAt is the bus at which the kick's trigger is taken.
func (v *sheet) TriggerAt() string {
	if t := v.Trigger(session.KickTrigger); t != nil {
		return t.At
	}
	return ""
}

// Percent is for fields that show a share.
func (r levelRow) WidthPercent() float64 { return 100 * (1 + r.Stem.Width) }

// PanPercent is the pan from -100 left to 100 right.
func (r levelRow) PanPercent() float64 { return 100 * r.Stem.Pan }
