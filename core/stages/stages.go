// Package stages is the list of the stages of the work.
package stages

import (
	"mellowthump/core/body"
	"mellowthump/core/compare"
	"mellowthump/core/duck"
	"mellowthump/core/find"
	"mellowthump/core/intake"
	"mellowthump/core/levels"
	"mellowthump/core/pocket"
	"mellowthump/core/print"
	"mellowthump/core/room"
	"mellowthump/core/stage"
	"mellowthump/core/width"
)

// All are the stages that judge, in the order of the work. The log, which keeps what they come to, stands above them.
var All = []*stage.Stage{
	&intake.Stage,
	&levels.Stage,
	&pocket.Stage,
	&duck.Stage,
	&room.Stage,
	&body.Stage,
	&width.Stage,
	&compare.Stage,
	&print.Stage,
}

// Of returns the stage with a key; nil where there is none.
func Of(key stage.Key) *stage.Stage {
	for _, s := range All {
		if s.Key == key {
			return s
		}
	}
	return nil
}

// Figure returns how a figure is taken; ok is false where no stage takes it.
func Figure(key string) (f stage.Figure, ok bool) {
	for _, s := range All {
		if f, ok = s.Figures[key]; ok {
			return f, true
		}
	}
	return stage.Figure{}, false
}

// Plan returns how findings of a group are dealt with by one change, and the stage that does; nil: each is by itself.
func Plan(g find.Group) (stage.Plan, *stage.Stage) {
	for _, s := range All {
		if p := s.Plans[g]; p != nil {
			return p, s
		}
	}
	return nil, nil
}
