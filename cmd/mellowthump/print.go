package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"mellowthump/app/unpack"
	"mellowthump/core/archive"
	"mellowthump/core/export"
	"mellowthump/core/mix"
)

// printed is what the command prints.
type printed struct {
	Song  string   `json:"song"`
	Files []string `json:"files"`
}

// printSong prints the song of an archive into a folder.
// Long because each flag that makes no sense is refused in its own sentence.
func printSong(ctx context.Context, args []string, out io.Writer) error {
	f := flags("print")
	name := f.String("song", "", "")
	to := f.String("out", "", "")
	what := f.String("what", "premaster,copy,stems,sheet,hits", "")
	form := f.String("form", "24", "")
	names := f.String("names", "", "")
	if err := parse(f, args); err != nil {
		return err
	}
	forms := map[string]string{"16": "wav16", "24": "", "32f": "wav32", "flac": "flac"}
	as, known := forms[*form]
	goes := strings.Split(*what, ",")
	switch {
	case f.NArg() > 0:
		return errUsage{fmt.Errorf("print: what is %q?", f.Arg(0))}
	case *name == "" || *to == "":
		return errUsage{errors.New("print: name the archive with --song, and the folder it is printed into with --out")}
	case !known:
		return errUsage{fmt.Errorf("print: %q is no form; 16, 24, 32f and flac are known", *form)}
	}
	if err := export.CheckNames(*names); err != nil {
		return errUsage{fmt.Errorf("print: --names: %w", err)}
	}
	for _, w := range goes {
		if w == "archive" || !slices.ContainsFunc(export.Goings, func(g export.Going) bool { return g.Key == w }) {
			return errUsage{fmt.Errorf("print: there is no %q to print; premaster, copy, mix, stems, buses, sheet, hits and curves are known", w)}
		}
	}
	zip, err := os.Open(*name)
	if err != nil {
		return err
	}
	defer zip.Close()
	st, err := zip.Stat()
	if err != nil {
		return err
	}
	a, err := archive.Open(zip, st.Size())
	if err != nil {
		return fmt.Errorf("%s: %w", *name, err)
	}
	s, dir, done, err := scratch(ctx)
	if err != nil {
		return err
	}
	defer done()
	song, err := unpack.Song(ctx, s, a, func(float64, string) {})
	if err != nil {
		return fmt.Errorf("%s: %w", *name, err)
	}
	parts := filepath.Join(dir, "parts")
	if err := os.Mkdir(parts, 0o700); err != nil {
		return err
	}
	files, err := export.Out(ctx, mix.New(s, 64<<20), &song, export.Order{What: goes, Form: as, Names: *names}, parts, nil, func(float64) {})
	if err != nil {
		return fmt.Errorf("%s: %w", *name, err)
	}
	if err := os.MkdirAll(*to, 0o755); err != nil {
		return err
	}
	r := printed{Song: song.Name}
	for _, f := range files {
		if err := writeOut(ctx, filepath.Join(*to, f.Name), f); err != nil {
			return err
		}
		r.Files = append(r.Files, f.Name)
	}
	return writeJSON(out, r)
}
