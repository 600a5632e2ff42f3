package export

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"math"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"

	"mellowthump/core/archive"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/figure"
	"mellowthump/core/group"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Going is what can go out of a song in one job.
type Going struct{ Key, Label string }

// Goings are all of it, in the order in which it is written.
var Goings = []Going{
	{
		"premaster",
		"premaster, 32-bit float",
	}, {"copy", "listening copy, 16 bit, dithered"}, {"mix", "mix as the deck plays it"}, {"stems", "stems, aligned"}, {"buses", "buses"}, {"sheet",
		"settings sheet (a page, CSV)"}, {"hits", "hits (MIDI)"}, {"curves", "the duck's curve (CSV) and gain (MIDI)"}, {"archive",
		"archive: the song with its audio, takes, changes"},
}

// Order says what of a song goes out, and how.
type Order struct {
	What  []string // keys of Goings
	Form  string   // of mix, stems and buses: one of Forms or "flac", where no other is named
	Names string   // the pattern of their names, see Named; empty: as is usual
	Extra []File   // what is put beside it

	History *archive.History // goes into the archive
}

// entry is a file that goes out: what is printed at a tap, or what writes itself.
type entry struct {
	File
	tap  *mix.Tap
	form string
	sum  hash.Hash // of all that was written
}

// entries are the files of what is asked, with names that are Safe and differ.
// Long because each kind of file that goes out is listed in its own words.
func entries(ctx context.Context, r *mix.Renderer, song *session.Song, o Order, frames int, open func(sha string) (io.ReadCloser, error)) ([]entry, error) {
	var out []entry
	what, form := o.What, o.Form
	sound := func(tap mix.Tap, usual, form string, n int, name string) {
		f := Print(r, song, tap, frames, usual, form)
		if o.Names != "" {
			f.Name = Safe(Named(o.Names, song, n, name) + path.Ext(f.Name))
		}
		out = append(out, entry{File: f, tap: &tap, form: form})
	}
	for _, g := range Goings {
		if !slices.Contains(what, g.Key) {
			continue
		}
		switch g.Key {
		case "premaster":
			sound(mix.Tap{Premaster: true}, song.Name+" premaster", "wav32", 0, "premaster")
		case "copy":
			sound(mix.Tap{}, song.Name+" listening copy", "wav16", 0, "listening copy")
		case "mix":
			sound(mix.Tap{}, song.Name+" mix", form, 0, "mix")
		case "stems":
			for i := range song.Stems {
				if st := &song.Stems[i]; !st.Mute {
					sound(mix.Tap{Stem: st.ID}, fmt.Sprintf("stem %02d %s", i+1, st.Name), form, i+1, st.Name)
				}
			}
		case "buses":
			for _, b := range song.Buses {
				if !b.Mute {
					sound(mix.Tap{Bus: b.ID}, "bus "+b.Name, form, 0, "bus "+b.Name)
				}
			}
		case "archive":
			if open != nil {
				out = append(
					out,
					entry{
						File: File{
							Name:  Safe(song.Name + " archive.zip"),
							Type:  TypeZip,
							Write: func(ctx context.Context, w io.Writer) error { return archive.Write(ctx, w, song, o.History, open) },
						},
					},
				)
			}
		case "sheet":
			out = append(out, entry{File: Sheet(song)})
		case "hits":
			f, err := Hits(r, song)
			if err == nil {
				out = append(out, entry{File: f})
			} else if !errors.Is(err, ErrNoHits) {
				return nil, err
			}
		case "curves":
			if d, off := song.Duck(); d == nil || off { // a song without a duck has none
				continue
			}
			for _, of := range []func(context.Context, *mix.Renderer, *session.Song) (File, error){Curve, GainMIDI} {
				f, err := of(ctx, r, song)
				if err != nil {
					return nil, err
				}
				out = append(out, entry{File: f})
			}
		}
	}
	for _, f := range o.Extra {
		out = append(out, entry{File: f})
	}
	var files []File
	for _, e := range out {
		files = append(files, e.File)
	}
	for i, f := range Zip("x", files).Parts {
		out[i].Name = f.Name
	}
	return out, nil
}

// Out prints what goes out of a song: all sound in one pass, as long as the longest stem, into files of dir that the caller
// removes; what is returned reads from there, and the last is the list of SHA-256 checksums of all that was written before it.
// open gives the file of a hash for the archive; nil: there is none. report says how far the pass is, 0 to 1.
func Out(
	ctx context.Context,
	r *mix.Renderer,
	song *session.Song,
	o Order,
	dir string,
	open func(sha string) (io.ReadCloser, error),
	report func(done float64),
) ([]File, error) {
	frames, err := r.Length(song)
	if err != nil {
		return nil, err
	}
	all, err := entries(ctx, r, song, o, frames, open)
	if err != nil {
		return nil, err
	}
	if frames == 0 || len(all) == 0 {
		return nil, ErrNoPart
	}
	if err := press(ctx, r, song, all, frames, dir, report); err != nil {
		return nil, err
	}
	var out []File
	for i := range all {
		e := &all[i]
		if write := e.Write; e.sum == nil {
			e.sum = sha256.New()
			e.Write = func(ctx context.Context, w io.Writer) error {
				e.sum.Reset()
				return write(ctx, io.MultiWriter(w, e.sum))
			}
		}
		out = append(out, e.File)
	}
	return append(out, File{Name: "checksums.sha256", Type: "text/plain; charset=utf-8", Write: func(_ context.Context, w io.Writer) error {
		for _, e := range all {
			if _, err := fmt.Fprintf(w, "%s  %s\n", hex.EncodeToString(e.sum.Sum(nil)), e.Name); err != nil {
				return err
			}
		}
		return nil
	}}), nil
}

// press prints all taps in one pass, each into a file of dir, and lets the entries read from there.
// Long because a copy is run, measured and written in one pass.
func press(ctx context.Context, r *mix.Renderer, song *session.Song, all []entry, frames int, dir string, report func(done float64)) (err error) {
	var taps []mix.Tap
	var of []int // entry of each tap
	for i, e := range all {
		if e.tap != nil {
			taps, of = append(taps, *e.tap), append(of, i)
		}
	}
	if len(taps) == 0 {
		return nil
	}
	files, writers := make([]*os.File, len(taps)), make([]*wav.Writer, len(taps))
	defer func() {
		for _, f := range files {
			if f != nil {
				if e := f.Close(); err == nil {
					err = e
				}
			}
		}
	}()
	path := func(i int) string { return filepath.Join(dir, fmt.Sprintf("%03d.wav", i)) }
	at := 0
	err = r.Print(ctx, song, taps, mix.Window{To: frames}, func(blocks []audio.Buffer) error {
		var g group.Group
		g.SetLimit(runtime.GOMAXPROCS(0))
		for k, b := range blocks {
			g.Go(func() (err error) {
				if e := &all[of[k]]; files[k] == nil {
					if files[k], err = os.Create(path(of[k])); err != nil {
						return err
					}
					var w io.Writer = files[k]
					if e.form != "flac" { // as it is written, it goes out
						e.sum = sha256.New()
						w = io.MultiWriter(w, e.sum)
					}
					if writers[k], err = wav.NewWriter(w, song.Rate, len(b.Ch), frames, depthOf(e.form)); err != nil {
						return err
					}
				}
				return writers[k].Write(b)
			})
		}
		if err := g.Wait(); err != nil {
			return err
		}
		at += blocks[0].Frames()
		report(float64(at) / float64(frames))
		return nil
	})
	for k := range writers {
		if err == nil && writers[k] != nil {
			err = writers[k].Close()
		}
	}
	if err != nil {
		return err
	}
	for _, i := range of {
		e := &all[i]
		e.Write = func(ctx context.Context, w io.Writer) error { return pressed(ctx, path(i), e.form == "flac", w) }
	}
	return nil
}

// depthOf is the depth of a form; what becomes FLAC is 24 bits.
func depthOf(form string) wav.Depth {
	if d, ok := Forms[form]; ok {
		return d
	}
	return wav.Int24
}

// pressed writes a file that was printed, as it is or packed.
func pressed(ctx context.Context, path string, pack bool, w io.Writer) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if !pack {
		_, err = io.Copy(w, f)
		return err
	}
	st, err := f.Stat()
	if err != nil {
		return err
	}
	src, err := wav.NewReader(f, st.Size())
	if err != nil {
		return err
	}
	b, err := audio.ReadAll(src)
	if err != nil {
		return err
	}
	return packedTo(ctx, b, w)
}

// Sheet is Rows as CSV.
func Sheet(song *session.Song) File {
	return CSV(song.Name+" settings.csv", ',', append([][]string{{"place", "what", "value", "unit", "words", "why"}}, Rows(song)...))
}

// words says a move so that it can be set elsewhere: of a drawn duck its points too.
func words(p move.Params) string {
	out := move.Words(p)
	d, is := p.(*move.Duck)
	if !is || d.Keyed() {
		return out
	}
	var points []string
	for _, p := range d.Points {
		at := figure.Signed(math.Round(10*p.MS)/10, -1) + " ms"
		if p.Note != "" {
			at = p.Note
		}
		points = append(points, at+" "+figure.Signed(p.DB, 1)+" dB")
	}
	return out + ": " + strings.Join(points, ", ") + " after the hit"
}

// Rows are all that a song does, a row each of place, what, value, unit, words and why: the gains of every stem, bus and the master,
// and every move that is on, in general terms.
func Rows(song *session.Song) [][]string {
	var rows [][]string
	gain := func(place, what string, v float64, unit string) {
		if v != 0 {
			rows = append(rows, []string{place, what, figure.Signed(v, -1), unit, "", ""})
		}
	}
	chain := func(place string, moves move.Chain) {
		for _, m := range moves.Active() {
			rows = append(rows, []string{place, strings.ToLower(m.Params.Kind().Label), "", "", words(m.Params), m.Why})
		}
	}
	for i := range song.Stems {
		st := &song.Stems[i]
		if b := song.Bus(st.Bus); b != nil {
			rows = append(rows, []string{st.Name, "bus", b.Name, "", "", ""})
		}
		if st.Mute {
			rows = append(rows, []string{st.Name, "muted", "", "", "", ""})
		}
		gain(st.Name, "source", st.Source, "dB")
		gain(st.Name, "clip", st.Clip, "dB")
		chain(st.Name, st.Moves)
		gain(st.Name, "track", st.Fader, "dB")
		gain(st.Name, "pan", 100*st.Pan, "%")
		gain(st.Name, "width", 100*st.Width, "%")
	}
	for i := range song.Buses {
		b := &song.Buses[i]
		chain("bus "+b.Name, b.Moves)
		gain("bus "+b.Name, "fader", b.Fader, "dB")
	}
	chain("master", song.Master.Moves)
	gain("master", "fader", song.Master.Fader, "dB")
	return rows
}
