package mix

import (
	"context"
	"slices"

	"mellowthump/core/audio"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// What follows a hand: a song is played as the sum of its parts, each at its own gain, so that a gain that is being drawn
// is heard before it is rendered. Where the moves of buses and master are linear the sum is what the render will be; where
// they are not, or where a bent sound is ducked before it is bent, it is near it.

// Handled lists the stems whose gain hands change: kicks and basses that are heard in a solo.
func Handled(song *session.Song, solo Solo) (out []*session.Stem) {
	for i := range song.Stems {
		if st := &song.Stems[i]; !st.Mute && (st.Role == session.Kick || st.Role == session.Bass) && hears(song, st, solo) {
			out = append(out, st)
		}
	}
	return out
}

// handGain reports whether a move is a gain over the whole spectrum that hands change.
func handGain(m move.Move) bool {
	switch p := m.Params.(type) {
	case *move.Duck:
		return p.Wide()
	case *move.Fade:
		return true
	}
	return false
}

// Part renders one of the parts that a solo is made of, as Looped: a stem that is Handled, without the gains that hands
// change; or, with an empty id, all else.
func (r *Renderer) Part(ctx context.Context, song *session.Song, solo Solo, id string, w Window) (audio.Buffer, error) {
	handled := map[string]bool{}
	for _, st := range Handled(song, solo) {
		handled[st.ID] = true
	}
	c := cutOf(song, solo)
	within := c.stem
	c.stem = func(st *session.Stem) bool {
		return (within == nil || within(st)) && (id == "" && !handled[st.ID] || id != "" && st.ID == id)
	}
	if id != "" {
		full := *song
		full.Stems = slices.Clone(song.Stems)
		if st := full.Stem(id); st != nil {
			st.Moves = st.Moves.Without(handGain)
		}
		song = &full
	}
	return r.looped(song.Rate, w, func(wide Window) (audio.Buffer, error) {
		in, err := r.graph(song).master(c)
		if err != nil {
			return audio.Buffer{}, err
		}
		s, err := r.sum(ctx, []input{in}, song.Rate, wide, 1)
		return s.buf, err
	})
}

// PartGain is the product of a stem's gains that hands change over a window: amplitudes, one a millisecond; nil where it
// has none.
func (r *Renderer) PartGain(ctx context.Context, song *session.Song, st *session.Stem, w Window) ([]float32, error) {
	n, err := r.graph(song).stem(st)
	if err != nil {
		return nil, err
	}
	c, err := n.carry(w)
	if err != nil {
		return nil, err
	}
	var out []float32
	for i, s := range n.steps {
		var gain []float32
		switch p := s.Params.(type) {
		case gainer:
			gain, err = p.Gain(n.place(s, w.From), w.Frames())
		case *move.Fade:
			gain, err = ones(p, n.place(s, w.From), w.Frames())
		default:
			if s.listens == nil || s.Kind != "duck" || !s.listens.params.(*move.Duck).Wide() {
				continue
			}
			if gain, err = r.gain(ctx, s.listens, c.keyWindow(i)); err == nil {
				gain = gain[w.From-c.keyWindow(i).From:]
			}
		}
		if err != nil {
			return nil, err
		}
		if out == nil {
			out = make([]float32, w.Frames()*1000/song.Rate+1)
			for k := range out {
				out[k] = 1
			}
		}
		for k := range out {
			out[k] *= gain[min(k*song.Rate/1000, w.Frames()-1)]
		}
	}
	return out, nil
}

// ones is what a fade makes of ones: its gain.
func ones(f *move.Fade, at move.Place, frames int) ([]float32, error) {
	p, err := f.Processor(at)
	if err != nil {
		return nil, err
	}
	x := audio.New(at.Rate, 1, frames)
	for i := range x.Ch[0] {
		x.Ch[0][i] = 1
	}
	p.Process(x, audio.Buffer{})
	return x.Ch[0], nil
}
