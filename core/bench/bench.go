// Package bench holds what several stages measure of a song: its loop, kick against bass, the line, their agreement, the
// ledger, the loudness. Each is worked out once, and only when asked.
package bench

import (
	"context"
	"errors"
	"math"
	"sync"

	"mellowthump/core/duck"
	"mellowthump/core/intake"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pocket"
	"mellowthump/core/room"
	"mellowthump/core/session"
)

// Bench is one revision of a song on the bench. It is safe for use by several goroutines; the song must not change.
type Bench struct {
	Renderer *mix.Renderer
	Song     *session.Song
	Facts    map[string]*intake.Analysis // by audio hash, of every stem
	Length   int                         // of the longest stem, frames
	Loop     mix.Window
	Auto     bool       // the loop was found, not chosen
	Chain    move.Chain // of Print, which stands on the master of the song as it was brought here, and not on Song's: what is judged is the premaster

	part   *mix.Window // of a section's bench
	pair   once[*duck.State]
	agree  once[*Agreement]
	cellar once[*room.Cellar]
	cuts   once[[]room.Cut]
	rolls  once[[]room.Roll]
	crowd  once[*room.Crowd]
	mu     sync.Mutex
	ledger map[mix.Window]*once[*levels.Ledger]
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
func New(r *mix.Renderer, song *session.Song, facts map[string]*intake.Analysis) *Bench {
	chain := song.Master.Moves.Without(func(m move.Move) bool { return !session.OfPrint(m) })
	if len(chain) > 0 {
		plain := song.Unprinted()
		song = &plain
	}
	b := &Bench{Renderer: r, Song: song, Chain: chain, Facts: facts, ledger: map[mix.Window]*once[*levels.Ledger]{}}
	for _, st := range song.Stems {
		if a := facts[st.Audio]; a != nil {
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

// Pair judges kick and bass over the loop, before and after the ducks. Where they cannot be judged, Trouble says why.
func (b *Bench) Pair(ctx context.Context) (*duck.State, error) {
	return b.pair.get(ctx, func() (*duck.State, error) { return duck.Measure(ctx, b.Renderer, b.Song, b.Loop) })
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
		return "The kick has no hits in this loop: nothing in it rises like one. Choose a stretch where it plays on the deck and press “judge it”, or pick another stem as the kick."
	case errors.Is(err, mix.ErrRests):
		return "The ducks rest in all of this loop, so nothing is asked of its hits. Choose a stretch where they do not on the deck and press “judge it”, or let them duck here under Sections in the log."
	case errors.Is(err, mix.ErrNoPitch):
		return "The kick has no pitch between 25 and 400 Hz, so it has no home octave to measure in. Is it the right stem?"
	}
	return ""
}

// Agreement is what is found about pitch and phase of kick and bass in the loop.
type Agreement struct {
	Line   []meter.BassNote // of the bass as it is tuned, in the song
	Notes  []pocket.NoteUse
	Nudge  *pocket.Nudge
	Layers []pocket.Layer
	Lead   meter.BassLead // where the bass leads
	Led    meter.BassLead // before the duck, likewise
	Spread meter.Figure   // of the notes' levels, dB
	Steps  int
}

// Agreement works it out; the error is that of Pair where kick and bass cannot be judged.
func (b *Bench) Agreement(ctx context.Context) (*Agreement, error) {
	return b.agree.get(ctx, func() (*Agreement, error) {
		st, err := b.Pair(ctx)
		if err != nil {
			return nil, err
		}
		return b.agreement(ctx, st)
	})
}

func (b *Bench) agreement(ctx context.Context, st *duck.State) (*Agreement, error) {
	a := &Agreement{Spread: meter.None, Line: b.Line()}
	rate := float64(b.Song.Rate)
	a.Notes = pocket.Notes(a.Line, st.After.Hits, float64(b.Loop.From)/rate, float64(b.Loop.To)/rate)
	var err error
	a.Nudge, err = mix.Cached(ctx, b.Renderer.Cache, mix.Key("nudge", st.Without.Key()), func() (*pocket.Nudge, int, error) {
		n, err := pocket.FindNudge(st.Without.Meter, st.Without.Bass)
		return n, 8192, err
	})
	if err != nil {
		return nil, err
	}
	pad := int(0.5 * rate)
	if a.Layers, err = pocket.Layers(ctx, b.Renderer, b.Song, mix.Window{From: b.Loop.From, To: b.Loop.To + pad}); err != nil {
		return nil, err
	}
	a.Spread, a.Steps = pocket.LevelSteps(a.Line, st.Without.Bass20(ctx, b.Renderer), float64(st.Without.Meter.Offset)/rate)
	if b.Song.Leader == session.BassLeads {
		if a.Led, err = duck.Lead(ctx, b.Renderer, st.Without, st.Before, a.Line); err != nil {
			return nil, err
		}
		a.Lead, err = duck.Lead(ctx, b.Renderer, st.Pair, st.After, a.Line)
	}
	return a, err
}

// Line is the line of the first bass, as it is tuned; nil where there is none.
func (b *Bench) Line() []meter.BassNote {
	basses := b.Song.ByRole(session.Bass)
	if len(basses) == 0 || b.Facts[basses[0].Audio] == nil {
		return nil
	}
	return pocket.TuneLine(intake.Line(b.Facts[basses[0].Audio], basses[0].MIDI), basses[0])
}

// Ledger measures the levels over a window.
func (b *Bench) Ledger(ctx context.Context, w mix.Window) (*levels.Ledger, error) {
	b.mu.Lock()
	o := b.ledger[w]
	if o == nil {
		o = &once[*levels.Ledger]{}
		b.ledger[w] = o
	}
	b.mu.Unlock()
	return o.get(ctx, func() (*levels.Ledger, error) { return levels.Measure(ctx, b.Renderer, b.Song, w) })
}

// Loudness measures a solo over the loop.
func (b *Bench) Loudness(ctx context.Context, solo mix.Solo) (mix.Loud, error) {
	return b.Renderer.Loudness(ctx, b.Song, solo, b.Loop)
}

// Sounds is what the files sound like, as far as it bears on levels.
func (b *Bench) Sounds() map[string]levels.Sound {
	out := map[string]levels.Sound{}
	for sha, a := range b.Facts {
		if a.Portrait != nil {
			out[sha] = levels.Sound{Spectrum: a.Portrait.Spectrum, Sustain: a.Portrait.Sustain}
		}
	}
	return out
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

// CommonNote is the note that the bass plays most of the time in the loop, as a pitch that is sure; nil where none is
// known.
func (a *Agreement) CommonNote() *meter.Pitch {
	if a == nil || len(a.Notes) == 0 {
		return nil
	}
	n := a.Notes[0]
	return &meter.Pitch{Hz: n.Hz, Note: n.Note, Cents: n.Cents, Confidence: 1}
}
