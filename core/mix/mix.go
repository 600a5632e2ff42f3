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
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"mellowthump/core/audio"
	"mellowthump/core/audio/resample"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
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
	Onsets(sha string) ([]meter.Onset, error)
	// KickHz returns the pitch that the file settles on as a kick; 0 where there is none.
	KickHz(sha string) (float64, error)
}

// Window is a stretch in frames at the song's rate.
type Window struct{ From, To int }

// Frames returns its length.
func (w Window) Frames() int { return w.To - w.From }

// Solo says which part of the song is heard: one of those below, or "bus:" and the id of a bus.
type Solo string

// The things the deck plays.
const (
	SoloKick Solo = "kick"
	SoloBass Solo = "bass"
	SoloBoth Solo = "both"
	SoloAll  Solo = "all"

	SoloKey Solo = "key" // what the duck listens to, behind its key filter
)

// SoloBus is what goes through one bus.
func SoloBus(id string) Solo { return Solo("bus:" + id) }

// Bus returns the id of the bus that is soloed, empty where none is.
func (s Solo) Bus() string {
	id, _ := strings.CutPrefix(string(s), "bus:")
	if id == string(s) {
		return ""
	}
	return id
}

// Valid reports whether s is one of these, or a bus.
func (s Solo) Valid() bool {
	return s == SoloKick || s == SoloBass || s == SoloBoth || s == SoloAll || s == SoloKey || s.Bus() != ""
}

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

// Hits returns the frames of a trigger's hits, over the whole song, as its stems play them: those of
// all its stems or of the grid, with what was put in and taken out by hand.
func (r *Renderer) Hits(song *session.Song, trigger string) ([]int, error) {
	t := song.Trigger(trigger)
	if t == nil {
		t = &session.Trigger{ID: session.KickTrigger} // one that is not named is the kick's
	}
	var hits []int
	if t.Grid != "" {
		ms, err := move.NoteMS(t.Grid, song.BPM)
		if err != nil {
			return nil, err
		}
		n, err := r.Length(song)
		if err != nil {
			return nil, err
		}
		rate := float64(song.Rate)
		for k := 0; ; k++ {
			at := (song.Grid + float64(k)*ms/1000) * rate
			if at >= float64(n) {
				break
			}
			hits = append(hits, int(math.Round(at)))
		}
	}
	if t.MIDI != nil {
		for _, at := range t.MIDI.Hits() {
			hits = append(hits, int(math.Round(at*float64(song.Rate))))
		}
	}
	for _, st := range song.Sources(t) {
		own, err := r.rawHits(song, t, st)
		if err != nil {
			return nil, err
		}
		by := int(math.Round(st.Nudged() * float64(song.Rate) / 1000))
		for _, h := range own {
			hits = append(hits, h+by)
		}
	}
	return edited(hits, t, song.Rate), nil
}

// hitTogether is how near two hits count as one, and an edit as that of a hit, s.
const hitTogether = 0.030

// edited applies what was put in and taken out by hand, in order, each hit once.
func edited(hits []int, t *session.Trigger, rate int) []int {
	near := int(hitTogether * float64(rate))
	for _, at := range t.Removed {
		frame := int(math.Round(at * float64(rate)))
		hits = slices.DeleteFunc(hits, func(h int) bool { return max(h-frame, frame-h) <= near })
	}
	for _, at := range t.Added {
		hits = append(hits, int(math.Round(at*float64(rate))))
	}
	slices.Sort(hits)
	out := hits[:0]
	for _, h := range hits {
		if len(out) == 0 || h-out[len(out)-1] > near || len(t.Stems) == 0 && t.Bus == "" && len(t.Added) == 0 && h != out[len(out)-1] {
			out = append(out, h)
		}
	}
	return out
}

// ownHits are the hits of a stem's own trigger as its file has them: what stands before a nudge in its
// chain goes by these.
func (r *Renderer) ownHits(song *session.Song, trigger string, st *session.Stem) ([]int, error) {
	t := song.Trigger(trigger)
	if t == nil {
		t = &session.Trigger{ID: session.KickTrigger}
	}
	if !slices.Contains(song.Sources(t), st) {
		return r.Hits(song, trigger)
	}
	hits, err := r.rawHits(song, t, st)
	return edited(hits, t, song.Rate), err
}

// partHits are the hits by which a combined sample is split: those of the file, which head and tail share.
func (r *Renderer) partHits(song *session.Song, trigger string, st *session.Stem) ([]int, error) {
	t := song.Trigger(trigger)
	for _, o := range song.Sources(t) {
		if o.Audio == st.Audio {
			return r.ownHits(song, trigger, o)
		}
	}
	return r.Hits(song, trigger)
}

// rawHits are the hits of one of a trigger's stems as its file has them.
func (r *Renderer) rawHits(song *session.Song, t *session.Trigger, st *session.Stem) ([]int, error) {
	if t.At != "" && !song.Reaches(st, t.At) {
		return nil, nil // it does not arrive where it is taken
	}
	var times []float64
	if st.MIDI != nil {
		times = st.MIDI.Hits()
	} else {
		found, err := r.Library.Onsets(st.Audio)
		if err != nil {
			return nil, fmt.Errorf("the hits of %s: %w", st.Name, err)
		}
		times = meter.Sure(found, t.QuietDB())
	}
	hits := make([]int, len(times))
	for i, at := range times {
		hits[i] = int(math.Round(at * float64(song.Rate)))
	}
	return hits, nil
}

// KickHz returns the pitch that the trigger's stem settles on as it plays, tuned or not; 0 where
// it has none.
func (r *Renderer) KickHz(song *session.Song) (float64, error) {
	st := song.TriggerStem()
	hz, err := r.Library.KickHz(st.Audio)
	return hz * math.Pow(2, st.Tuned()/1200), err
}

// chain is a stem's part of the render with all it depends on worked out.
type chain struct {
	Audio string
	Rate  int
	BPM   float64
	Gain  float64 // source and clip, dB
	Moves []step
	Win   Window
}

type step struct {
	Move move.Move
	Hits []int
	Key  []partSpec                      `json:",omitempty"` // what the trigger's sound depends on, where it is listened to
	key  func(Window) ([]float32, error) // the gain that comes of it
}

// chain works out a stem's own chain. Where the sum of buses is taken apart into stems, the ducks of the
// buses that a stem goes through follow: a duck is linear in what it lowers.
func (r *Renderer) chain(song *session.Song, st *session.Stem, w Window, through ...*session.Bus) (chain, error) {
	c := chain{Audio: st.Audio, Rate: song.Rate, Gain: st.Source + st.Clip, Win: w}
	moves := st.Moves
	for _, b := range through {
		moves = append(moves[:len(moves):len(moves)], *b.Duck)
	}
	for _, m := range moves {
		if m.Off {
			continue
		}
		s := step{Move: move.Move{Params: m.Params}} // the id and the reason do not sound
		switch p := m.Params.(type) {
		case *move.Fade:
			var err error
			if s.Hits, err = r.ownHits(song, p.Trigger, st); err != nil { // it stands before the nudge
				return c, err
			}
		case *move.Part:
			var err error
			if s.Hits, err = r.partHits(song, p.Trigger, st); err != nil {
				return c, err
			}
		case *move.Tune:
			if p.Trigger != "" {
				var err error
				if s.Hits, err = r.ownHits(song, p.Trigger, st); err != nil {
					return c, err
				}
			}
		case *move.Duck:
			var err error
			if s, err = r.duckStep(song, p); err != nil {
				return c, err
			}
		}
		c.BPM = song.BPM
		c.Moves = append(c.Moves, s)
	}
	return c, nil
}

// duckStep works out what a duck depends on: the hits of its trigger, or its sound.
func (r *Renderer) duckStep(song *session.Song, d *move.Duck) (step, error) {
	at, err := d.AtTempo(song.BPM)
	if err != nil {
		return step{}, err
	}
	s := step{Move: move.Move{Params: at}}
	if !d.Keyed() {
		s.Hits, err = r.Hits(song, d.Trigger)
		return s, err
	}
	spec, sound, err := r.keyOf(song, d.Trigger)
	if err != nil {
		return s, err
	}
	s.Move.Params, s.Key = move.Gained{Duck: at}, spec
	s.key = func(w Window) ([]float32, error) { // the gain, worked out once for the sound and the readouts
		place := move.Place{Rate: song.Rate, BPM: song.BPM, Start: w.From}
		lead := at.Lead(place)
		ahead := song.Rate / 50
		return Cached(r.Cache, key("gain", at, spec, w, song.Rate), func() ([]float32, int, error) {
			k, err := sound(Window{w.From - lead, w.To + ahead})
			if err != nil {
				return nil, 0, err
			}
			g, err := at.Gains(place, w.Frames(), k, lead)
			return g, 4 * len(g), err
		})
	}
	return s, nil
}

// chained renders one stem through its clip gain and its moves, up to the fader, in its own
// number of channels. It returns the key of the result too, for what is derived from it.
func (r *Renderer) chained(song *session.Song, st *session.Stem, w Window, through ...*session.Bus) (audio.Buffer, string, error) {
	c, err := r.chain(song, st, w, through...)
	if err != nil {
		return audio.Buffer{}, "", err
	}
	if len(c.Moves) == 0 && c.Gain == 0 { // an untouched stem is its source, to the bit
		b, err := r.source(c.Audio, c.Rate, w)
		return b, key("source", c.Audio, c.Rate, w), err
	}
	k := key("stem", c)
	b, err := Cached(r.Cache, k, func() (audio.Buffer, int, error) {
		procs, lead, latency, err := c.processors()
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		src, err := r.source(c.Audio, c.Rate, Window{w.From - lead, w.To + latency})
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		keys, err := c.keys(procs, Window{w.From - lead, w.To + latency})
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		out := c.run(src, procs, keys, r.block).Slice(lead+latency, lead+latency+w.Frames())
		return out, src.Bytes(), nil
	})
	return b, k, err
}

// Stem renders one stem through its whole chain: clip gain, moves, fader, pan and width.
func (r *Renderer) Stem(song *session.Song, st *session.Stem, w Window) (audio.Buffer, string, error) {
	b, k, err := r.chained(song, st, w)
	if err != nil {
		return b, "", err
	}
	n, err := r.sum([]node{{buf: b, key: k, at: stemPlace(st)}}, song.Rate, 1, w)
	return n.buf, n.key, err
}

// processors makes the processors of the chain's moves. They start lead frames before the window,
// and what comes out is latency frames late.
func (c *chain) processors() (procs []move.Processor, lead, latency int, err error) {
	place := func(s step, start int) move.Place {
		return move.Place{Rate: c.Rate, BPM: c.BPM, Hits: s.Hits, Start: start}
	}
	for _, s := range c.Moves {
		if l, ok := s.Move.Params.(move.Leader); ok {
			lead += l.Lead(place(s, c.Win.From-lead))
		}
	}
	at := c.Win.From - lead
	for _, s := range c.Moves {
		p, err := s.Move.Params.Processor(place(s, at-latency))
		if err != nil {
			return nil, 0, 0, err
		}
		procs = append(procs, p)
		latency += p.Latency()
	}
	return procs, lead, latency, nil
}

// run takes a source through the chain, block by block.
func (c *chain) run(src audio.Buffer, procs []move.Processor, keys [][]float32, block int) audio.Buffer {
	out := audio.New(src.Rate, len(src.Ch), src.Frames())
	gain := float32(dsp.Gain(c.Gain))
	for at := 0; at < src.Frames(); at += block {
		end := min(at+block, src.Frames())
		x := out.Slice(at, end)
		for ch := range x.Ch {
			for i, v := range src.Ch[ch][at:end] {
				x.Ch[ch][i] = v * gain
			}
		}
		for k, p := range procs {
			key := audio.Buffer{Rate: src.Rate}
			if keys[k] != nil {
				key.Ch = [][]float32{keys[k][at:end]}
			}
			p.Process(x, key)
		}
	}
	return out
}

// keys works out the gains of the moves that listen to a trigger. What reaches a move is late by the moves
// before it, and so is its gain.
func (c *chain) keys(procs []move.Processor, w Window) ([][]float32, error) {
	out := make([][]float32, len(procs))
	late := 0
	for i, s := range c.Moves {
		if s.key != nil {
			var err error
			if out[i], err = s.key(Window{w.From - late, w.To - late}); err != nil {
				return nil, err
			}
		}
		late += procs[i].Latency()
	}
	return out, nil
}

// keyOf returns what a trigger's sound depends on, and how it is rendered: its stems at the end of their
// moves, before or behind their faders, mono. A grid, and hits changed by hand, are heard as clicks.
// Nothing comes of a trigger that does not arrive.
func (r *Renderer) keyOf(song *session.Song, trigger string) ([]partSpec, func(Window) ([]float32, error), error) {
	t := song.Trigger(trigger)
	if t == nil {
		t = &session.Trigger{ID: session.KickTrigger}
	}
	if t.Clicks() || len(t.Added)+len(t.Removed) > 0 {
		hits, err := r.Hits(song, trigger)
		return []partSpec{{Clicks: hits}}, func(w Window) ([]float32, error) { return Clicks(hits, w, song.Rate), nil }, err
	}
	type source struct {
		st *session.Stem
		at place
	}
	var sources []source
	specs := []partSpec{}
	for _, st := range song.Sources(t) {
		if t.At != "" && !song.Reaches(st, t.At) {
			continue
		}
		c, err := r.chain(song, st, Window{})
		if err != nil {
			return nil, nil, err
		}
		at := place{}
		if t.Post || t.Bus != "" { // what a bus carries has gone through the faders
			at = stemPlace(st)
		}
		sources = append(sources, source{st, at})
		specs = append(specs, partSpec{Chain: &c, At: at})
	}
	return specs, func(w Window) ([]float32, error) {
		if len(sources) == 0 {
			return make([]float32, w.Frames()), nil
		}
		var parts []node
		for _, s := range sources {
			b, k, err := r.chained(song, s.st, w)
			if err != nil {
				return nil, err
			}
			parts = append(parts, node{buf: b, key: k, at: s.at})
		}
		n, err := r.sum(parts, song.Rate, 1, w)
		return n.buf.Mono(), err
	}, nil
}

// Clicks renders a short click at each hit: a trigger that is steadier than a drum, not to be heard.
func Clicks(hits []int, w Window, rate int) []float32 {
	const hz, seconds, amplitude, decay = 1000.0, 0.010, 0.5, 0.003
	x := make([]float32, w.Frames())
	for _, h := range hits {
		for i := range int(seconds * float64(rate)) {
			if k := h + i - w.From; k >= 0 && k < len(x) {
				s := float64(i) / float64(rate)
				x[k] = float32(amplitude * math.Sin(2*math.Pi*hz*s) * math.Exp(-s/decay))
			}
		}
	}
	return x
}

// heardKey renders what the duck listens to, as it hears it.
func (r *Renderer) heardKey(song *session.Song, w Window, channels int) (audio.Buffer, string, error) {
	trigger, filter := session.KickTrigger, (*move.KeyFilter)(nil)
	if d, _ := song.Duck(); d != nil {
		trigger, filter = d.Trigger, d.Key
	}
	lead := song.Rate / 2
	x, k, err := r.KeySound(song, trigger, Window{w.From - lead, w.To})
	if err != nil {
		return audio.Buffer{}, "", err
	}
	k = key("key heard", k, filter, channels)
	b, err := Cached(r.Cache, k, func() (audio.Buffer, int, error) {
		sections, err := filter.Filters(float64(song.Rate))
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		y := append([]float32(nil), x...)
		dsp.NewFilter(sections).Process(y, y)
		out := audio.Buffer{Rate: song.Rate}
		for range channels {
			out.Ch = append(out.Ch, y[lead:])
		}
		return out, 4 * len(y), nil
	})
	return b, k, err
}

// KeySound renders a trigger's sound over a window, mono, with what identifies it.
func (r *Renderer) KeySound(song *session.Song, trigger string, w Window) ([]float32, string, error) {
	spec, render, err := r.keyOf(song, trigger)
	if err != nil {
		return nil, "", err
	}
	x, err := render(w)
	return x, Key("key", spec, w), err
}

// Gain returns the gain of a stem's duck over a window, as amplitude; nil where it has none, or it
// is off.
func (r *Renderer) Gain(song *session.Song, st *session.Stem, w Window) ([]float32, error) {
	m, d := st.DuckMove()
	if d == nil || m.Off {
		return nil, nil
	}
	at, err := d.AtTempo(song.BPM)
	if err != nil {
		return nil, err
	}
	place := move.Place{Rate: song.Rate, BPM: song.BPM, Start: w.From}
	if !d.Keyed() {
		if place.Hits, err = r.Hits(song, d.Trigger); err != nil {
			return nil, err
		}
		return at.Gain(place, w.Frames())
	}
	c, err := r.chain(song, st, w) // over the stretch that the render works it out for
	if err != nil {
		return nil, err
	}
	procs, lead, latency, err := c.processors()
	if err != nil {
		return nil, err
	}
	late := 0
	for i, s := range c.Moves {
		if s.key != nil {
			g, err := s.key(Window{w.From - lead - late, w.To + latency - late})
			if err != nil {
				return nil, err
			}
			return g[lead+late : lead+late+w.Frames()], nil
		}
		late += procs[i].Latency()
	}
	return nil, nil
}

// node is a rendered part with its key and the place that it is given where it is summed.
type node struct {
	buf  audio.Buffer
	key  string
	at   place
	live bool // it holds a duck: what is worked on, and changes most
}

// ducked reports whether a stem is lowered by a duck of its own.
func ducked(st *session.Stem) bool {
	return slices.ContainsFunc(st.Moves, func(m move.Move) bool { return !m.Off && m.Params.Kind() == move.KindDuck })
}

// sum adds parts, each at its place, into a buffer of at least that many channels, and as many
// as the widest part has; a mono part stands in every channel at its full level. A single
// part that nothing changes is passed on as it is.
func (r *Renderer) sum(parts []node, rate, channels int, w Window) (node, error) {
	for _, p := range parts {
		channels = max(channels, p.at.channels(len(p.buf.Ch)))
	}
	if len(parts) == 1 && parts[0].at == (place{}) && len(parts[0].buf.Ch) == channels {
		return parts[0], nil
	}
	keys := make([]string, len(parts))
	places := make([]place, len(parts))
	for i, p := range parts {
		keys[i], places[i] = p.key, p.at
	}
	k := key("sum", keys, places, channels, w)
	b, err := Cached(r.Cache, k, func() (audio.Buffer, int, error) {
		out := audio.New(rate, channels, w.Frames())
		for i, p := range parts {
			p.at.addTo(out, p.buf, i == 0)
		}
		return out, out.Bytes(), nil
	})
	return node{buf: b, key: k}, err
}

// Solo renders the part of the mix that is soloed, in stereo: its stems through their buses to
// the master. It returns the key of the result too.
func (r *Renderer) Solo(ctx context.Context, song *session.Song, solo Solo, w Window) (audio.Buffer, string, error) {
	return r.solo(ctx, song, solo, w, 2)
}

// solo is Solo in at least that many channels: with 1, a part that is mono stays so.
func (r *Renderer) solo(ctx context.Context, song *session.Song, solo Solo, w Window, channels int) (audio.Buffer, string, error) {
	if solo == SoloKey {
		return r.heardKey(song, w, channels)
	}
	n, err := r.group(ctx, song, "", solo, w, channels)
	if err != nil {
		return audio.Buffer{}, "", err
	}
	n.at.DB = song.Master.Fader
	n, err = r.sum([]node{n}, song.Rate, channels, w)
	return n.buf, n.key, err
}

// group renders the sum of what goes to a bus, behind its duck and before its fader; "" is the master.
func (r *Renderer) group(ctx context.Context, song *session.Song, bus string, solo Solo, w Window, channels int) (node, error) {
	b := song.Bus(bus)
	if b == nil || !b.Ducks() {
		return r.together(ctx, song, bus, solo, w, channels)
	}
	c, err := r.busDuck(song, b)
	if err != nil {
		return node{}, err
	}
	c.Win = w
	procs, lead, latency, err := c.processors()
	if err != nil {
		return node{}, err
	}
	wide := Window{w.From - lead, w.To + latency}
	n, err := r.together(ctx, song, bus, solo, wide, channels)
	if err != nil {
		return node{}, err
	}
	k := key("bus duck", n.key, c)
	out, err := Cached(r.Cache, k, func() (audio.Buffer, int, error) {
		keys, err := c.keys(procs, wide)
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		return c.run(n.buf, procs, keys, r.block).Slice(lead+latency, lead+latency+w.Frames()), n.buf.Bytes(), nil
	})
	return node{buf: out, key: k, live: true}, err
}

// together renders the sum of what goes to a bus, as it comes in.
func (r *Renderer) together(ctx context.Context, song *session.Song, bus string, solo Solo, w Window, channels int) (node, error) {
	parts, live, err := r.gathered(ctx, song, bus, solo, w, channels)
	if err != nil {
		return node{}, err
	}
	n, err := r.sum(parts, song.Rate, channels, w)
	n.live = live
	return n, err
}

// gathered renders the parts of a group and adds those up that no duck touches: their sum is kept while
// a duck is worked on. It reports whether any part holds a duck.
func (r *Renderer) gathered(ctx context.Context, song *session.Song, bus string, solo Solo, w Window, channels int) ([]node, bool, error) {
	parts, err := r.parts(ctx, song, bus, solo, w)
	if err != nil {
		return nil, false, err
	}
	var still, live []node
	for _, p := range parts {
		channels = max(channels, p.at.channels(len(p.buf.Ch)))
		if p.live {
			live = append(live, p)
		} else {
			still = append(still, p)
		}
	}
	if len(live) == 0 || len(still) < 2 {
		return parts, len(live) > 0, nil
	}
	n, err := r.sum(still, song.Rate, channels, w)
	return append([]node{n}, live...), true, err
}

// parts renders what goes to a bus: stems, sends and other buses, each with its place.
func (r *Renderer) parts(ctx context.Context, song *session.Song, bus string, solo Solo, w Window) ([]node, error) {
	ins := inputs(song, bus, solo)
	out := make([]node, len(ins))
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for i, in := range ins {
		if in.stem == nil {
			continue
		}
		g.Go(func() error {
			if err := inner.Err(); err != nil {
				return err
			}
			b, k, err := r.chained(song, in.stem, w)
			if err != nil {
				return fmt.Errorf("rendering %s: %w", in.stem.Name, err)
			}
			out[i] = node{buf: b, key: k, at: in.at, live: ducked(in.stem)}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for i, in := range ins {
		if in.bus == nil {
			continue
		}
		n, err := r.group(ctx, song, in.bus.ID, solo, w, 1)
		if err != nil {
			return nil, err
		}
		n.at = in.at
		out[i] = n
	}
	return out, nil
}

// input is one thing that goes to a bus.
type input struct {
	stem *session.Stem // a stem, or a send of it
	bus  *session.Bus  // or another bus
	at   place
}

// inputs lists what goes to a bus and is heard: stems and sends in the song's order, then buses.
func inputs(song *session.Song, bus string, solo Solo) []input {
	var out []input
	for i := range song.Stems {
		st := &song.Stems[i]
		if st.Mute || !heard(song, st, solo) {
			continue
		}
		if st.Bus == bus {
			out = append(out, input{stem: st, at: stemPlace(st)})
		}
		for _, e := range st.Sends {
			if e.Bus != bus {
				continue
			}
			at := place{DB: e.Level}
			if !e.Pre {
				at = stemPlace(st)
				at.DB += e.Level
			}
			out = append(out, input{stem: st, at: at})
		}
	}
	for i := range song.Buses {
		b := &song.Buses[i]
		if b.Bus == bus && !b.Mute && len(inputs(song, b.ID, solo)) > 0 {
			out = append(out, input{bus: b, at: place{DB: b.Fader}})
		}
	}
	return out
}

func heard(song *session.Song, st *session.Stem, solo Solo) bool {
	switch solo {
	case SoloKick:
		return st.Role == session.Kick
	case SoloBass:
		return st.Role == session.Bass
	case SoloBoth:
		return st.Role == session.Kick || st.Role == session.Bass
	}
	if bus := solo.Bus(); bus != "" {
		return song.Reaches(st, bus) || slices.ContainsFunc(st.Sends, func(e session.Send) bool {
			return e.Bus == bus || slices.ContainsFunc(song.Path(e.Bus), func(b *session.Bus) bool { return b.ID == bus })
		})
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
		if !heard(song, &st, of) {
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
