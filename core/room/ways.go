package room

import (
	"context"
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/search"
	"mellowthump/core/session"
)

// Way says when a dip works.
type Way string

// The ways.
const (
	Always Way = "always"
	Keyed  Way = "keyed" // while the one that is to be heard sounds
	Held   Way = "held"  // in what the one that makes room holds; its attacks stay
)

// Ways lists them with the words for them.
var Ways = []struct {
	Way   Way
	Label string
}{{Always, "always"}, {Keyed, "while it sounds"}, {Held, "in what is held"}}

// Valid reports whether there is such a way.
func (w Way) Valid() bool { return w == Always || w == Keyed || w == Held }

const (
	keyUnder     = 6.0 // dB under what usually sounds, down to which a dip is whole
	heldUnder    = 3.0
	keyRatio     = 20.0
	keyAttack    = 2.0   // ms
	keyRelease   = 80.0  // ms
	keyReach     = 1.5   // times the covered band, within which the key is listened to
	heldAttack   = 60.0  // ms: what is sooner stays
	heldRelease  = 10.0  // ms: the next attack finds it back
	soundsStep   = 0.01  // s
	soundsWithin = 40.0  // dB under the loudest, down to which a sound counts as there
	quietest     = -80.0 // dB, of a threshold
)

// sounds returns the level of a sound where it is there, dB: the median of the loudest sample of every ten milliseconds that
// come within 40 dB of its loudest. A threshold is set against it. None where there is silence.
func sounds(x []float32, rate int) meter.Figure {
	step := max(1, int(soundsStep*float64(rate)))
	var tops []meter.Figure
	most := meter.Figure(math.Inf(-1))
	for at := 0; at < len(x); at += step {
		if top := meter.PeakDB(x[at:min(at+step, len(x))]); top.Valid() {
			tops, most = append(tops, top), max(most, top)
		}
	}
	var there []meter.Figure
	for _, t := range tops {
		if t >= most-soundsWithin {
			there = append(there, t)
		}
	}
	return meter.Median(there)
}

// chained is what leaves a stem's chain, before its fader: what its moves' thresholds are set against.
func chained(r *mix.Renderer, song *session.Song, id string, w mix.Window) (key string, x Hearing, err error) {
	c := only(song, func(st *session.Stem) bool { return st.ID == id })
	st := c.Stem(id)
	st.Fader, st.Pan, st.Width, st.Bus, st.Sends = 0, 0, 0, "", nil
	c.Master = session.Master{}
	return hearing(r, &c, w)
}

// loudness is how loud what leaves a stem's chain is behind filters where it is there.
func loudness(ctx context.Context, r *mix.Renderer, song *session.Song, id string, w mix.Window, sections []dsp.Biquad) (meter.Figure, error) {
	key, hear, err := chained(r, song, id, w)
	if err != nil {
		return meter.None, err
	}
	return mix.Cached(ctx, r.Cache, mix.Key("loudness behind", key, sections), func() (meter.Figure, int, error) {
		x, err := hear(ctx)
		if err != nil {
			return meter.None, 0, err
		}
		y := x.Mono()
		dsp.NewFilter(sections).Process(y, y)
		return sounds(y, song.Rate), 8, nil
	})
}

// threshold is that of a detector that reduces a sound of a level by at least a range, and one that is under dB softer by that
// range: no more than it needs, or what it does would begin sooner and last longer.
func threshold(level meter.Figure, db, under float64) float64 {
	return math.Round(math.Max(quietest, math.Min(0, float64(level)-under-db*keyRatio/(keyRatio-1))))
}

// keyed is the bell of a dip that works while the other sounds, and how loud that is to it; None where there is nothing to listen to.
func (c *Crowd) keyed(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, d Dip) (b *move.KeyedBell, level meter.Figure, err error) {
	b = &move.KeyedBell{Hz: d.Bell.Hz, Q: d.Bell.Q, Range: move.BigCut, Channels: d.channels(), Ratio: keyRatio, Attack: keyAttack, Release: keyRelease}
	if lo := math.Round(d.Lo / keyReach); lo >= 30 {
		b.High = lo
	}
	if hi := math.Round(d.Hi * keyReach); hi < 0.4*float64(song.Rate) {
		b.Low = hi
	}
	in, _ := wide(song, w)
	s, err := (&move.KeyFilter{High: b.High, Low: b.Low, Slope: 24}).Filters(float64(song.Rate))
	if err != nil {
		return nil, meter.None, err
	}
	level, err = loudness(ctx, r, song, d.Of, in, s)
	return b, level, err
}

// held is the bell of a dip in what the one that makes room holds, likewise.
func (c *Crowd) held(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, d Dip) (b *move.Ring, level meter.Figure, err error) {
	b = &move.Ring{Hz: d.Bell.Hz, Q: d.Bell.Q, Range: move.BigCut, Channels: d.channels(), Ratio: keyRatio, Attack: heldAttack, Release: heldRelease}
	in, _ := wide(song, w)
	s, err := dsp.BandpassRBJ(b.Hz, b.Q, float64(song.Rate))
	if err != nil {
		return nil, meter.None, err
	}
	level, err = loudness(ctx, r, song, d.By, in, []dsp.Biquad{s})
	return b, level, err
}

// bandQ is the Q of a band of which all but a gain is taken away, where that is as wide as the cookbook's bell: Q / A, A^2
// the gain turned over.
func (d Dip) bandQ(db float64) float64 {
	return figure.Tenth(math.Max(0.3, d.Bell.Q*math.Pow(10, -db/40)))
}

func (d Dip) channels() string {
	if d.Mid {
		return "mid"
	}
	return "stereo"
}

// Refused is why a dip cannot stand in a song, in a sentence: as where two would listen to each other.
type Refused struct{ error }

// DipAs is Dip in one of the ways, in both channels or in the middle alone. What it gives back and costs is measured by
// renders of the one that makes room, unless it works always and in both channels. The error is a Refused where the song does not
// take it.
func (c *Crowd) DipAs(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, k Cover, way Way, mid bool) (d Dip, ok bool, err error) {
	d, ok = c.Dip(k)
	if !ok || way == Always && !mid || way == Keyed && k.Of == Voice {
		return d, ok, nil
	}
	d.Way, d.Mid = way, mid
	var of func(db float64) move.Params
	switch way {
	case Keyed:
		b, level, err := c.keyed(ctx, r, song, w, d)
		if err != nil || !level.Valid() {
			return d, false, err
		}
		of = func(db float64) move.Params {
			n := *b
			n.Q, n.Range, n.Threshold = d.bandQ(db), db, threshold(level, db, keyUnder)
			return &n
		}
	case Held:
		b, level, err := c.held(ctx, r, song, w, d)
		if err != nil || !level.Valid() {
			return d, false, err
		}
		of = func(db float64) move.Params {
			n := *b
			n.Q, n.Range, n.Threshold = d.bandQ(db), db, threshold(level, db, heldUnder)
			return &n
		}
	default:
		of = func(db float64) move.Params {
			return &move.MidSide{Channels: "mid", Shape: dsp.Bell, Hz: d.Bell.Hz, DB: -db, Q: d.Bell.Q}
		}
	}
	probe := d
	probe.Params = of(move.BigCut)
	if _, _, err := session.Made(song, probe.Edit(song)); err != nil {
		return d, false, Refused{err}
	}
	key := mix.Key("dip", c.key, k.By, k.Of, way, mid)
	d, err = mix.Cached(ctx, r.Cache, key, func() (Dip, int, error) {
		d, err := c.least(ctx, r, song, w, d, of)
		return d, 512, err
	})
	return d, d.Back > 0, err
}

// least finds the smallest dip of a way by renders.
func (c *Crowd) least(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, d Dip, of func(db float64) move.Params) (Dip, error) {
	now, own := c.audible(d.of, -1, nil), c.audible(d.by, -1, nil)
	in, lead := wide(song, w)
	try := func(tenths int) (back, left float64, err error) {
		t := d
		t.Params = of(figure.Tenth(float64(tenths) * dipStep))
		after := song.Clone()
		if _, err := t.Edit(song).Apply(&after); err != nil {
			return 0, 0, err
		}
		key, x, err := heard(r, &after, is(d.By), in)
		if err != nil {
			return 0, 0, err
		}
		e, err := excited(ctx, r, c.ear, key, x, lead)
		if err != nil {
			return 0, 0, err
		}
		n := c.with(d.by, e)
		return n.audible(d.of, -1, nil) - now, n.audible(d.by, -1, nil), nil
	}
	most := int(math.Round(move.BigCut / dipStep))
	lo, hi := int(dipLeast/dipStep)-1, most
	back, left, err := try(hi)
	if err != nil {
		return d, err
	}
	if d.Half = back >= coverHalf*d.Lost; d.Half {
		if hi, err = search.Least(lo, hi, func(n int) (bool, error) {
			b, l, err := try(n)
			if err != nil || b < coverHalf*d.Lost {
				return false, err
			}
			back, left = b, l
			return true, nil
		}); err != nil {
			return d, err
		}
	}
	d.Back, d.Bell.DB = back, -figure.Tenth(float64(hi)*dipStep)
	d.Params = of(-d.Bell.DB)
	if d.Costs = 0; own > 0 {
		d.Costs = math.Max(0, 1-left/own)
	}
	return d, nil
}

// with returns the crowd with another sound in the place of a part's: its audibility is against the energy that it had.
func (c *Crowd) with(part int, e *Excited) *Crowd {
	n := *c
	n.key = mix.Key(c.key, part, "changed") // its covers are not asked for
	n.each = append([]*Excited(nil), c.each...)
	n.each[part] = e
	n.sum = make([][]float64, len(c.sum))
	for f, w := range c.sum {
		n.sum[f] = make([]float64, len(w))
		for i, v := range w {
			n.sum[f][i] = math.Max(0, v-c.each[part].was[f][i]+e.was[f][i])
		}
	}
	return &n
}
