// Package export makes the files that go out, for the web and the command alike.
package export

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"mellowthump/core/audio"
	"mellowthump/core/audio/flac"
	"mellowthump/core/audio/wav"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// File is something that goes out: a name fit for any file system, a media type, and what writes it. What is written
// before an error is worth nothing.
type File struct {
	Name, Type string
	Write      func(ctx context.Context, w io.Writer) error

	Held  *session.Held // of a stem's sound: what of its chain is in it
	Parts []File        // of an archive: what it holds, by the names in it
}

// The media types that are written.
const (
	TypeCSV  = "text/csv; charset=utf-8"
	TypeText = "text/plain; charset=utf-8"
	TypeMIDI = "audio/midi"
	TypeWAV  = "audio/wav"
	TypeFLAC = "audio/flac"
	TypeZip  = "application/zip"
)

// longestName is the most bytes of a file's name; systems take 255.
const longestName = 200

// Safe makes a name fit for a file on any system.
func Safe(name string) string {
	safe := strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|`, r) || !unicode.IsGraphic(r) {
			return '-'
		}
		return r
	}, strings.ToValidUTF8(name, "-"))
	if len(safe) > longestName { // its end tells what it is
		end := path.Ext(safe)
		if len(end) > longestName/4 {
			end = ""
		}
		safe = strings.ToValidUTF8(safe[:longestName-len(end)], "") + end
	}
	if safe = strings.Trim(safe, ". "); safe == "" {
		return "-"
	}
	return safe
}

// Text is a text file.
func Text(name, text string) File {
	return File{Name: Safe(name), Type: TypeText, Write: func(_ context.Context, w io.Writer) error {
		_, err := io.WriteString(w, text)
		return err
	}}
}

// CSV is a table; separator is a comma, or a tab to be pasted into a sheet. A word that a sheet would take for a formula
// (it begins with =, +, -, @, a tab or a line's end, and is no number) gets an apostrophe in front.
func CSV(name string, separator rune, rows [][]string) File {
	return File{Name: Safe(name), Type: TypeCSV, Write: func(_ context.Context, w io.Writer) error {
		out := csv.NewWriter(w)
		out.Comma = separator
		for _, row := range rows {
			plain := make([]string, len(row))
			for i, cell := range row {
				plain[i] = unformula(cell)
			}
			if err := out.Write(plain); err != nil {
				return err
			}
		}
		out.Flush()
		return out.Error()
	}}
}

func unformula(cell string) string {
	if cell == "" || !strings.ContainsRune("=+-@\t\r\n", rune(cell[0])) {
		return cell
	}
	if _, err := strconv.ParseFloat(cell, 64); err == nil {
		return cell
	}
	return "'" + cell
}

// Sound is a buffer as a WAV.
func Sound(name string, b audio.Buffer, depth wav.Depth) File {
	return File{Name: Safe(name), Type: TypeWAV, Write: func(_ context.Context, w io.Writer) error { return wav.Write(w, b, depth) }}
}

// SoundOf is a mono sound of any length, of that rate in Hz, as a WAV.
func SoundOf(name string, s meter.Sound, rate int, depth wav.Depth) File {
	return File{Name: Safe(name), Type: TypeWAV, Write: func(_ context.Context, w io.Writer) error {
		out, err := wav.NewWriter(w, rate, 1, s.Frames(), depth)
		if err == nil {
			err = s.Read(func(x []float32) error { return out.Write(audio.Buffer{Rate: rate, Ch: [][]float32{x}}) })
		}
		if err == nil {
			err = out.Close()
		}
		return err
	}}
}

// Notes are notes as a MIDI file.
func Notes(name string, notes []midi.Note, bpm float64) File {
	return File{Name: Safe(name), Type: TypeMIDI, Write: func(_ context.Context, w io.Writer) error { return midi.Write(w, notes, bpm) }}
}

// Control is a gain as a MIDI controller.
func Control(name string, values []midi.Value, bpm float64) File {
	return File{Name: Safe(name), Type: TypeMIDI, Write: func(_ context.Context, w io.Writer) error { return midi.WriteControl(w, values, bpm) }}
}

// Zip is files in one archive, in order; of two with one name the later gets a number. Sound is stored as it is, the rest
// packed.
func Zip(name string, files []File) File {
	files = slices.Clone(files)
	taken := map[string]bool{}
	for i := range files {
		f := &files[i]
		end := path.Ext(f.Name)
		plain := strings.TrimSuffix(f.Name, end)
		for n := 2; taken[strings.ToLower(f.Name)]; n++ {
			f.Name = fmt.Sprintf("%s %d%s", plain, n, end)
		}
		taken[strings.ToLower(f.Name)] = true
	}
	return File{Name: Safe(name), Type: TypeZip, Parts: files, Write: func(ctx context.Context, w io.Writer) error {
		z := zip.NewWriter(w)
		for _, f := range files {
			h := &zip.FileHeader{Name: f.Name, Method: zip.Deflate, Modified: time.Now()}
			if f.Type == TypeWAV || f.Type == TypeFLAC || f.Type == TypeZip {
				h.Method = zip.Store
			}
			out, err := z.CreateHeader(h)
			if err != nil {
				return err
			}
			if err := f.Write(ctx, out); err != nil {
				return fmt.Errorf("writing %s: %w", f.Name, err)
			}
		}
		return z.Close()
	}}
}

// Bytes writes a file into memory.
func (f File) Bytes(ctx context.Context) ([]byte, error) {
	var b bytes.Buffer
	err := f.Write(ctx, &b)
	return b.Bytes(), err
}

// Forms are the sound files that a tap is printed as.
var Forms = map[string]wav.Depth{"": wav.Int24, "wav16": wav.Int16, "wav32": wav.Float32}

// formName tells files of different forms apart.
var formName = map[string]string{"wav16": " 16 bit", "wav32": " float"}

// What a stem's file may hold of its chain: moves and gains, the moves alone, or nothing.
const (
	WithAll    = ""
	WithMoves  = "moves"
	WithSource = "source"
)

// Stem is a stem over its whole length, as a file that says what it holds.
func Stem(r *mix.Renderer, song *session.Song, st *session.Stem, with, form string) (File, error) {
	n, err := r.StemLength(song, st)
	if err != nil {
		return File{}, err
	}
	held := &session.Held{Stem: st.ID, Gains: with == WithAll}
	name := st.Name
	plain := *song
	plain.Stems = slices.Clone(song.Stems)
	it := plain.Stem(st.ID)
	if with == WithSource {
		it.Moves = nil
		name += " source"
	} else {
		as := " changed"
		for _, m := range st.Moves {
			if _, duck := m.Params.(*move.Duck); !m.Off {
				held.Moves = append(held.Moves, m.ID)
				if duck {
					as = " ducked"
				}
			}
		}
		name += as
	}
	if with != WithAll {
		it.Source, it.Clip, it.Fader, it.Pan, it.Width = 0, 0, 0, 0, 0
	}
	if with == WithMoves {
		name += " moves only"
	}
	f := Print(r, &plain, mix.Tap{Stem: st.ID}, n, name, form)
	f.Held = held
	return f, nil
}

// Print is what a tap of a song sounds like over its first frames, as a WAV in one pass, in memory that does not grow
// with it; "flac" is packed at the end.
func Print(r *mix.Renderer, song *session.Song, tap mix.Tap, frames int, name, form string) File {
	if form == "flac" {
		return File{Name: Safe(name + ".flac"), Type: TypeFLAC, Write: func(ctx context.Context, w io.Writer) error { return packed(ctx, r, song, tap, frames, w) }}
	}
	depth, ok := Forms[form]
	if !ok {
		depth = wav.Int24
	}
	return File{Name: Safe(name + formName[form] + ".wav"), Type: TypeWAV, Write: func(ctx context.Context, w io.Writer) error {
		var out *wav.Writer
		err := r.Print(ctx, song, []mix.Tap{tap}, mix.Window{To: frames}, func(b []audio.Buffer) (err error) {
			if out == nil {
				if out, err = wav.NewWriter(w, song.Rate, len(b[0].Ch), frames, depth); err != nil {
					return err
				}
			}
			return out.Write(b[0])
		})
		if err == nil && out != nil {
			err = out.Close()
		}
		return err
	}}
}

// packed writes FLAC, whose head is written last.
func packed(ctx context.Context, r *mix.Renderer, song *session.Song, tap mix.Tap, frames int, w io.Writer) error {
	var all audio.Buffer
	err := r.Print(ctx, song, []mix.Tap{tap}, mix.Window{To: frames}, func(b []audio.Buffer) error {
		if all.Ch == nil {
			all = audio.New(song.Rate, len(b[0].Ch), 0)
		}
		for c, ch := range b[0].Ch {
			all.Ch[c] = append(all.Ch[c], ch...)
		}
		return nil
	})
	if err != nil {
		return err
	}
	return packedTo(ctx, all, w)
}

// packedTo writes a sound as FLAC of 24 bits.
func packedTo(ctx context.Context, all audio.Buffer, w io.Writer) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	f, err := os.CreateTemp("", "mellowthump-*.flac")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := flac.Write(f, all, 24); err != nil {
		return err
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	_, err = io.Copy(w, f)
	return err
}
