package main

import (
	"context"
	"errors"
	"fmt"
	"io"

	"mellowthump/app/store"
)

// check looks through a data folder, and says what is wrong and what mends it; it changes nothing.
func check(ctx context.Context, args []string, out io.Writer) error {
	f := flags("check")
	dir := f.String("data", dataDir(), "")
	if err := parse(f, args); err != nil {
		return err
	}
	if f.NArg() > 0 {
		return errUsage{fmt.Errorf("check takes no file names, got %q; --data names the folder", f.Arg(0))}
	}
	r, err := store.Check(ctx, *dir)
	if err != nil {
		return err
	}
	for _, t := range r.Troubles {
		fmt.Fprintf(out, "%s\n    %s\n", t.What, t.Mend)
	}
	fmt.Fprintf(out, "Looked at %d songs, %d revisions, %d takes and %d audio files in %s.\n", r.Songs, r.Revisions, r.Takes, r.Files, *dir)
	switch n := len(r.Troubles); n {
	case 0:
		fmt.Fprintln(out, "All is whole.")
		return nil
	case 1:
		return errors.New("one thing is not as it should be; nothing was changed")
	default:
		return fmt.Errorf("%d things are not as they should be; nothing was changed", n)
	}
}
