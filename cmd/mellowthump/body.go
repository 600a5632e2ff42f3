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
	file, err := oneFile(f, args, "weighed")
	if err != nil {
		return err
	}
	switch {
	case file == "":
		return errUsage{errors.New("body: name the file of a kick or of a bass")}
	case *role != string(session.Kick) && *role != string(session.Bass):
		return errUsage{fmt.Errorf("body: the role %q is neither kick nor bass", *role)}
	}
	src, opened, err := openSound(ctx, file)
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
