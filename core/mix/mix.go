// Package mix renders a song, or one part of it, over a window. A render is a pure function
// of the song, the audio (by content hash) and the window; each step of it is cached by a
// hash of exactly what it depends on, so a change re-renders only what follows from it.
//
// The song becomes a graph: a node for every stem, bus and the master, each with its chain of moves, its inputs and
// the keys that its moves listen to. A window of a node is read (cached); the whole of it is printed (one pass, block
// by block, in memory that does not grow with the song). Both are the same processors, and the same to the ear: what a
// window depends on before its start is what its moves say that they remember.
package mix

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"runtime"

	"mellowthump/core/audio"
	"mellowthump/core/audio/resample"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// Block is the number of frames that processors are given at a time.
const Block = 4096

var errPanicked = errors.New("mix: a render stopped short")

// Library gives the audio and the onsets of files by content hash.
type Library interface {
	// Open returns the file's sound and a function that closes it.
	Open(sha string) (audio.Source, func() error, error)
	// Onsets returns the times of the hits in seconds, ascending.
	Onsets(sha string) ([]meter.Onset, error)
	// KickPitch returns the pitch of the file as a kick; the zero value where there is none.
	KickPitch(sha string) (meter.Pitch, error)
}

// Window is a stretch in frames at the song's rate.
type Window struct{ From, To int }

// Frames returns its length.
func (w Window) Frames() int { return w.To - w.From }

// Renderer renders songs. It is safe for use by several goroutines.
type Renderer struct {
	Library Library
	Cache   *Cache
	long    *Cache // of passes over whole songs: they never push out what the loop is made of
	once    *Cache // of passes of which nothing is kept: what two sounds of one piece share
	block   int
}

// longPart is the part of the memory that passes over whole songs may take: one in so many.
const longPart = 3

// oncePart is the part of it, beside that, which passes take that are made once.
const oncePart = 16

// New returns a renderer that keeps up to cacheBytes of results.
func New(lib Library, cacheBytes int) *Renderer {
	return &Renderer{
		Library: lib,
		Cache:   NewCache(cacheBytes - cacheBytes/longPart),
		long:    NewCache(cacheBytes / longPart),
		once:    NewCache(cacheBytes / oncePart),
		block:   Block,
	}
}

// Forget drops all results: the sound of a file is not what it was.
func (r *Renderer) Forget() {
	r.Cache.Forget()
	r.long.Forget()
	r.once.Forget()
}

// Rest drops renders until no more than so many bytes are kept, those of whole songs first; it returns what was freed.
func (r *Renderer) Rest(bytes int) (freed int) {
	return r.once.Trim(0) + r.long.Trim(0) + r.Cache.Trim(bytes)
}

// longWindow is the length from which a window counts as a pass over the whole song, s.
const longWindow = 40

// shelf returns the cache in which renders of a window are kept.
func (r *Renderer) shelf(ctx context.Context, rate int, w Window) *Cache {
	if ctx.Value(passingPass{}) != nil {
		return r.once
	}
	if w.Frames() > longWindow*rate || ctx.Value(longPass{}) != nil {
		return r.long
	}
	return r.Cache
}

// longPass marks a context in which short windows are pieces of a pass over the whole song.
type longPass struct{}

// workers is how many renders of one request run at a time.
func workers() int { return runtime.GOMAXPROCS(0) }

// key hashes the parts of what a result depends on.
func key(parts ...any) string {
	h := sha256.New()
	if err := json.NewEncoder(h).Encode(parts); err != nil {
		panic(fmt.Sprintf("mix: a key does not encode: %v", err))
	}
	return hex.EncodeToString(h.Sum(nil))
}

// Key makes a cache key for a result that a stage derives from renders.
func Key(parts ...any) string { return key(parts...) }

// source reads a file's window at the song's rate.
func (r *Renderer) source(ctx context.Context, sha string, rate int, w Window) (audio.Buffer, error) {
	return Cached(ctx, r.shelf(ctx, rate, w), key("source", sha, rate, w), func() (audio.Buffer, int, error) {
		in, closeFile, err := r.open(sha, rate)
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		defer closeFile()
		b := audio.New(rate, in.Format().Channels, w.Frames())
		if err := in.ReadAt(b, int64(w.From)); err != nil {
			return audio.Buffer{}, 0, err
		}
		return b, b.Bytes(), nil
	})
}

// open opens a file at the song's rate.
func (r *Renderer) open(sha string, rate int) (audio.Source, func() error, error) {
	in, closeFile, err := r.Library.Open(sha)
	if err != nil {
		return nil, nil, err
	}
	out, err := resample.New(in, rate)
	if err != nil {
		closeFile()
		return nil, nil, err
	}
	return out, closeFile, nil
}

// Length returns the length of the song in frames: that of its longest stem.
func (r *Renderer) Length(song *session.Song) (int, error) { return r.length(song, SoloAll) }

// PairLength returns how far kick and bass reach: after it there is nothing to judge.
func (r *Renderer) PairLength(song *session.Song) (int, error) { return r.length(song, SoloBoth) }

// StemLength returns the length of one stem.
func (r *Renderer) StemLength(song *session.Song, st *session.Stem) (int, error) {
	one := *song
	one.Stems = []session.Stem{*st}
	return r.Length(&one)
}

func (r *Renderer) length(song *session.Song, of Solo) (int, error) {
	longest := 0
	for _, st := range song.Stems {
		if !hears(song, &st, of) {
			continue
		}
		in, closeFile, err := r.Library.Open(st.Audio)
		if err != nil {
			return 0, fmt.Errorf("opening %s: %w", st.Name, err)
		}
		f := in.Format()
		closeFile()
		longest = max(longest, int(math.Ceil(f.Duration()*float64(song.Rate))))
	}
	return longest, nil
}
