package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"time"

	"mellowthump/app/decode"
	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/audio/wav"
	"mellowthump/core/duck"
	"mellowthump/core/export"
	"mellowthump/core/facts"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// openSound opens a file to be read as sound; the error names it. What is no WAV is decoded first, in a child whose
// memory and time are bounded, to a file that is gone when it is closed.
func openSound(ctx context.Context, name string) (audio.Source, *os.File, error) {
	st, err := os.Stat(name) // before it is opened: a pipe would be waited for
	switch {
	case err != nil:
		return nil, nil, err
	case st.IsDir():
		return nil, nil, fmt.Errorf("%s: it is a folder", name)
	case !st.Mode().IsRegular():
		return nil, nil, fmt.Errorf("%s: it is a pipe or a device; name a file", name)
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, nil, err
	}
	var r audio.Source
	if err == nil && wav.Is(f) {
		r, err = codec.Open(f, st.Size())
	} else if err == nil {
		foreign := f
		r, f, err = decoded(ctx, foreign)
		foreign.Close()
	}
	if err != nil {
		if f != nil {
			f.Close()
		}
		return nil, nil, fmt.Errorf("%s: %w", name, err)
	}
	return r, f, nil
}

// foreign is what was decoded of a file, with the format that the file has.
type foreign struct {
	audio.Source
	is audio.Format
}

// Format is that of the file.
func (f foreign) Format() audio.Format { return f.is }

// decoded decodes a file to one without a name.
func decoded(ctx context.Context, from *os.File) (audio.Source, *os.File, error) {
	to, err := os.CreateTemp("", "mellowthump-*.wav")
	if err != nil {
		return nil, nil, err
	}
	os.Remove(to.Name())
	is, err := decode.WAV(ctx, from, func(r io.Reader) error {
		_, err := io.Copy(to, r)
		return err
	})
	if err != nil {
		return nil, to, err
	}
	st, err := to.Stat()
	if err != nil {
		return nil, to, err
	}
	src, err := codec.Open(to, st.Size())
	if err != nil {
		return nil, to, err
	}
	return foreign{src, is}, to, nil
}

// oneFile reads the arguments of a command that works on one file, which may stand before its flags; empty where none is
// named. done says what is done to it.
func oneFile(f *flag.FlagSet, args []string, done string) (file string, err error) {
	if len(args) > 0 && args[0] != "" && args[0][0] != '-' {
		file, args = args[0], args[1:]
	}
	if err := parse(f, args); err != nil {
		return "", err
	}
	if file == "" && f.NArg() == 1 {
		return f.Arg(0), nil
	}
	if f.NArg() > 0 {
		return "", errUsage{fmt.Errorf("%s: what is %q? One file is %s", f.Name(), f.Arg(0), done)}
	}
	return file, nil
}

func writeJSON(out io.Writer, v any) error {
	e := json.NewEncoder(out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// measure prints the figures of files. A file that cannot be read ends it, with nothing
// printed: half an array is no JSON.
func measure(ctx context.Context, args []string, out io.Writer) error {
	f := flags("measure")
	if err := parse(f, args); err != nil {
		return err
	}
	if f.NArg() == 0 {
		return errUsage{errors.New("measure: name at least one file")}
	}
	all := make([]measured, 0, f.NArg())
	for _, name := range f.Args() {
		known, err := measureFile(ctx, name)
		if err != nil {
			return err
		}
		all = append(all, known)
	}
	return writeJSON(out, all)
}

// measured is what the command says of a file.
type measured struct {
	facts.Facts
	Role       session.Role `json:"role"`
	Confidence float64      `json:"role_confidence"` // 0 to 1
	Reason     string       `json:"role_reason"`
	Doubt      string       `json:"role_doubt,omitempty"`
	Kick       *kickPitch   `json:"kick"` // of what strikes low; null else
}

// kickPitch is a kick's pitch; where it falls until it is gone, it has not settled, and this is where it is loudest.
type kickPitch struct {
	*meter.Pitch
	Settled bool `json:"settled"`
}

func measureFile(ctx context.Context, name string) (measured, error) {
	r, file, err := openSound(ctx, name)
	if err != nil {
		return measured{}, err
	}
	defer file.Close()
	a, err := facts.Analyse(ctx, r, name, nil)
	if err == nil {
		err = facts.Portray(ctx, r, a)
	}
	if err != nil {
		return measured{}, fmt.Errorf("%s: %w", name, err)
	}
	g := a.Guess(session.StemName(name))
	out := measured{Facts: a.Facts, Role: g.Role, Confidence: math.Round(100*g.Confidence) / 100, Reason: g.Reason, Doubt: g.Doubt}
	if a.Kick != nil && (g.Role == session.Kick || g.Role == session.Drums) {
		out.Kick = &kickPitch{a.Kick, a.Kick.Settled}
	}
	return out, nil
}

// clearPair fits a duck to two aligned stems and prints before, duck and after.
// Long because it is one command: its flags, their bounds, what it writes.
func clearPair(ctx context.Context, args []string, out io.Writer) error {
	f := flags("clear")
	kick := f.String("kick", "", "")
	bass := f.String("bass", "", "")
	bpm := f.Float64("bpm", 0, "")
	leader := f.String("leader", string(session.KickLeads), "")
	school := f.String("school", "curve", "")
	targets := session.DefaultTargets()
	f.Float64Var(&targets.Clearance, "target", targets.Clearance, "")
	f.Float64Var(&targets.MaxDepth, "max-depth", targets.MaxDepth, "")
	f.BoolVar(&targets.NoAhead, "no-lookahead", false, "")
	outFile := f.String("out", "", "")
	curve := f.String("curve", "", "")
	midiFile := f.String("midi", "", "")
	if err := parse(f, args); err != nil {
		return err
	}
	switch {
	case f.NArg() > 0:
		return errUsage{fmt.Errorf("clear: what is %q? Files are named by --kick and --bass", f.Arg(0))}
	case *kick == "" || *bass == "":
		return errUsage{errors.New("clear: name both --kick and --bass")}
	case *leader != string(session.KickLeads) && *leader != string(session.BassLeads):
		return errUsage{fmt.Errorf("clear: --leader %s is neither kick nor bass", *leader)}
	case *school != move.CurveSchool && *school != move.CompressorSchool && *school != move.BandSchool:
		return errUsage{fmt.Errorf("clear: --school %s is none of curve, compressor and band", *school)}
	case *leader == string(session.BassLeads) && *school != move.CurveSchool:
		return errUsage{fmt.Errorf("clear: %w", duck.ErrLeadSchool)}
	case !(targets.Clearance >= 0 && targets.Clearance <= 40):
		return errUsage{fmt.Errorf("clear: --target %g is outside 0 to 40 dB", targets.Clearance)}
	case !(targets.MaxDepth >= 0 && targets.MaxDepth <= 60):
		return errUsage{fmt.Errorf("clear: --max-depth %g is outside 0 to 60 dB", targets.MaxDepth)}
	case *bpm != 0 && !(*bpm >= session.MinBPM && *bpm <= session.MaxBPM):
		return errUsage{fmt.Errorf("clear: --bpm %g is outside %g to %g", *bpm, session.MinBPM, session.MaxBPM)}
	}
	k, kf, err := openSound(ctx, *kick)
	if err != nil {
		return err
	}
	defer kf.Close()
	b, bf, err := openSound(ctx, *bass)
	if err != nil {
		return err
	}
	defer bf.Close()
	c, err := duck.Clear(ctx, k, b, duck.Options{BPM: *bpm, School: *school, Leader: session.Leader(*leader), Targets: targets})
	if err != nil {
		return err
	}
	if *outFile != "" {
		depth := wav.Int24
		if p := meter.PeakDB(c.Ducked.Ch...); p.Valid() && p > 0 { // whole numbers would clip it
			depth = wav.Float32
			c.Notes = append(c.Notes, fmt.Sprintf("%s is written as 32-bit float: its peak is %+.2f dBFS, which 24 bits would clip", *outFile, float64(p)))
		}
		if err := writeOut(ctx, *outFile, export.Sound("ducked", c.Ducked, depth)); err != nil {
			return err
		}
	}
	if *curve != "" {
		rows, err := curveOf(c)
		if err == nil {
			err = writeOut(ctx, *curve, export.CurveFile("curve", rows))
		}
		if err != nil {
			return err
		}
	}
	if *midiFile != "" {
		at := *bpm
		if at == 0 {
			at = 120 // the times are right at any tempo; the file says which it is written in
		}
		values := []midi.Value{{At: 0, Part: 1}}
		if c.Gain != nil {
			values = duck.Control(c.Gain, c.Ducked.Rate)
		}
		if err := writeOut(ctx, *midiFile, export.Control("gain", values, at)); err != nil {
			return err
		}
	}
	return writeJSON(out, c)
}

// curveOf is the curve that a clearing came to, of a keyed one the median over the hits.
func curveOf(c *duck.Cleared) ([]duck.CurveRow, error) {
	switch {
	case c.Move == nil: // no duck: no change
		return []duck.CurveRow{{}}, nil
	case c.Move.Keyed():
		return duck.MedianCurve(c.Gain, c.Hits, c.Ducked.Rate), nil
	}
	return duck.Curve(c.Move, session.MaxBPM) // the fit's points are in ms
}

// writeOut writes what goes out under a name.
func writeOut(ctx context.Context, name string, f export.File) error {
	return writeFile(name, func(w io.Writer) error { return f.Write(ctx, w) })
}

// writeFile writes a file whole or not at all. A link stays one: what it points at is written. What is no regular file,
// a pipe or a device, is written through and never replaced; a folder is refused.
func writeFile(name string, write func(io.Writer) error) (err error) {
	if at, err := filepath.EvalSymlinks(name); err == nil {
		name = at
	}
	switch st, err := os.Stat(name); {
	case err != nil && !errors.Is(err, os.ErrNotExist):
		return fmt.Errorf("writing %s: %w", name, err)
	case err == nil && st.IsDir():
		return fmt.Errorf("writing %s: it is a folder; name a file", name)
	case err == nil && !st.Mode().IsRegular():
		f, err := os.OpenFile(name, os.O_WRONLY, 0)
		if err == nil {
			err = errors.Join(write(f), f.Close())
		}
		if err != nil {
			return fmt.Errorf("writing %s: %w", name, err)
		}
		return nil
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".mellowthump-*")
	if err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	defer func() {
		if err != nil {
			f.Close()
			os.Remove(f.Name())
		}
	}()
	if err = write(f); err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	if err = f.Chmod(0o644); err != nil {
		return err
	}
	if err = f.Close(); err != nil {
		return fmt.Errorf("writing %s: %w", name, err)
	}
	return os.Rename(f.Name(), name)
}

// scratchName is that of the folders of commands.
const scratchName = "mellowthump-work-*"

// sweepScratch removes the folders of commands that were killed: nobody holds them any more.
func sweepScratch() {
	left, err := filepath.Glob(filepath.Join(os.TempDir(), scratchName))
	if err != nil {
		return
	}
	for _, dir := range left {
		if st, err := os.Lstat(dir); err == nil && st.IsDir() && time.Since(st.ModTime()) > scratchYoung && !store.InUse(dir) {
			os.RemoveAll(dir)
		}
	}
}

// scratchYoung is how long a folder may be there before its command holds it.
const scratchYoung = time.Minute

// scratch is a data folder for as long as a command runs; done takes it away.
func scratch(ctx context.Context) (s *store.Store, dir string, done func(), err error) {
	sweepScratch()
	if dir, err = os.MkdirTemp("", scratchName); err != nil {
		return nil, "", nil, err
	}
	if s, err = store.Open(ctx, dir); err != nil {
		os.RemoveAll(dir)
		return nil, "", nil, err
	}
	return s, dir, func() { s.Close(); os.RemoveAll(dir) }, nil
}
