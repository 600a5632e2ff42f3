package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/body"
	"mellowthump/core/meter"
)

// splitFile takes a file apart into what is struck, what is sustained, and the rest.
func splitFile(ctx context.Context, args []string, out io.Writer) error {
	f := flags("split")
	names := []*string{f.String("struck", "", ""), f.String("sustained", "", ""), f.String("rest", "", "")}
	file, err := oneFile(f, args, "taken apart")
	if err != nil {
		return err
	}
	if file == "" {
		return errUsage{errors.New("split: name the file to take apart")}
	}
	var paths []string
	for i, n := range names {
		if *n == "" {
			return errUsage{fmt.Errorf("split: say where each part goes: --%s is missing", []string{"struck", "sustained", "rest"}[i])}
		}
		full, err := filepath.Abs(*n)
		if err != nil {
			return err
		}
		if slices.Contains(paths, full) || sameFile(full, file) {
			return errUsage{fmt.Errorf("split: %s would be written over", *n)}
		}
		paths = append(paths, full)
	}
	src, opened, err := openSound(ctx, file)
	if err != nil {
		return err
	}
	defer opened.Close()
	loud, err := splitTo(ctx, src, paths)
	if err != nil {
		return err
	}
	return writeJSON(out, loud)
}

func sameFile(a, b string) bool {
	x, err1 := os.Stat(a)
	y, err2 := os.Stat(b)
	return err1 == nil && err2 == nil && os.SameFile(x, y)
}

// splitLoudness is what the command prints, LUFS.
type splitLoudness struct {
	Struck    meter.Figure `json:"struck_lufs"`
	Sustained meter.Figure `json:"sustained_lufs"`
	Rest      meter.Figure `json:"rest_lufs"`
}

// splitTo writes the parts as 32-bit float; where it fails nothing half written is left under their names.
func splitTo(ctx context.Context, src audio.Source, paths []string) (loud splitLoudness, err error) {
	is := src.Format()
	var files []*os.File
	var parts []*wav.Writer
	var meters []*meter.Loudness
	defer func() {
		for _, f := range files {
			f.Close()
			if err != nil {
				os.Remove(f.Name())
			}
		}
	}()
	for _, p := range paths {
		f, err := os.CreateTemp(filepath.Dir(p), ".split-*.wav")
		if err != nil {
			return loud, err
		}
		files = append(files, f)
		w, err := wav.NewWriter(f, is.Rate, is.Channels, int(is.Frames), wav.Float32)
		if err != nil {
			return loud, err
		}
		parts, meters = append(parts, w), append(meters, meter.NewLoudness(is.Rate, is.Channels))
	}
	err = body.Split(ctx, src, nil, func(a body.Apart) error {
		for i, x := range []audio.Buffer{a.Struck, a.Sustained, a.Rest} {
			if err := parts[i].Write(x); err != nil {
				return err
			}
			meters[i].Add(x)
		}
		return nil
	})
	for i := range parts {
		if err == nil {
			err = parts[i].Close()
		}
		if err == nil {
			err = files[i].Chmod(0o644)
		}
		if err == nil {
			err = files[i].Close()
		}
	}
	for i, p := range paths {
		if err == nil {
			err = os.Rename(files[i].Name(), p)
		}
	}
	return splitLoudness{meters[0].Integrated(), meters[1].Integrated(), meters[2].Integrated()}, err
}
