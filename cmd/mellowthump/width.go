package main

import (
	"context"
	"errors"
	"fmt"
	"io"

	"mellowthump/core/audio"
	"mellowthump/core/width"
)

// fileWidth is what the command prints of a file.
type fileWidth struct {
	File string `json:"file"`
	width.Figures
	Corner *float64 `json:"side_cut_hz"` // null: it is safe as it is, or no corner makes it
}

// widthOf prints how files stand between their channels. A file that cannot be read ends it, with nothing printed.
func widthOf(ctx context.Context, args []string, out io.Writer) error {
	f := flags("width")
	if err := parse(f, args); err != nil {
		return err
	}
	if f.NArg() == 0 {
		return errUsage{errors.New("width: name at least one file")}
	}
	all := make([]fileWidth, 0, f.NArg())
	for _, name := range f.Args() {
		w, err := widthOfFile(ctx, name)
		if err != nil {
			return err
		}
		all = append(all, w)
	}
	return writeJSON(out, all)
}

func widthOfFile(ctx context.Context, name string) (fileWidth, error) {
	src, file, err := openSound(ctx, name)
	if err != nil {
		return fileWidth{}, err
	}
	defer file.Close()
	if err := src.Format().Check(); err != nil {
		return fileWidth{}, fmt.Errorf("%s: %w", name, err)
	}
	x, err := audio.ReadAll(src)
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return fileWidth{}, fmt.Errorf("%s: %w", name, err)
	}
	out := fileWidth{File: name, Figures: width.Measure(x)}
	if out.Bands == nil {
		out.Bands = []width.Band{}
	}
	if hz, ok := width.Corner(x, 0); ok && hz > 0 {
		out.Corner = &hz
	}
	return out, nil
}
