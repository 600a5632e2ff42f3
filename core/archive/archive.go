// Package archive is a song in one file: a zip of session.json, as docs/session-format.md has it, history.json, what the
// song remembers, and audio/<SHA-256>.wav, everything that the song and its takes name. It opens elsewhere as it is
// here.
package archive

import (
	"archive/zip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"mellowthump/core/session"
)

// Limits of what is read.
const (
	MostEntries = 2048
	MostSession = 32 << 20 // bytes of session.json
	MostFile    = 2 << 30  // bytes of one audio file
	MostAll     = 8 << 30  // of all of them
)

const sessionName = "session.json"

var audioName = regexp.MustCompile(`^audio/([0-9a-f]{64})\.wav$`)

// Write writes a song with what it remembers (nil: nothing) and its audio; open gives the file of a hash. What it names
// twice is there once. A song that names audio that cannot be opened is refused; a take's audio that is gone is left
// out.
func Write(ctx context.Context, w io.Writer, song *session.Song, history *History, open func(sha string) (io.ReadCloser, error)) error {
	z, at := zip.NewWriter(w), time.Now()
	for _, part := range []struct {
		name string
		of   any
	}{{sessionName, song}, {historyName, history}} {
		if part.name == historyName && history == nil {
			continue
		}
		out, err := z.CreateHeader(&zip.FileHeader{Name: part.name, Method: zip.Deflate, Modified: at})
		if err != nil {
			return err
		}
		e := json.NewEncoder(out)
		e.SetIndent("", " ")
		if err := e.Encode(part.of); err != nil {
			return err
		}
	}
	files := song.Files()
	needed := len(files)
	taken, err := history.Files()
	if err != nil {
		return err
	}
	for _, sha := range taken {
		if !slices.Contains(files[:needed], sha) {
			files = append(files, sha)
		}
	}
	for i, sha := range files {
		if err := ctx.Err(); err != nil {
			return err
		}
		f, err := open(sha)
		if err != nil && i >= needed {
			continue
		}
		if err != nil {
			return fmt.Errorf("the audio %.8s: %w", sha, err)
		}
		out, err := z.CreateHeader(&zip.FileHeader{Name: "audio/" + sha + ".wav", Method: zip.Store, Modified: at})
		if err == nil {
			_, err = io.Copy(out, &within{ctx, f})
		}
		if e := f.Close(); err == nil {
			err = e
		}
		if err != nil {
			return err
		}
	}
	return z.Close()
}

// within ends a read when a context does.
type within struct {
	ctx context.Context
	io.Reader
}

// Read reads, or says that it was stopped.
func (r *within) Read(b []byte) (int, error) {
	if err := r.ctx.Err(); err != nil {
		return 0, err
	}
	return r.Reader.Read(b)
}

// Archive is one that was opened: its song is whole, its audio is read file by file.
type Archive struct {
	Song    session.Song
	History *History             // nil: it holds none
	audio   map[string]*zip.File // by hash
}

// Open reads the song of an archive, and looks at what else is in it without unpacking it. The error is a sentence: no zip, no
// song, a song of a later form, audio that is missing, names that lead elsewhere, too much of anything.
func Open(r io.ReaderAt, size int64) (*Archive, error) {
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, errors.New("it is no archive of a song: it cannot be read as a zip")
	}
	if len(z.File) > MostEntries {
		return nil, fmt.Errorf("it holds %d entries; an archive of a song has at most %d", len(z.File), MostEntries)
	}
	a := &Archive{audio: map[string]*zip.File{}}
	var of, past *zip.File
	all := uint64(0)
	for _, f := range z.File {
		m := audioName.FindStringSubmatch(f.Name)
		switch {
		case f.Name == sessionName && of == nil:
			of = f
		case f.Name == historyName && past == nil:
			past = f
		case m != nil && a.audio[m[1]] == nil:
			if f.UncompressedSize64 > MostFile {
				return nil, fmt.Errorf("%s is larger than %d GiB", f.Name, MostFile>>30)
			}
			if all += f.UncompressedSize64; all > MostAll {
				return nil, fmt.Errorf("its audio is larger than %d GiB", int64(MostAll)>>30)
			}
			a.audio[m[1]] = f
		case strings.HasSuffix(f.Name, "/"): // a folder's own entry
		default:
			return nil, fmt.Errorf("%q does not belong in an archive of a song", short(f.Name))
		}
	}
	if of == nil {
		return nil, errors.New("it is no archive of a song: it holds no session.json")
	}
	body, err := read(of, MostSession)
	if err != nil {
		return nil, fmt.Errorf("its session.json cannot be read: %w", err)
	}
	if a.Song, err = session.Read(body); err != nil {
		return nil, fmt.Errorf("its session.json: %w", err)
	}
	for _, sha := range a.Song.Files() {
		if a.audio[sha] == nil {
			return nil, fmt.Errorf("the audio %.8s, which the song names, is not in it", sha)
		}
	}
	if past != nil {
		body, err := read(past, MostHistory)
		if err != nil {
			return nil, fmt.Errorf("its history.json cannot be read: %w", err)
		}
		if a.History, err = readHistory(body); err != nil {
			return nil, fmt.Errorf("its history.json: %w", err)
		}
	}
	return a, nil
}

// Files are the hashes of the audio that is in it and that the song or a take of it names.
func (a *Archive) Files() []string {
	out := a.Song.Files()
	taken, _ := a.History.Files() // each was read when it was opened
	for _, sha := range taken {
		if a.audio[sha] != nil && !slices.Contains(out, sha) {
			out = append(out, sha)
		}
	}
	return out
}

func short(name string) string {
	if r := []rune(name); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return name
}

// read reads an entry whole, and no more than it may be, whatever it says that it is.
func read(f *zip.File, most int64) ([]byte, error) {
	r, err := f.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	body, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(body)) > most {
		err = fmt.Errorf("it is larger than %d MiB", most>>20)
	}
	return body, err
}

// Copy writes one of the audio files that the song names. One whose content is not what its name says is refused, after it was
// written: what was made of it is to be thrown away.
func (a *Archive) Copy(ctx context.Context, w io.Writer, sha string) error {
	f := a.audio[sha]
	if f == nil {
		return fmt.Errorf("the audio %.8s is not in it", sha)
	}
	r, err := f.Open()
	if err != nil {
		return fmt.Errorf("the audio %.8s: %w", sha, err)
	}
	defer r.Close()
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(w, h), io.LimitReader(&within{ctx, r}, MostFile+1))
	switch {
	case err != nil && ctx.Err() != nil:
		return ctx.Err()
	case errors.Is(err, zip.ErrChecksum), err == nil && (n > MostFile || hex.EncodeToString(h.Sum(nil)) != sha):
		return fmt.Errorf("the audio %.8s is damaged: it is not what its name says", sha)
	case err != nil:
		return fmt.Errorf("the audio %.8s: %w", sha, err)
	}
	return nil
}
