package main

import (
	"context"
	"errors"
	"fmt"
	"io"

	"mellowthump/core/compare"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

// compared is what the command prints.
type compared struct {
	Loudness meter.Figure   `json:"loudness_off_lu"`
	Tilt     meter.Figure   `json:"tilt_off_db_oct"`
	Bands    []compare.Band `json:"bands"`
	Match    []*move.Filter `json:"match"`
	Residual float64        `json:"residual_db"`
}

// compareFile sets a file against references: their mean, where there are several.
func compareFile(ctx context.Context, args []string, out io.Writer) error {
	f := flags("compare")
	var refs names
	f.Var(&refs, "reference", "")
	file, err := oneFile(f, args, "compared")
	if err != nil {
		return err
	}
	if file == "" || len(refs) == 0 {
		return errUsage{errors.New("compare: name the file, and at least one --reference")}
	}
	song, err := soundOfFile(ctx, file)
	if err != nil {
		return err
	}
	var all []compare.Sound
	for _, name := range refs {
		s, err := soundOfFile(ctx, name)
		if err != nil {
			return err
		}
		all = append(all, s)
	}
	c := compare.Against(song, all...)
	r := compared{Loudness: c.Loudness, Tilt: c.Tilt, Bands: c.Bands, Match: []*move.Filter{}}
	filters, residual := c.Match(compare.Amount, compare.Limit)
	r.Match, r.Residual = append(r.Match, filters...), residual
	return writeJSON(out, r)
}

func soundOfFile(ctx context.Context, name string) (compare.Sound, error) {
	src, file, err := openSound(ctx, name)
	if err != nil {
		return compare.Sound{}, err
	}
	defer file.Close()
	s, err := compare.OfSource(ctx, src)
	if err != nil {
		return s, fmt.Errorf("%s: %w", name, err)
	}
	return s, nil
}
