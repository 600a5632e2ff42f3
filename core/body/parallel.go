package body

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// CopyUnder is by how much the copy that a parallel move blends in lies under the sound at its place, dB RMS over a window; None where
// one of them is silent.
func CopyUnder(ctx context.Context, r *mix.Renderer, song *session.Song, at session.At, m *move.Parallel, w mix.Window) (meter.Figure, error) {
	x, err := comesTo(ctx, r, song, at, m.Kind(), w)
	if err != nil || x.Frames() == 0 {
		return meter.None, err
	}
	p, err := m.Processor(move.Place{Rate: x.Rate, BPM: song.BPM})
	if err != nil {
		return meter.None, err
	}
	late := p.Latency()
	y := audio.New(x.Rate, len(x.Ch), x.Frames()+late)
	for c, ch := range x.Ch {
		copy(y.Ch[c], ch)
	}
	p.Process(y, audio.Buffer{})
	dry, wet := 0.0, 0.0
	for c, ch := range x.Ch {
		for i, v := range ch {
			d := float64(y.Ch[c][i+late] - v)
			dry, wet = dry+float64(v)*float64(v), wet+d*d
		}
	}
	if dry <= 0 || wet <= 0 {
		return meter.None, nil
	}
	return meter.Figure(dsp.PowerDB(dry / wet)), nil
}

// Shaping puts a way of shaping the attack into the chain of a part's stems: by bands, or in parallel; nothing where it is not one.
func Shaping(song *session.Song, p Part, id string) session.Edit {
	kind := map[string]string{session.BodyAttackBands: "attackbands", session.BodyParallel: "parallel"}[id]
	if kind == "" {
		return nil
	}
	k := move.KindOf(kind)
	out := session.Together{Said: p.Name + ": " + k.Lower()}
	for _, st := range p.Stems(song) {
		out.Edits = append(out.Edits, session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: id, Params: k.Fresh()}})
	}
	return out
}
