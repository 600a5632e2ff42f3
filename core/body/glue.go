package body

import (
	"context"
	"fmt"
	"math"
	"slices"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/search"
	"mellowthump/core/session"
)

// How a bus is held together, common practice: by about 2 dB in the loudest tenth of the time, slowly, not moved by the low end.
const (
	glueTakes   = 2.0 // dB
	glueRatio   = 2.0
	glueKnee    = 6.0
	glueAttack  = 30.0  // ms
	glueRelease = 200.0 // ms
	glueKey     = 150.0 // Hz
	glueLoudest = 0.9   // of the time
	glueDeepest = 30    // dB of the threshold under the loudest sample
)

// Glued is a compressor fitted to a bus or to the mix.
type Glued struct {
	At      session.At
	Name    string
	Move    *move.Compress
	Takes   float64 // dB, of the loudest tenth of the time
	Most    float64 // dB
	Unkeyed float64 // dB that it would take so, its key not filtered
}

// before returns the song in which what comes out is a place's sound before a kind of move: no fader, nothing behind it.
func before(song *session.Song, at session.At, k *move.Kind) (*session.Song, mix.Solo) {
	c := song.Clone()
	chain, _ := c.Chain(at)
	if chain == nil {
		return nil, ""
	}
	*chain = chain.Without(func(m move.Move) bool { return m.Params.Kind().Place() >= k.Place() })
	if at == (session.At{}) {
		c.Master.Fader = 0
		return &c, mix.SoloAll
	}
	c.Master = session.Master{}
	if b := c.Bus(at.Bus); b != nil {
		b.Fader, b.Bus = 0, ""
		return &c, mix.SoloBus(at.Bus)
	}
	for i := range c.Stems {
		c.Stems[i].Mute = c.Stems[i].ID != at.Stem
	}
	st := c.Stem(at.Stem)
	st.Fader, st.Pan, st.Width, st.Bus, st.Sends = 0, 0, 0, "", nil
	return &c, mix.SoloAll
}

// comesTo is the sound of a place before a kind of move, over a window.
func comesTo(ctx context.Context, r *mix.Renderer, song *session.Song, at session.At, k *move.Kind, w mix.Window) (audio.Buffer, error) {
	c, solo := before(song, at, k)
	if c == nil {
		return audio.Buffer{}, nil
	}
	x, _, err := r.Solo(mix.Passing(ctx), c, solo, w)
	return x, err
}

// takes is what a compressor takes of a sound, dB, in the loudest tenth of the time and at most.
func takes(x audio.Buffer, m *move.Compress) (loudest, most float64, err error) {
	key := x
	if m.KeyHz > 0 {
		s, err := dsp.ButterworthHighpass(4, m.KeyHz, float64(x.Rate))
		if err != nil {
			return 0, 0, err
		}
		key = audio.New(x.Rate, len(x.Ch), x.Frames())
		for c, ch := range x.Ch {
			dsp.NewFilter(s).Process(key.Ch[c], ch)
		}
	}
	d := move.NewDetector(move.Compressor{Threshold: m.Threshold, Ratio: m.Ratio, Knee: m.Knee, Attack: m.Attack, Release: m.Release}, 0, float64(x.Rate))
	var all []float64
	step := max(1, x.Rate/1000)
	for i := range x.Frames() {
		top := float32(0)
		for _, ch := range key.Ch {
			top = max(top, ch[i], -ch[i])
		}
		if db := -d.Next(float64(top)); i%step == 0 {
			all = append(all, db)
		}
	}
	if len(all) == 0 {
		return 0, 0, nil
	}
	slices.Sort(all)
	return all[int(glueLoudest*float64(len(all)-1))], all[len(all)-1], nil
}

// Glue fits a compressor to a bus or to the mix: the threshold, in steps of half a decibel, at which it takes about 2 dB in the loudest
// tenth of the time, its key over 150 Hz; a gain after it brings the loudness back. nil where nothing sounds there. The song is one
// without Body's glue at that place.
func Glue(ctx context.Context, r *mix.Renderer, song *session.Song, at session.At, w mix.Window) (*Glued, error) {
	x, err := comesTo(ctx, r, song, at, move.KindOf("compress"), w)
	if err != nil || x.Frames() == 0 {
		return nil, err
	}
	out := &Glued{At: at}
	_, out.Name = song.Chain(at)
	peak := meter.PeakDB(x.Ch...)
	if !peak.Valid() {
		return nil, nil
	}
	hi := int(math.Min(0, math.Ceil(2*float64(peak)))) // half decibels: the lower, the more it takes
	lo := max(-160, hi-2*glueDeepest)
	fit := func(half int) (*move.Compress, float64, float64, error) {
		m := &move.Compress{Threshold: float64(half) / 2, Ratio: glueRatio, Knee: glueKnee, KeyHz: glueKey, Attack: glueAttack, Release: glueRelease, BackHz: 50}
		t, most, err := takes(x, m)
		return m, t, most, err
	}
	little, err := search.Least(lo, hi, func(half int) (bool, error) {
		if err := ctx.Err(); err != nil {
			return false, err
		}
		_, t, _, err := fit(half)
		return t < glueTakes, err
	})
	if err != nil {
		return nil, err
	}
	if out.Move, out.Takes, out.Most, err = fit(little - 1); err != nil {
		return nil, err
	}
	if out.Takes < glueTakes/2 { // nothing sounds over 150 Hz
		return nil, nil
	}
	open := *out.Move
	open.KeyHz = 0
	if out.Unkeyed, _, err = takes(x, &open); err != nil {
		return nil, err
	}
	out.Move.Makeup, err = evenly(ctx, r, song, at, session.BodyGlue, out.Move, w)
	return out, err
}

// evenly is the gain, dB, that makes a place as loud with a move as without it.
func evenly(ctx context.Context, r *mix.Renderer, song *session.Song, at session.At, id string, m move.Params, w mix.Window) (float64, error) {
	solo := mix.SoloAll
	switch {
	case at.Bus != "":
		solo = mix.SoloBus(at.Bus)
	case at.Stem != "":
		c := song.Clone()
		for i := range c.Stems {
			c.Stems[i].Mute = c.Stems[i].ID != at.Stem
		}
		song = &c
	}
	was, err := r.Loudness(ctx, song, solo, w)
	if err != nil {
		return 0, err
	}
	c := song.Clone()
	chain, _ := c.Chain(at)
	*chain = chain.With(move.Move{ID: id, Params: m})
	is, err := r.Loudness(ctx, &c, solo, w)
	if err != nil || !was.Integrated.Valid() || !is.Integrated.Valid() {
		return 0, err
	}
	return figure.Tenth(math.Max(-24, math.Min(24, float64(was.Integrated-is.Integrated)))), nil
}

// Edit puts it in.
func (g *Glued) Edit() session.Edit {
	return session.Together{Said: "Glue " + g.Name + ": " + move.Words(g.Move), Edits: []session.Edit{
		session.SetMove{At: g.At, Move: move.Move{ID: session.BodyGlue, Params: g.Move, Why: "held together by about 2 dB, the low end out of its key"}}}}
}

// Says says what it comes to.
func (g *Glued) Says() string {
	out := fmt.Sprintf("It takes %s dB in the loudest tenth of the time, at most %s", figure.Short(g.Takes), figure.Short(g.Most))
	if g.Unkeyed > g.Takes+0.3 {
		out += fmt.Sprintf("; with the low end in its key it would take %s and pump", figure.Short(g.Unkeyed))
	}
	return out + "."
}

// Banded is a place brought together in three bands.
type Banded struct {
	At   session.At
	Name string
	Move *move.Bands
}

// BandsDepth is the depth that is offered, per cent; common practice.
const BandsDepth = 50.0

// ToBands fits upward and downward compression in three bands to a place: the middles are the medians of each band's level,
// and a gain after it keeps the loudness. nil where nothing sounds there. The song is one without Body's bands at that place.
func ToBands(ctx context.Context, r *mix.Renderer, song *session.Song, at session.At, depth float64, w mix.Window) (*Banded, error) {
	k := move.KindOf("bands")
	x, err := comesTo(ctx, r, song, at, k, w)
	if err != nil || x.Frames() == 0 {
		return nil, err
	}
	m := k.New().(*move.Bands)
	m.Depth = depth
	if ok, err := m.Fit(x); err != nil || !ok {
		return nil, err
	}
	out := &Banded{At: at, Move: m}
	_, out.Name = song.Chain(at)
	m.Gain, err = evenly(ctx, r, song, at, session.BodyBands, m, w)
	return out, err
}

// Edit puts it in.
func (b *Banded) Edit() session.Edit {
	return session.Together{Said: b.Name + ": " + move.Words(b.Move), Edits: []session.Edit{
		session.SetMove{At: b.At, Move: move.Move{ID: session.BodyBands, Params: b.Move, Why: "what is soft comes up, what is loud comes down"}}}}
}
