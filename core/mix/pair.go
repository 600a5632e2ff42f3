package mix

import (
	"context"
	"errors"
	"fmt"
	"slices"

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
	ErrRests   = errors.New("the ducks rest here, and nothing is asked of the kick's hits")
	ErrNoPitch = errors.New("the kick has no pitch to be found between 25 and 400 Hz, so it has no home octave")
)

// Pair is kick and bass as they reach the master, with a lead before and after the window. A long one is not held: it is
// rendered as it is read.
type Pair struct {
	Meter   *meter.HitMeter
	Bass    meter.Sound // mono
	Hits    []int       // of the kick, in frames of the buffers, those outside the window too; without those of sections in which the ducks rest
	Window  Window      // in the song
	Inside  Window      // the window within the buffers
	kickKey string
	bassKey string
	stereo  func(f func(audio.Buffer) error) error // the bass in its own channels
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
	kick, kickKey, err := r.soundOf(ctx, song, SoloKick, wide)
	if err != nil {
		return nil, err
	}
	if p.Bass, p.bassKey, err = r.soundOf(ctx, song, SoloBass, wide); err != nil {
		return nil, err
	}
	p.stereo = func(f func(audio.Buffer) error) error {
		in, err := r.graph(song).master(cutOf(song, SoloBass))
		if err != nil {
			return err
		}
		return r.each(passing(ctx), []input{in}, song.Rate, wide, 1, f)
	}
	hz, err := r.KickHz(song)
	if err != nil {
		return nil, fmt.Errorf("the pitch of %s: %w", trigger.Name, err)
	}
	all, err := r.Hits(song, session.KickTrigger)
	if err != nil {
		return nil, err
	}
	rest := false
	for _, h := range all {
		if asked := song.Asked(float64(h) / float64(song.Rate)); !asked {
			rest = rest || h >= w.From && h < w.To
			continue
		}
		if h -= wide.From; h >= 0 && h < wide.Frames() {
			p.Hits = append(p.Hits, h)
		}
	}
	if rest && !slices.ContainsFunc(p.Hits, func(h int) bool { return h >= p.Inside.From && h < p.Inside.To }) {
		return nil, ErrRests
	}
	var sources []string // what the length of the pair depends on
	for _, st := range song.Stems {
		if hears(song, &st, SoloBoth) {
			sources = append(sources, st.Audio)
		}
	}
	end, err := Cached(ctx, r.Cache, key("length", sources, song.Rate), func() (int, int, error) {
		n, err := r.PairLength(song)
		return n, 8, err
	})
	if err != nil {
		return nil, err
	}
	end -= wide.From
	p.kickKey = key("kick", kickKey, hz, p.Hits, p.Inside, end)
	met, err := Cached(ctx, r.shelf(ctx, song.Rate, wide), p.kickKey, func() (*meter.HitMeter, int, error) {
		silent, bytes := true, 100*len(p.Hits)+kick.Frames()/10
		if held, ok := kick.(meter.Held); ok {
			silent, bytes = !meter.PeakDB(held).Valid(), 16*len(held)
		} else if err := kick.Read(func(x []float32) error {
			if silent = silent && meter.Peak(x) == 0; !silent {
				return errHeard
			}
			return nil
		}); err != nil && !errors.Is(err, errHeard) {
			return nil, 0, err
		}
		if silent {
			return nil, 0, ErrSilent
		}
		if len(p.Hits) == 0 {
			return nil, 0, meter.ErrNoHits
		}
		if hz <= 0 {
			return nil, 0, ErrNoPitch
		}
		m, err := meter.NewHitMeterOf(kick, song.Rate, p.Hits, hz, meter.Range{From: p.Inside.From, To: p.Inside.To, End: end})
		if err != nil {
			return nil, 0, err
		}
		m.Offset = wide.From
		return m, bytes, nil
	})
	if err != nil {
		return nil, err
	}
	p.Meter = met.WithKick(kick) // the same, read as long as ctx lasts
	return p, nil
}

// errHeard ends a pass of which nothing more need be heard.
var errHeard = errors.New("enough was heard")

// Mono returns the samples of a pair's bass.
func (p *Pair) Mono() ([]float32, error) { return meter.Samples(p.Bass) }

// Cancels reports whether the bass is lost where its channels are added up: of its energy, less than a part is left.
func (p *Pair) Cancels(part float64) (bool, error) {
	both, mono := 0.0, 0.0
	err := p.stereo(func(b audio.Buffer) error {
		if len(b.Ch) != 2 { // nothing can cancel
			return errHeard
		}
		both += meter.Energy(b.Ch[0]) + meter.Energy(b.Ch[1])
		mono += meter.Energy(b.Mono())
		return nil
	})
	if errors.Is(err, errHeard) {
		return false, nil
	}
	return both > 0 && mono < part*both/2, err
}

// Wide returns the window of the buffers, the lead included.
func (p *Pair) Wide() Window {
	return Window{p.Window.From - p.Inside.From, p.Window.From - p.Inside.From + p.Bass.Frames()}
}

// KickKey is what the kick of the pair depends on.
func (p *Pair) KickKey() string { return p.kickKey }

// Key identifies what was rendered.
func (p *Pair) Key() string { return key("pair", p.kickKey, p.bassKey) }

// Figures measures the pair at every hit of the window.
func (r *Renderer) Figures(ctx context.Context, p *Pair) (meter.HitFigures, error) {
	return Cached(ctx, r.Cache, key("figures", p.Key()), func() (meter.HitFigures, int, error) {
		f, err := p.Meter.MeasureOf(p.Bass)
		return f, 4*len(f.Bass) + 120*len(f.Hits), err
	})
}

// Bass20 returns the smoothed amplitude of the pair's bass in 20-150 Hz, one value a ms, from the
// start of its lead on; nil where it cannot be measured.
func (p *Pair) Bass20(ctx context.Context, r *Renderer) []float32 {
	f, err := r.Figures(ctx, p)
	if err != nil {
		return nil
	}
	return f.Bass
}

// Ear is the ear for a rate in Hz and a playback level, see meter.NewEar, kept.
func (r *Renderer) Ear(ctx context.Context, rate int, playback float64) (*meter.Ear, error) {
	return Cached(ctx, r.Cache, key("ear", rate, playback), func() (*meter.Ear, int, error) {
		return meter.NewEar(rate, playback), 2 << 20, nil
	})
}
