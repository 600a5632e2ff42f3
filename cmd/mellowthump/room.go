package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"mellowthump/core/room"
)

// names are the values of a flag that may be given several times.
type names []string

func (n *names) String() string { return strings.Join(*n, ", ") }

// Set adds one.
func (n *names) Set(v string) error { *n = append(*n, v); return nil }

// roomOf prints what stems put under kick and bass, and what of them may go unheard.
func roomOf(ctx context.Context, args []string, out io.Writer) error {
	f := flags("room")
	kick := f.String("kick", "", "")
	bass := f.String("bass", "", "")
	var stems names
	f.Var(&stems, "stem", "")
	if err := parse(f, args); err != nil {
		return err
	}
	switch {
	case f.NArg() > 0:
		return errUsage{fmt.Errorf("room: what is %q? Files are named by --kick, --bass and --stem", f.Arg(0))}
	case *kick == "" || *bass == "" || len(stems) == 0:
		return errUsage{errors.New("room: name --kick, --bass and at least one --stem")}
	}
	var sounds []room.Named
	for _, name := range append([]string{*kick, *bass}, stems...) {
		s, file, err := openSound(ctx, name)
		if err != nil {
			return err
		}
		defer file.Close()
		sounds = append(sounds, room.Named{Name: name, Source: s})
	}
	r, err := room.OfFiles(ctx, sounds[0].Source, sounds[1].Source, sounds[2:])
	if err != nil {
		return err
	}
	return writeJSON(out, r)
}
