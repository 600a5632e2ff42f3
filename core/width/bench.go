package width

import (
	"context"
	"runtime"
	"slices"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/dsp"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// rendered renders a place over the loop: a stem behind its chain, as wide as it is, neither panned nor turned; a bus behind its fader; the mix.
func rendered(ctx context.Context, b *bench.Bench, song *session.Song, at session.At) (audio.Buffer, string, error) {
	switch {
	case at.Stem != "":
		c := song.Clone()
		st := c.Stem(at.Stem)
		st.Pan, st.Fader = 0, 0
		return b.Renderer.Stem(mix.Passing(ctx), &c, st, b.Loop)
	case at.Bus != "":
		return b.Renderer.Solo(mix.Passing(ctx), song, mix.SoloBus(at.Bus), b.Loop)
	}
	return b.Renderer.Solo(mix.Passing(ctx), song, mix.SoloAll, b.Loop)
}

// measured is what a place is between its channels, in a song.
func measured(ctx context.Context, b *bench.Bench, song *session.Song, at session.At) (Figures, audio.Buffer, string, error) {
	x, key, err := rendered(ctx, b, song, at)
	if err != nil {
		return Figures{}, x, "", err
	}
	f, err := mix.Cached(ctx, b.Renderer.Cache, mix.Key("width", key), func() (Figures, int, error) {
		f := Measure(x)
		return f, 4096, nil
	})
	return f, x, key, err
}

// Between is a place between its channels, before and after what Width does there, with the lowest corner that makes it safe.
func Between(ctx context.Context, b *bench.Bench, at session.At) (Row, error) {
	chain, name := b.Song.Chain(at)
	out := Row{At: at, Name: name, LowSide: meter.None}
	if chain == nil {
		return out, nil
	}
	plain := b.Song.Clone()
	k, _ := plain.Chain(at)
	*k = k.Without(session.OfWidth)
	var x audio.Buffer
	var key string
	var err error
	if out.Before, x, key, err = measured(ctx, b, &plain, at); err != nil {
		return out, err
	}
	if out.Now, _, _, err = measured(ctx, b, b.Song, at); err != nil {
		return out, err
	}
	target := b.Song.WidthRules().Correlation
	type corner struct {
		hz float64
		ok bool
	}
	c := corner{ok: true}
	if !out.Before.Safe(target) {
		c, err = mix.Cached(ctx, b.Renderer.Cache, mix.Key("side corner", key, target), func() (corner, int, error) {
			mix.Doing(ctx, "Looking for the lowest corner of "+name)
			hz, ok := Corner(x, target)
			return corner{hz, ok}, 16, nil
		})
	}
	out.Corner, out.Curable = c.hz, c.ok
	if at.Stem != "" && !out.Now.Mono && err == nil {
		out.LowSide, err = lowSide(ctx, b, at.Stem)
	}
	return out, err
}

// lowSide is the side of a stem in 20 to 200 Hz as it reaches the mix, dBFS.
func lowSide(ctx context.Context, b *bench.Bench, stem string) (meter.Figure, error) {
	x, key, err := b.Renderer.Stem(mix.Passing(ctx), b.Song, b.Song.Stem(stem), b.Loop)
	if err != nil || len(x.Ch) < 2 {
		return meter.None, err
	}
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("low side", key), func() (meter.Figure, int, error) {
		side := make([]float32, x.Frames())
		for i, l := range x.Ch[0] {
			side[i] = (l - x.Ch[1][i]) / 2
		}
		s, err := dsp.Bandpass(20, 200, float64(x.Rate))
		if err != nil {
			return meter.None, 0, err
		}
		dsp.NewFilter(s).Process(side, side)
		e := meter.Energy(side) / float64(max(1, len(side)))
		if e < 1e-12 {
			return meter.None, 16, nil
		}
		return meter.Figure(dsp.PowerDB(e)), 16, nil
	})
}

// Places are the places that Width looks at: the mix, the buses, the stems that sound.
func Places(song *session.Song) []session.At {
	out := []session.At{{}}
	for _, bus := range song.Buses {
		out = append(out, session.At{Bus: bus.ID})
	}
	for _, st := range song.Stems {
		if !st.Mute {
			out = append(out, session.At{Stem: st.ID})
		}
	}
	return out
}

// RowsOn are all places between their channels, in that order.
func RowsOn(ctx context.Context, b *bench.Bench) ([]Row, error) {
	mix.Doing(ctx, "Listening between the channels")
	places := Places(b.Song)
	out := make([]Row, len(places))
	g, ctx := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, at := range places {
		g.Go(func() (err error) {
			out[i], err = Between(ctx, b, at)
			return err
		})
	}
	return out, g.Wait()
}

// Findings is what is told about what stands between the channels: stems first, what they do not explain after them.
func Findings(ctx context.Context, b *bench.Bench) ([]find.Finding, error) {
	rows, err := RowsOn(ctx, b)
	if err != nil {
		return nil, err
	}
	slices.Reverse(rows)
	target := b.Song.WidthRules().Correlation
	var out []find.Finding
	blamed := false
	for _, r := range rows {
		unsafe, wide := Unsafe(b.Song, r, target)
		lowOnly := r.Corner > 0 && r.Before.LowTurned && !r.Before.Delay.Valid() // what stands over it is not upside down: no corner would do else
		if f, ok := Apart(b.Song, r); ok && r.At.Stem != "" && !lowOnly {
			out = append(out, f)
		}
		if wide && (r.At.Stem != "" || !blamed) {
			out, blamed = append(out, unsafe), true
		}
	}
	return out, nil
}

// AllSafe cuts the side of every stem that does not stand mono, each at its own corner; nil where all do.
func AllSafe(ctx context.Context, b *bench.Bench) (session.Edit, int, error) {
	rows, err := RowsOn(ctx, b)
	if err != nil {
		return nil, 0, err
	}
	e := session.Together{Said: "Make all stand mono, each at its own corner"}
	for _, r := range rows {
		if r.At.Stem != "" && r.Corner > 0 && !r.Now.Safe(b.Song.WidthRules().Correlation) {
			e.Edits = append(e.Edits, r.Edit())
		}
	}
	if len(e.Edits) == 0 {
		return nil, 0, nil
	}
	return e, len(e.Edits), nil
}

// PanPair is two stems together, as they are and panned against each other; nil where they are not two.
func PanPair(ctx context.Context, b *bench.Bench, left, right string, pan float64) (*Row, error) {
	l, r := b.Song.Stem(left), b.Song.Stem(right)
	if l == nil || r == nil || left == right {
		return nil, nil
	}
	out := &Row{Name: l.Name + " and " + r.Name}
	for _, to := range []struct {
		f     *Figures
		apply bool
	}{{&out.Before, false}, {&out.Now, true}} {
		c := b.Song.Clone()
		if to.apply {
			var err error
			if c, _, err = session.Made(&c, session.PanPair{Left: left, Right: right, Pan: pan}); err != nil {
				return nil, err
			}
		}
		x, _, err := b.Renderer.Stem(mix.Passing(ctx), &c, c.Stem(left), b.Loop)
		if err != nil {
			return nil, err
		}
		y, _, err := b.Renderer.Stem(mix.Passing(ctx), &c, c.Stem(right), b.Loop)
		if err != nil {
			return nil, err
		}
		sum := audio.New(x.Rate, 2, x.Frames())
		for ch := range sum.Ch {
			for _, z := range []audio.Buffer{x, y} {
				for i, v := range z.Ch[min(ch, len(z.Ch)-1)] {
					sum.Ch[ch][i] += v
				}
			}
		}
		*to.f = Measure(sum)
	}
	return out, nil
}
