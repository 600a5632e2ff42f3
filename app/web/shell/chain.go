package shell

import (
	"fmt"
	"strings"

	"mellowthump/app/web/plot"
	"mellowthump/core/field"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Chain is what the page shows of a chain.
type Chain struct {
	View *View
	At   session.At
	Name string
	Rows []ChainRow
	More []*move.Kind // what may be put in
}

// ChainRow is a move of a chain with its form.
type ChainRow struct {
	move.Move
	Fields []field.Field
}

// ChainAt is the chain of a place, for the template "chain".
func (v *View) ChainAt(at session.At) *Chain {
	chain, name := v.Song.Chain(at)
	if chain == nil {
		return nil
	}
	out := &Chain{View: v, At: at, Name: name, More: move.On(at.Where())}
	for _, m := range *chain {
		row := ChainRow{Move: m}
		for _, f := range m.Params.Fields() {
			if !f.Idle {
				row.Fields = append(row.Fields, f)
			}
		}
		out.Rows = append(out.Rows, row)
	}
	return out
}

// Words says the moves that are on, and how many are off.
func (c *Chain) Words() string {
	var on []string
	off := 0
	for _, r := range c.Rows {
		if r.Off {
			off++
			continue
		}
		on = append(on, r.Words())
	}
	if off > 0 {
		on = append(on, fmt.Sprintf("%d off", off))
	}
	return strings.Join(on, "; ")
}

// Words says the move.
func (r ChainRow) Words() string { return move.Words(r.Params) }

// Warning says that the move is set further than is good; empty where it is not, or is off.
func (r ChainRow) Warning() string {
	if r.Off {
		return ""
	}
	return move.Warning(r.Params)
}

// Kind is the move's kind.
func (r ChainRow) Kind() *move.Kind { return r.Params.Kind() }

// ChainsOf are the chains that have moves of a stage, of which of tells, and all others; away: one of those moves is on; back:
// one of those stems has a new file.
func (v *View) ChainsOf(of func(move.Move) bool) (moved, others []*Chain, away, back bool) {
	for _, at := range v.Places() {
		k, any := v.ChainAt(at), false
		for _, r := range k.Rows {
			if of(r.Move) {
				any, away = true, away || !r.Off
			}
		}
		if !any {
			others = append(others, k)
			continue
		}
		moved = append(moved, k)
		st := v.Stem(at.Stem)
		back = back || st != nil && st.Was != ""
	}
	return moved, others, away, back
}

// Beats are the bar lines of a stretch, s, at most sixteen of them.
func (v *View) Beats(from, to float64) []plot.WeightBeat {
	var out []plot.WeightBeat
	bar := v.BarSeconds()
	step := 1
	for (to-from)/(bar*float64(step)) > 16 {
		step *= 2
	}
	first := int((from - v.Grid) / bar)
	for k := first; ; k += step {
		at := v.Grid + float64(k)*bar
		if at > to-bar/8 {
			return out
		}
		if at >= from-1e-6 {
			out = append(out, plot.WeightBeat{At: at, Name: fmt.Sprint(k + 1)})
		}
	}
}
