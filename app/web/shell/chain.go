package shell

import (
	"fmt"
	"strings"

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
	Fields []move.Field
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
