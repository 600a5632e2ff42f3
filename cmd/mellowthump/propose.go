package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"mellowthump/app/store"
	"mellowthump/app/unpack"
	"mellowthump/core/archive"
	"mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/pair"
	"mellowthump/core/runsheet"
	"mellowthump/core/session"
)

// proposal is a row of the run sheet, as the command prints it: figures by their keys.
type proposal struct {
	Stage   string                  `json:"stage"`
	Finding string                  `json:"finding"`
	Move    string                  `json:"move"` // what is done, or to be done by hand
	Why     string                  `json:"why"`
	Before  map[string]meter.Figure `json:"before"`
	After   map[string]meter.Figure `json:"after"`
	Cost    map[string]meter.Figure `json:"cost"` // other figures that move, after it
	Made    bool                    `json:"made"` // it is in the archive
	Doubt   string                  `json:"doubt,omitempty"`
	Also    []string                `json:"also,omitempty"` // findings that it deals with besides
}

// soundFiles are the kinds of file that are taken as stems.
var soundFiles = []string{".wav", ".wave", ".aif", ".aiff", ".aifc", ".flac", ".mp3", ".ogg"}

// propose makes the run sheet of a folder of stems, unattended.
// Long because each flag that makes no sense is refused in its own sentence.
func propose(ctx context.Context, args []string, out io.Writer) error {
	f := flags("propose")
	dir := f.String("stems", "", "")
	bpm := f.Float64("bpm", 0, "")
	to := f.String("out", "", "")
	aim := f.String("aim", "apart", "")
	if err := parse(f, args); err != nil {
		return err
	}
	asked, known := session.AimNamed(*aim)
	switch {
	case f.NArg() > 0:
		return errUsage{fmt.Errorf("propose: what is %q? The folder is named by --stems", f.Arg(0))}
	case *dir == "":
		return errUsage{errors.New("propose: name the folder of the stems with --stems")}
	case *bpm != 0 && !(*bpm >= session.MinBPM && *bpm <= session.MaxBPM):
		return errUsage{fmt.Errorf("propose: --bpm %g is outside %g to %g", *bpm, session.MinBPM, session.MaxBPM)}
	case !known:
		return errUsage{fmt.Errorf("propose: %q is no aim; apart, clear and heard are known", *aim)}
	}
	st, _, done, err := scratch(ctx)
	if err != nil {
		return err
	}
	defer done()
	song, facts, err := broughtFrom(ctx, st, *dir, *bpm)
	if err != nil {
		return err
	}
	song.Targets.Aim = asked
	r := mix.New(st, 256<<20)
	sheet, err := runsheet.Make(ctx, r, song, facts, runsheet.Choice{}, nil)
	if err != nil {
		return err
	}
	all := []proposal{}
	for _, row := range sheet.Rows {
		p := proposal{Stage: row.Stage, Finding: row.What(), Move: row.Do, Why: row.Why(), Made: row.Kept, Doubt: row.Doubt,
			Before: map[string]meter.Figure{}, After: map[string]meter.Figure{}, Cost: map[string]meter.Figure{}}
		for _, c := range row.Own {
			p.Before[c.Key], p.After[c.Key] = c.Before, c.After
		}
		for _, c := range row.Other {
			p.Before[c.Key], p.Cost[c.Key] = c.Before, c.After
		}
		for _, f := range row.Found[1:] {
			p.Also = append(p.Also, f.What)
		}
		if row.Kept {
			if _, err := row.Named().Apply(song); err != nil {
				return fmt.Errorf("%s: %w", row.Do, err)
			}
		}
		all = append(all, p)
	}
	if *to != "" {
		if err := song.Validate(); err != nil {
			return err
		}
		if err := writeFile(*to, func(w io.Writer) error {
			return archive.Write(ctx, w, song, nil, func(sha string) (io.ReadCloser, error) { return st.OpenRaw(sha) })
		}); err != nil {
			return err
		}
	}
	return writeJSON(out, all)
}

// broughtFrom is a song of the audio files of a folder, in the order of their names, as Intake would take them in: roles by
// name and sound, the tempo from the hits where none is said.
// Long because a folder becomes a song step by step: files, roles, tempo.
func broughtFrom(ctx context.Context, st *store.Store, dir string, bpm float64) (*session.Song, map[string]*facts.Analysis, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, nil, err
	}
	var names []string
	for _, e := range entries {
		if !e.IsDir() && slices.Contains(soundFiles, strings.ToLower(filepath.Ext(e.Name()))) && !strings.HasPrefix(e.Name(), ".") {
			names = append(names, e.Name())
		}
	}
	if len(names) == 0 {
		return nil, nil, fmt.Errorf("%s: there is no audio file in it", dir)
	}
	if len(names) > session.MaxStems {
		return nil, nil, fmt.Errorf("%s: %d audio files; a song holds at most %d stems", dir, len(names), session.MaxStems)
	}
	type file struct {
		sha   string
		known *facts.Analysis
	}
	files := make([]file, len(names))
	g, inner := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, name := range names {
		g.Go(func() (err error) {
			if files[i].sha, files[i].known, err = unpack.File(inner, st, filepath.Join(dir, name)); err != nil {
				err = fmt.Errorf("%s: %w", filepath.Join(dir, name), err)
			}
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, nil, err
	}
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, nil, err
	}
	const plain = 120 // bpm, until the hits propose another
	song := session.New(session.StemName(filepath.Base(abs)), plain)
	if bpm != 0 {
		song.BPM = bpm
	}
	known := map[string]*facts.Analysis{}
	for i, name := range names {
		known[files[i].sha] = files[i].known
		add := session.AddStem{File: name, Audio: files[i].sha, Rate: files[i].known.Rate, Role: files[i].known.Guess(session.StemName(name)).Role}
		if _, err := add.Apply(&song); err != nil {
			return nil, nil, err
		}
	}
	if bpm == 0 {
		for _, p := range pair.Proposals(bench.New(mix.New(st, 1<<20), &song, known), nil) {
			if v, err := strconv.ParseFloat(p.Value, 64); p.Field == "bpm" && err == nil {
				song.BPM = v
			}
		}
	}
	return &song, known, song.Validate()
}
