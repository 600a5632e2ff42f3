package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/export"
	"mellowthump/core/facts"
	"mellowthump/core/field"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/print"
	"mellowthump/core/session"
)

// mastered is what the command prints.
type mastered struct {
	Reached bool          `json:"reached"`
	Before  masterFigures `json:"before"`
	After   masterFigures `json:"after"`
	Drive   float64       `json:"drive_db"`
	Clip    float64       `json:"clip_db"`
	Chain   []string      `json:"chain"`
}

type masterFigures struct {
	Loudness meter.Figure `json:"loudness_lufs"`
	TruePeak meter.Figure `json:"true_peak_dbtp"`
	Crest    meter.Figure `json:"crest_db"`
	Attack   meter.Figure `json:"attack_db"`
	Clipped  meter.Figure `json:"clipped_pct"`
	Most     meter.Figure `json:"reduction_db"`
}

func masterFiguresOf(f print.Figures) masterFigures {
	return masterFigures{f.Loudness, f.TruePeak, f.Crest, f.Attack, f.Clipped, f.Most}
}

// master brings a file to a loudness under a ceiling.
func master(ctx context.Context, args []string, out io.Writer) error {
	f := flags("master")
	common := session.CommonPrint()
	to := f.String("out", "", "")
	lufs := f.Float64("lufs", common.LUFS, "")
	ceiling := f.Float64("ceiling", common.Ceiling, "")
	school := f.String("school", "clip", "")
	form := f.String("form", "24", "")
	file, err := oneFile(f, args, "mastered")
	if err != nil {
		return err
	}
	asked := session.Print{School: *school, LUFS: *lufs, Ceiling: *ceiling}
	depth, known := map[string]wav.Depth{"16": wav.Int16, "24": wav.Int24, "32f": wav.Float32}[*form]
	switch err := field.All(asked.Fields()); {
	case file == "" || *to == "":
		return errUsage{errors.New("master: name the file, and where it goes with --out")}
	case err != nil:
		return errUsage{fmt.Errorf("master: %w", err)}
	case !known:
		return errUsage{fmt.Errorf("master: %q is no form; 16, 24 and 32f are known", *form)}
	case sameFile(*to, file):
		return errUsage{fmt.Errorf("master: %s would be written over", *to)}
	}
	src, opened, err := openSound(ctx, file)
	if err != nil {
		return err
	}
	defer opened.Close()
	a, err := facts.Analyse(ctx, src, filepath.Base(file), nil)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	x, err := audio.ReadAll(src)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	var hits []int
	for _, at := range a.Onsets {
		hits = append(hits, int(at*float64(x.Rate)))
	}
	s, r, err := print.Whole(ctx, x, hits, asked)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	if err := writeOut(ctx, *to, export.Sound("master", r.Sound, depth)); err != nil {
		return err
	}
	result := mastered{Reached: s.Reached, Before: masterFiguresOf(s.Before), After: masterFiguresOf(s.After), Drive: s.Drive, Clip: s.Clip, Chain: []string{}}
	for _, m := range s.Chain {
		result.Chain = append(result.Chain, move.Words(m.Params))
	}
	return writeJSON(out, result)
}
