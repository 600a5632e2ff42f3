// Package web is the application in the browser: the shell and its stages, put together.
package web

import (
	"mellowthump/app/store"
	"mellowthump/app/web/body"
	"mellowthump/app/web/compare"
	"mellowthump/app/web/duck"
	"mellowthump/app/web/intake"
	"mellowthump/app/web/levels"
	"mellowthump/app/web/logbook"
	"mellowthump/app/web/pocket"
	"mellowthump/app/web/print"
	"mellowthump/app/web/room"
	"mellowthump/app/web/shell"
	"mellowthump/app/web/width"
)

// Server is the application.
type Server = shell.Server

// Access says who is served.
type Access = shell.Access

// New wires the application over a data folder for those who are let in.
func New(st *store.Store, who Access) (*Server, error) { return shell.New(st, who, inOrder) }

// inOrder are the ten stages in the order of the work.
func inOrder(s *shell.Server) []*shell.Stage {
	first, references, voice := intake.Stage(s)
	return []*shell.Stage{
		first,
		levels.Stage(s, references),
		pocket.Stage(s),
		duck.Stage(s),
		room.Stage(s, voice),
		body.Stage(s),
		width.Stage(s),
		compare.Stage(s),
		print.Stage(s),
		logbook.Stage(s),
	}
}
