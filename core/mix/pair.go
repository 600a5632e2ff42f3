package mix

import (
	"context"
	"errors"
	"fmt"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// lead is how much is rendered before a window, so that filters have settled by its start,
// and after it, so that its last hit ends as it does in the song.
const lead = 0.5 // s

// What keeps kick and bass from being measured against each other.
var (
	ErrNoKick  = errors.New("no stem is said to be the kick")
	ErrNoBass  = errors.New("no stem is said to be the bass")
	ErrSilent  = errors.New("the kick is silent here")
	ErrNoPitch = errors.New("the kick has no pitch to be found between 25 and 400 Hz, so it has no home octave")
)

// Pair is kick and bass as they reach the master, with a lead before and after the window.
type Pair struct {
	Meter   *meter.HitMeter
	Bass    audio.Buffer // mono where every bass is
	Mono    []float32    // of the bass
	Hits    []int        // of the kick, in frames of the buffers, those outside the window too
	Window  Window       // in the song
	Inside  Window       // the window within the buffers
	kickKey string
	bassKey string
}

// Pair renders kick and bass over a window. The error is one of those above, or
// meter.ErrNoHits, where there is nothing to measure.
// Long because each thing that may be missing is told apart.
func (r *Renderer) Pair(ctx context.Context, song *session.Song, w Window) (*Pair, error) {
	trigger := song.TriggerStem()
	switch {
	case trigger == nil:
		return nil, ErrNoKick
	case len(song.ByRole(session.Bass)) == 0:
		return nil, ErrNoBass
	}
	pad := int(lead * float64(song.Rate))
	wide := Window{w.From - pad, w.To + pad}
	p := &Pair{Window: w, Inside: Window{pad, pad + w.Frames()}}
	kick, kickKey, err := r.solo(ctx, song, SoloKick, wide, 1)
	if err != nil {
		return nil, err
	}
	if p.Bass, p.bassKey, err = r.solo(ctx, song, SoloBass, wide, 1); err != nil {
		return nil, err
	}
	hz, err := r.KickHz(song)
	if err != nil {
		return nil, fmt.Errorf("the pitch of %s: %w", trigger.Name, err)
	}
	all, err := r.Hits(song, session.KickTrigger)
	if err != nil {
		return nil, err
	}
	for _, h := range all {
		if h -= wide.From; h >= 0 && h < wide.Frames() {
			p.Hits = append(p.Hits, h)
		}
	}
	var sources []string // what the length of the pair depends on
	for _, st := range song.Stems {
		if hears(song, &st, SoloBoth) {
			sources = append(sources, st.Audio)
		}
	}
	end, err := Cached(r.Cache, key("length", sources, song.Rate), func() (int, int, error) {
		n, err := r.PairLength(song)
		return n, 8, err
	})
	if err != nil {
		return nil, err
	}
	end -= wide.From
	p.kickKey = key("kick", kickKey, hz, p.Hits, p.Inside, end)
	p.Meter, err = Cached(r.shelf(ctx, song.Rate, wide), p.kickKey, func() (*meter.HitMeter, int, error) {
		mono := kick.Mono()
		if !meter.PeakDB(mono).Valid() {
			return nil, 0, ErrSilent
		}
		if len(p.Hits) == 0 {
			return nil, 0, meter.ErrNoHits
		}
		if hz <= 0 {
			return nil, 0, ErrNoPitch
		}
		m, err := meter.NewHitMeter(mono, song.Rate, p.Hits, hz, meter.Range{From: p.Inside.From, To: p.Inside.To, End: end})
		if err != nil {
			return nil, 0, err
		}
		m.Offset = wide.From
		return m, 20 * len(mono), nil
	})
	if err != nil {
		return nil, err
	}
	p.Mono, err = Cached(r.shelf(ctx, song.Rate, wide), key("mono", p.bassKey), func() ([]float32, int, error) {
		m := p.Bass.Mono()
		return m, 4 * len(m), nil
	})
	return p, err
}

// Wide returns the window of the buffers, the lead included.
func (p *Pair) Wide() Window {
	return Window{p.Window.From - p.Inside.From, p.Window.From - p.Inside.From + len(p.Mono)}
}

// Key identifies what was rendered.
func (p *Pair) Key() string { return key("pair", p.kickKey, p.bassKey) }

// Figures measures the pair at every hit of the window.
func (r *Renderer) Figures(p *Pair) (meter.HitFigures, error) {
	return Cached(r.Cache, key("figures", p.Key()), func() (meter.HitFigures, int, error) {
		f := p.Meter.Measure(p.Mono)
		return f, 4*len(f.Bass) + 120*len(f.Hits), nil
	})
}

// Bass20 returns the smoothed amplitude of the pair's bass in 20-150 Hz, one value a ms, from the
// start of its lead on; nil where it cannot be measured.
func (p *Pair) Bass20(r *Renderer) []float32 {
	f, err := r.Figures(p)
	if err != nil {
		return nil
	}
	return f.Bass
}
