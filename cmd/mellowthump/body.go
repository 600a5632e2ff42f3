package main

import (
	"context"
	"errors"
	"fmt"
	"io"

	"mellowthump/core/body"
	"mellowthump/core/session"
)

// bodyOf prints what the hits or the notes of a file weigh.
func bodyOf(ctx context.Context, args []string, out io.Writer) error {
	f := flags("body")
	role := f.String("role", "kick", "")
	var file string
	if len(args) > 0 && args[0] != "" && args[0][0] != '-' { // the file stands first
		file, args = args[0], args[1:]
	}
	if err := parse(f, args); err != nil {
		return err
	}
	if file == "" && f.NArg() == 1 {
		file = f.Arg(0)
	} else if f.NArg() > 0 {
		return errUsage{fmt.Errorf("body: what is %q? One file is weighed", f.Arg(0))}
	}
	switch {
	case file == "":
		return errUsage{errors.New("body: name the file of a kick or of a bass")}
	case *role != string(session.Kick) && *role != string(session.Bass):
		return errUsage{fmt.Errorf("body: the role %q is neither kick nor bass", *role)}
	}
	src, opened, err := openSound(file)
	if err != nil {
		return err
	}
	defer opened.Close()
	r, err := body.OfFile(ctx, src, session.Role(*role))
	if err != nil {
		return err
	}
	return writeJSON(out, r)
}
