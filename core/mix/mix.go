// Package mix renders a song, or one part of it, over a window. A render is a pure function
// of the song, the audio (by content hash) and the window; each step of it is cached by a
// hash of exactly what it depends on, so a change re-renders only what follows from it.
package mix

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"sync"

	"golang.org/x/sync/errgroup"

	"mellowthump/core/audio"
	"mellowthump/core/audio/resample"
	"mellowthump/core/dsp"
	"mellowthump/core/move"
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
	Onsets(sha string) ([]float64, error)
	// KickHz returns the pitch that the file settles on as a kick; 0 where there is none.
	KickHz(sha string) (float64, error)
}

// Window is a stretch in frames at the song's rate.
type Window struct{ From, To int }

// Frames returns its length.
func (w Window) Frames() int { return w.To - w.From }

// Solo says which part of the song is heard.
type Solo string

// The four things the deck plays.
const (
	SoloKick Solo = "kick"
	SoloBass Solo = "bass"
	SoloBoth Solo = "both"
	SoloAll  Solo = "all"
)

// Valid reports whether s is one of the four.
func (s Solo) Valid() bool { return s == SoloKick || s == SoloBass || s == SoloBoth || s == SoloAll }

// Renderer renders songs. It is safe for use by several goroutines.
type Renderer struct {
	Library Library
	Cache   *Cache
	block   int
}

// New returns a renderer that keeps up to cacheBytes of results.
func New(lib Library, cacheBytes int) *Renderer {
	return &Renderer{Library: lib, Cache: NewCache(cacheBytes), block: Block}
}

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
func (r *Renderer) source(sha string, rate int, w Window) (audio.Buffer, error) {
	return Cached(r.Cache, key("source", sha, rate, w), func() (audio.Buffer, int, error) {
		in, closeFile, err := r.Library.Open(sha)
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		defer closeFile()
		channels := in.Format().Channels
		if in, err = resample.New(in, rate); err != nil {
			return audio.Buffer{}, 0, err
		}
		b := audio.New(rate, channels, w.Frames())
		if err := in.ReadAt(b, int64(w.From)); err != nil {
			return audio.Buffer{}, 0, err
		}
		return b, b.Bytes(), nil
	})
}

// Hits returns the frames of a trigger's hits, over the whole song.
func (r *Renderer) Hits(song *session.Song, trigger string) ([]int, error) {
	st := song.TriggerStem()
	if t := song.Trigger(trigger); t != nil && trigger != session.KickTrigger {
		st = song.Stem(t.Stem)
	}
	if st == nil {
		return nil, nil
	}
	var times []float64
	if st.MIDI != nil {
		times = st.MIDI.Hits()
	} else {
		var err error
		if times, err = r.Library.Onsets(st.Audio); err != nil {
			return nil, fmt.Errorf("the hits of %s: %w", st.Name, err)
		}
	}
	hits := make([]int, len(times))
	for i, t := range times {
		hits[i] = int(math.Round(t * float64(song.Rate)))
	}
	return hits, nil
}

// chain is a stem's part of the render with all it depends on worked out.
type chain struct {
	Audio string
	Rate  int
	BPM   float64
	Gain  float64 // clip and fader, dB
	Moves []step
	Win   Window
}

type step struct {
	Move move.Move
	Hits []int
}

func (r *Renderer) chain(song *session.Song, st *session.Stem, w Window) (chain, error) {
	c := chain{Audio: st.Audio, Rate: song.Rate, Gain: st.Clip + st.Fader, Win: w}
	for _, m := range st.Moves {
		if m.Off {
			continue
		}
		s := step{Move: m}
		if d, ok := m.Params.(*move.Duck); ok {
			at, err := d.AtTempo(song.BPM)
			if err != nil {
				return c, err
			}
			s.Move = move.Move{Params: at} // the id and the reason do not sound
			if s.Hits, err = r.Hits(song, d.Trigger); err != nil {
				return c, err
			}
		}
		c.BPM = song.BPM
		c.Moves = append(c.Moves, s)
	}
	return c, nil
}

// Stem renders one stem through its chain, in its own number of channels. It returns the
// key of the result too, for what is derived from it.
func (r *Renderer) Stem(song *session.Song, st *session.Stem, w Window) (audio.Buffer, string, error) {
	c, err := r.chain(song, st, w)
	if err != nil {
		return audio.Buffer{}, "", err
	}
	if len(c.Moves) == 0 && c.Gain == 0 { // an untouched stem is its source, to the bit
		b, err := r.source(c.Audio, c.Rate, w)
		return b, key("source", c.Audio, c.Rate, w), err
	}
	k := key("stem", c)
	b, err := Cached(r.Cache, k, func() (audio.Buffer, int, error) {
		src, err := r.source(c.Audio, c.Rate, w)
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		out, err := c.run(src, r.block)
		return out, out.Bytes(), err
	})
	return b, k, err
}

func (c *chain) run(src audio.Buffer, block int) (audio.Buffer, error) {
	out := audio.New(src.Rate, len(src.Ch), src.Frames())
	var procs []move.Processor
	for _, s := range c.Moves {
		p, err := s.Move.Params.Processor(move.Place{Rate: c.Rate, BPM: c.BPM, Hits: s.Hits, Start: c.Win.From})
		if err != nil {
			return audio.Buffer{}, err
		}
		procs = append(procs, p)
	}
	gain := float32(dsp.Gain(c.Gain))
	for at := 0; at < src.Frames(); at += block {
		end := min(at+block, src.Frames())
		x := out.Slice(at, end)
		for ch := range x.Ch {
			for i, v := range src.Ch[ch][at:end] {
				x.Ch[ch][i] = v * gain
			}
		}
		for _, p := range procs {
			p.Process(x, audio.Buffer{})
		}
	}
	return out, nil
}

// node is a rendered part with its key.
type node struct {
	buf audio.Buffer
	key string
}

func (r *Renderer) stems(ctx context.Context, song *session.Song, stems []*session.Stem, w Window) ([]node, error) {
	out := make([]node, len(stems))
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	var mu sync.Mutex
	for i, st := range stems {
		g.Go(func() error {
			if err := ctx.Err(); err != nil {
				return err
			}
			b, k, err := r.Stem(song, st, w)
			if err != nil {
				return fmt.Errorf("rendering %s: %w", st.Name, err)
			}
			mu.Lock()
			defer mu.Unlock()
			out[i] = node{b, k}
			return nil
		})
	}
	return out, g.Wait()
}

// sum adds parts with gains in dB into a buffer of at least that many channels, and as many
// as the widest part has; a mono part stands in every channel at its full level. A single
// part that nothing changes is passed on as it is.
func (r *Renderer) sum(parts []node, gains []float64, rate, channels int, w Window) (node, error) {
	for _, p := range parts {
		channels = max(channels, len(p.buf.Ch))
	}
	if len(parts) == 1 && gains[0] == 0 && len(parts[0].buf.Ch) == channels {
		return parts[0], nil
	}
	keys := make([]string, len(parts))
	for i := range parts {
		keys[i] = parts[i].key
	}
	k := key("sum", keys, gains, channels, w)
	b, err := Cached(r.Cache, k, func() (audio.Buffer, int, error) {
		out := audio.New(rate, channels, w.Frames())
		for i, p := range parts {
			if i == 0 && gains[i] == 0 {
				for c := range out.Ch {
					copy(out.Ch[c], p.buf.Ch[min(c, len(p.buf.Ch)-1)])
				}
				continue
			}
			addInto(out, p.buf, gains[i])
		}
		return out, out.Bytes(), nil
	})
	return node{b, k}, err
}

func addInto(out, in audio.Buffer, db float64) {
	g := float32(dsp.Gain(db))
	for c := range out.Ch {
		src := in.Ch[min(c, len(in.Ch)-1)]
		dst := out.Ch[c][:len(src)]
		if g == 1 {
			for i, v := range src {
				dst[i] += v
			}
			continue
		}
		for i, v := range src {
			dst[i] += v * g
		}
	}
}

// Solo renders the part of the mix that is soloed, in stereo: stems of the chosen roles
// through their buses to the master. It returns the key of the result too.
func (r *Renderer) Solo(ctx context.Context, song *session.Song, solo Solo, w Window) (audio.Buffer, string, error) {
	return r.solo(ctx, song, solo, w, 2)
}

// solo is Solo in at least that many channels: with 1, a part that is mono stays so.
func (r *Renderer) solo(ctx context.Context, song *session.Song, solo Solo, w Window, channels int) (audio.Buffer, string, error) {
	byBus := map[string][]*session.Stem{}
	for i := range song.Stems {
		st := &song.Stems[i]
		if st.Mute || !heard(st.Role, solo) {
			continue
		}
		byBus[st.Bus] = append(byBus[st.Bus], st)
	}
	var tops []node
	var gains []float64
	for _, bus := range append([]session.Bus{{}}, song.Buses...) {
		members := byBus[bus.ID]
		if len(members) == 0 {
			continue
		}
		parts, err := r.stems(ctx, song, members, w)
		if err != nil {
			return audio.Buffer{}, "", err
		}
		if bus.ID == "" { // straight to the master
			for _, p := range parts {
				tops, gains = append(tops, p), append(gains, 0)
			}
			continue
		}
		b, err := r.sum(parts, make([]float64, len(parts)), song.Rate, 1, w)
		if err != nil {
			return audio.Buffer{}, "", err
		}
		tops, gains = append(tops, b), append(gains, bus.Fader)
	}
	n, err := r.sum(tops, gains, song.Rate, channels, w)
	return n.buf, n.key, err
}

func heard(role session.Role, solo Solo) bool {
	switch solo {
	case SoloKick:
		return role == session.Kick
	case SoloBass:
		return role == session.Bass
	case SoloBoth:
		return role == session.Kick || role == session.Bass
	}
	return true
}

// Length returns the length of the song in frames: that of its longest stem.
func (r *Renderer) Length(song *session.Song) (int, error) { return r.length(song, SoloAll) }

// PairLength returns how far kick and bass reach: after it there is nothing to judge.
func (r *Renderer) PairLength(song *session.Song) (int, error) { return r.length(song, SoloBoth) }

func (r *Renderer) length(song *session.Song, of Solo) (int, error) {
	longest := 0
	for _, st := range song.Stems {
		if !heard(st.Role, of) {
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
