// Package bench holds what several stages measure of a song: its loop, kick against bass, the line, their agreement, the
// ledger, the loudness. Each is worked out once, and only when asked.
package bench

import (
	"context"
	"errors"
	"math"
	"sync"

	"mellowthump/core/audio"
	"mellowthump/core/facts"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Bench is one revision of a song on the bench. It is safe for use by several goroutines; the song must not change.
type Bench struct {
	Renderer *mix.Renderer
	Song     *session.Song
	Facts    map[string]*facts.Analysis // by audio hash, of every stem
	Length   int                        // of the longest stem, frames
	Loop     mix.Window
	Auto     bool       // the loop was found, not chosen
	Chain    move.Chain // of Print, which stands on the master of the song as it was brought here, and not on Song's: what is judged is the premaster

	part *mix.Window // of a section's bench
	mu   sync.Mutex
	kept map[any]any // by what was asked; a *once of what came of it
}

// Keep works something of a song out the first time that it is asked of its bench, by a key of one package's own. What failed
// because the asker went away is tried again; who waits for another's work leaves with the context. What is worth keeping longer
// than one revision is kept by its content, with mix.Cached.
func Keep[T any](ctx context.Context, b *Bench, key any, f func() (T, error)) (T, error) {
	b.mu.Lock()
	o, ok := b.kept[key].(*once[T])
	if !ok {
		o = &once[T]{}
		if b.kept == nil {
			b.kept = map[any]any{}
		}
		b.kept[key] = o
	}
	b.mu.Unlock()
	return o.get(ctx, f)
}

// once works something out the first time it is asked; what failed because the asker went away is tried again. Who waits for
// another's work leaves with the context.
type once[T any] struct {
	mu    sync.Mutex
	busy  chan struct{} // is closed when the work has ended; nil: nobody is at it
	done  bool
	value T
	err   error
}

func (o *once[T]) get(ctx context.Context, f func() (T, error)) (T, error) {
	for {
		o.mu.Lock()
		if o.done {
			defer o.mu.Unlock()
			return o.value, o.err
		}
		busy := o.busy
		if busy == nil {
			o.busy = make(chan struct{})
			o.mu.Unlock()
			return o.work(f)
		}
		o.mu.Unlock()
		select {
		case <-busy:
		case <-ctx.Done():
			var none T
			return none, ctx.Err()
		}
	}
}

func (o *once[T]) work(f func() (T, error)) (value T, err error) {
	done := false
	defer func() { // also where it panics: the next one tries
		o.mu.Lock()
		defer o.mu.Unlock()
		o.value, o.err, o.done = value, err, done && !errors.Is(err, context.Canceled)
		close(o.busy)
		o.busy = nil
	}()
	value, err = f()
	done = true
	return value, err
}

// New puts a song on the bench. facts are those of its stems' files.
func New(r *mix.Renderer, song *session.Song, known map[string]*facts.Analysis) *Bench {
	chain := song.Master.Moves.Without(func(m move.Move) bool { return !session.OfPrint(m) })
	if len(chain) > 0 {
		plain := song.Unprinted()
		song = &plain
	}
	b := &Bench{Renderer: r, Song: song, Chain: chain, Facts: known}
	for _, st := range song.Stems {
		if a := known[st.Audio]; a != nil {
			b.Length = max(b.Length, int(math.Ceil(a.DurationS*float64(song.Rate))))
		}
	}
	b.Loop, b.Auto = b.loop()
	return b
}

// Whole is the window of the whole song; on the bench of a section that of the section.
func (b *Bench) Whole() mix.Window {
	if b.part != nil {
		return *b.part
	}
	return mix.Window{To: b.Length}
}

// loopBars is the length of the loop that is found by itself, bars.
const loopBars = 8

// loop returns the loop in frames, and whether it was found by itself: the 8 bars with the most kick and bass energy, on
// every fourth bar.
func (b *Bench) loop() (mix.Window, bool) {
	song, rate := b.Song, float64(b.Song.Rate)
	end := float64(b.Length) / rate
	if l := song.Loop; l != nil && l.From < end {
		return mix.Window{From: int(l.From * rate), To: int(min(l.To, end, l.From+session.MostLoop) * rate)}, false
	}
	bar := song.BarSeconds()
	span := loopBars * bar
	if !(span < end) { // it is short, or slow
		return mix.Window{From: 0, To: b.Length}, true
	}
	best, most := 0.0, -1.0
	for at := song.Grid; at+span <= end+bar/2; at += 4 * bar {
		if e := b.energy(at, at+span); e > most*1.01 {
			best, most = at, e
		}
	}
	return mix.Window{From: int(best * rate), To: int(math.Min(best+span, end) * rate)}, true
}

// energy is that of kick and bass between two times, s, without sections in which the ducks rest: a stretch of which nothing
// is asked is not one to judge.
func (b *Bench) energy(from, to float64) float64 {
	sum := 0.0
	for _, st := range b.Song.Stems {
		if st.Role != session.Kick && st.Role != session.Bass || st.Mute || b.Facts[st.Audio] == nil {
			continue
		}
		e := b.Facts[st.Audio].Energy
		for t := int(from); t < len(e) && float64(t) < to; t++ {
			if !b.Song.Asked(float64(t)) {
				continue
			}
			part := math.Min(float64(t+1), to) - math.Max(float64(t), from)
			sum += float64(e[t]) * part
		}
	}
	return sum
}

// Trouble says in the user's words why kick and bass cannot be judged; empty for other errors.
func Trouble(err error) string {
	switch {
	case errors.Is(err, mix.ErrNoKick):
		return "No stem is said to be the kick. Choose it on Intake, in the column “role”."
	case errors.Is(err, mix.ErrNoBass):
		return "No stem is said to be the bass. Choose it on Intake, in the column “role”."
	case errors.Is(err, mix.ErrSilent):
		return "The kick is silent in this loop. Choose a stretch where it plays on the deck and press “judge it”, or pick another stem as the kick."
	case errors.Is(err, meter.ErrNoHits):
		return "The kick has no hits in this loop: nothing in it rises like one. Choose a stretch where it plays on the deck and press “judge it”, or pick " +
			"another stem as the kick."
	case errors.Is(err, mix.ErrRests):
		return "The ducks rest in all of this loop, so nothing is asked of its hits. Choose a stretch where they do not on the deck and press “judge it”, or let " +
			"them duck here under Sections in the log."
	case errors.Is(err, mix.ErrNoPitch):
		return "The kick has no pitch between 25 and 400 Hz, so it has no home octave to measure in. Is it the right stem?"
	}
	return ""
}

// Line is the line of the first bass, as it is tuned; nil where there is none.
func (b *Bench) Line() []meter.BassNote {
	basses := b.Song.ByRole(session.Bass)
	if len(basses) == 0 || b.Facts[basses[0].Audio] == nil {
		return nil
	}
	return TuneLine(facts.Line(b.Facts[basses[0].Audio], basses[0].MIDI), basses[0])
}

// Loudness measures a solo over the loop.
func (b *Bench) Loudness(ctx context.Context, solo mix.Solo) (mix.Loud, error) {
	return b.Renderer.Loudness(ctx, b.Song, solo, b.Loop)
}

// BassName is the name for the bass in pictures and sentences.
func (b *Bench) BassName() string { return nameOf(b.Song.ByRole(session.Bass), "Bass") }

// KickName is the name for the kick.
func (b *Bench) KickName() string { return nameOf(b.Song.ByRole(session.Kick), "Kick") }

// nameOf is the stem's own name where there is one and it is short.
func nameOf(stems []*session.Stem, plain string) string {
	if len(stems) == 1 && len([]rune(stems[0].Name)) <= 6 {
		return stems[0].Name
	}
	return plain
}

// TuneLine returns a line as the stem's moves tune it.
func TuneLine(line []meter.BassNote, st *session.Stem) []meter.BassNote {
	var tune *move.Tune
	if m := st.Move(session.BassTune); m != nil && !m.Off {
		tune, _ = m.Params.(*move.Tune)
	}
	if tune == nil {
		return line
	}
	out := append([]meter.BassNote(nil), line...)
	for i := range out {
		cents := tune.Cents
		for _, n := range tune.Notes {
			if n.At <= out[i].Start+1e-6 {
				cents = tune.Cents + n.Cents
			}
		}
		out[i].Hz *= math.Pow(2, cents/1200)
		out[i].Note, out[i].Cents = meter.Note(out[i].Hz)
	}
	return out
}

// Alone renders every stem that sounds by itself as it comes out of the master.
func (b *Bench) Alone(ctx context.Context, w mix.Window, each func(st *session.Stem, key string, x audio.Buffer) error) error {
	for i := range b.Song.Stems {
		st := &b.Song.Stems[i]
		if st.Mute {
			continue
		}
		song := b.Song.Clone()
		for k := range song.Stems {
			song.Stems[k].Mute = k != i
		}
		x, key, err := b.Renderer.Solo(mix.Passing(ctx), &song, mix.SoloAll, w)
		if err != nil {
			return err
		}
		if err := each(st, key, x); err != nil {
			return err
		}
	}
	return nil
}
