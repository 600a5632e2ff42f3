package mix

import (
	"context"
	"errors"
	"fmt"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
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
		if heard(song, &st, SoloBoth) {
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
	p.Meter, err = Cached(r.Cache, p.kickKey, func() (*meter.HitMeter, int, error) {
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
	p.Mono, err = Cached(r.Cache, key("mono", p.bassKey), func() ([]float32, int, error) {
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

// Loud is how loud a part of the song is over a window.
type Loud struct {
	Peak       meter.Figure // sample peak, dBFS
	Integrated meter.Figure // LUFS
}

// Loudness measures what is heard of a solo over a window.
func (r *Renderer) Loudness(ctx context.Context, song *session.Song, solo Solo, w Window) (Loud, error) {
	b, k, err := r.Heard(ctx, song, solo, w)
	if err != nil {
		return Loud{meter.None, meter.None}, err
	}
	return Cached(r.Cache, key("loud", k), func() (Loud, int, error) {
		l, err := r.loudness(ctx, song, solo, w, b)
		if err != nil {
			return Loud{meter.None, meter.None}, 0, err
		}
		both := 0.0
		if len(b.Ch) == 1 { // it sounds on both sides of the mix
			both = dsp.PowerDB(2)
		}
		return Loud{Peak: meter.PeakDB(b.Ch...), Integrated: l.IntegratedAt(both)}, 200, nil
	})
}

// loudness measures a solo, rendered as b. Weighting is linear, and bus faders are but gains: what no duck
// touches is weighted once and kept, each ducked stem is weighted once for all solos, and they are added up.
func (r *Renderer) loudness(ctx context.Context, song *session.Song, solo Solo, w Window, b audio.Buffer) (*meter.Loudness, error) {
	l := meter.NewLoudness(b.Rate, len(b.Ch))
	var still, live []contribution
	for i := range song.Stems {
		st := &song.Stems[i]
		switch {
		case solo == SoloKey || !heard(song, st, solo):
		default:
			for _, by := range contributions(song, st, "") {
				if ducked(st) || len(by.through) > 0 {
					live = append(live, by)
				} else {
					still = append(still, by)
				}
			}
		}
	}
	if len(live) == 0 {
		l.Add(b)
		return l, nil
	}
	pad := int(lead * float64(song.Rate))
	wide := Window{w.From - pad, w.To + pad}
	weighted := func(n node) (audio.Buffer, error) {
		return Cached(r.Cache, key("weighted", n.key, pad, w.Frames()), func() (audio.Buffer, int, error) {
			x := meter.Weighted(n.buf.Slice(pad, pad+w.Frames()))
			return x, x.Bytes(), nil
		})
	}
	render := func(by contribution) (node, error) {
		x, k, err := r.chained(song, by.stem, wide, by.through...)
		return node{buf: x, key: k, at: by.at}, err
	}
	sum := audio.New(b.Rate, len(b.Ch), b.Frames())
	if len(still) > 0 {
		nodes := make([]node, len(still))
		for i, by := range still {
			var err error
			if nodes[i], err = render(by); err != nil {
				return nil, err
			}
		}
		n, err := r.sum(nodes, song.Rate, 1, wide)
		if err != nil {
			return nil, err
		}
		x, err := weighted(n)
		if err != nil {
			return nil, err
		}
		place{}.addTo(sum, x, true)
	}
	for i, by := range live {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		n, err := render(by)
		if err != nil {
			return nil, err
		}
		x, err := weighted(n)
		if err != nil {
			return nil, err
		}
		n.at.addTo(sum, x, i == 0 && len(still) == 0)
	}
	l.AddWeighted(sum)
	return l, nil
}

// Heard renders what the deck plays: the window of a solo, cut out of the same render that
// the figures are measured on. What is mono stays so; it is played on both sides.
func (r *Renderer) Heard(ctx context.Context, song *session.Song, solo Solo, w Window) (audio.Buffer, string, error) {
	pad := int(lead * float64(song.Rate))
	b, k, err := r.solo(ctx, song, solo, Window{w.From - pad, w.To + pad}, 1)
	if err != nil {
		return b, "", err
	}
	return b.Slice(pad, pad+w.Frames()), key("heard", k), nil
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
