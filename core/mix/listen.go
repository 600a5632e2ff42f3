package mix

import (
	"context"
	"math"
	"slices"
	"strings"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Solo says which part of the song is heard: one of those below, or "bus:" and the id of a bus.
type Solo string

// The things the deck plays.
const (
	SoloKick Solo = "kick"
	SoloBass Solo = "bass"
	SoloBoth Solo = "both"
	SoloAll  Solo = "all"

	SoloKey Solo = "key" // what the duck listens to, behind its key filter
)

// SoloBus is what goes through one bus.
func SoloBus(id string) Solo { return Solo("bus:" + id) }

// Bus returns the id of the bus that is soloed, empty where none is.
func (s Solo) Bus() string {
	id, _ := strings.CutPrefix(string(s), "bus:")
	if id == string(s) {
		return ""
	}
	return id
}

// Valid reports whether s is one of these, or a bus.
func (s Solo) Valid() bool {
	return s == SoloKick || s == SoloBass || s == SoloBoth || s == SoloAll || s == SoloKey || s.Bus() != ""
}

// hears reports whether a stem takes part in a solo.
func hears(song *session.Song, st *session.Stem, solo Solo) bool {
	switch solo {
	case SoloKick:
		return st.Role == session.Kick
	case SoloBass:
		return st.Role == session.Bass
	case SoloBoth:
		return st.Role == session.Kick || st.Role == session.Bass
	}
	if bus := solo.Bus(); bus != "" {
		return song.Reaches(st, bus) || slices.ContainsFunc(st.Sends, func(e session.Send) bool {
			return slices.ContainsFunc(song.Path(e.Bus), func(b *session.Bus) bool { return b.ID == bus })
		})
	}
	return true
}

// cutOf says what of the graph a solo is: stems by their role, or what goes through one bus.
func cutOf(song *session.Song, solo Solo) cut {
	if bus := solo.Bus(); bus != "" {
		return cut{bus: bus}
	}
	return cut{stem: func(st *session.Stem) bool { return hears(song, st, solo) }}
}

// Solo renders the part of the mix that is soloed, in stereo: its stems through their buses to
// the master. It returns the key of the result too.
func (r *Renderer) Solo(ctx context.Context, song *session.Song, solo Solo, w Window) (audio.Buffer, string, error) {
	return r.solo(ctx, song, solo, w, 2)
}

// Identity identifies what Solo would render, without rendering it.
func (r *Renderer) Identity(song *session.Song, solo Solo, w Window) (string, error) {
	in, err := r.graph(song).master(cutOf(song, solo))
	if err != nil {
		return "", err
	}
	return key("identity", in.node.id, in.at, w), nil
}

// solo is Solo in at least that many channels: with 1, a part that is mono stays so.
func (r *Renderer) solo(ctx context.Context, song *session.Song, solo Solo, w Window, channels int) (audio.Buffer, string, error) {
	if solo == SoloKey {
		return r.heardKey(ctx, song, w, channels)
	}
	in, err := r.graph(song).master(cutOf(song, solo))
	if err != nil {
		return audio.Buffer{}, "", err
	}
	s, err := r.sum(ctx, []input{in}, song.Rate, w, channels)
	return s.buf, s.key, err
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

// seam is over how much of its end a loop fades into what comes before its start, s.
const seam = 0.005

// Looped is Heard, made to be played round and round: the last 5 ms fade into what comes before the window in the song.
// So the start, which stays as it is to its first sample, follows the end as it follows what is before it: without a
// click, without a gap.
func (r *Renderer) Looped(ctx context.Context, song *session.Song, solo Solo, w Window) (audio.Buffer, error) {
	return r.looped(song.Rate, w, func(wide Window) (audio.Buffer, error) {
		b, _, err := r.solo(ctx, song, solo, wide, 1)
		return b, err
	})
}

func (r *Renderer) looped(rate int, w Window, render func(wide Window) (audio.Buffer, error)) (audio.Buffer, error) {
	pad := int(lead * float64(rate))
	b, err := render(Window{w.From - pad, w.To + pad})
	if err != nil {
		return b, err
	}
	n := min(int(seam*float64(rate)), w.Frames())
	out := audio.New(b.Rate, len(b.Ch), w.Frames())
	for c, x := range out.Ch {
		copy(x, b.Ch[c][pad:])
		join(x, b.Ch[c][pad-n:pad])
	}
	return out, nil
}

// join fades the end of a loop into what comes before its start.
func join(x, before []float32) {
	end := x[len(x)-len(before):]
	for i := range end {
		part := float32(i+1) / float32(len(before))
		end[i] += part * (before[i] - end[i])
	}
}

// Round reads a sound from its start on, so many frames, again and again where it is shorter, made to be played round and
// round: the last 5 ms fade into silence, as nothing comes before its start.
func Round(src audio.Source, frames int) (audio.Buffer, error) {
	f := src.Format()
	if err := f.Check(); err != nil {
		return audio.Buffer{}, err
	}
	out := audio.New(f.Rate, f.Channels, frames)
	have := int(min(f.Frames, int64(frames)))
	if err := src.ReadAt(out.Slice(0, have), 0); err != nil {
		return out, err
	}
	n := min(int(seam*float64(f.Rate)), have)
	for _, x := range out.Ch {
		join(x[:have], make([]float32, n))
		for at := have; at < frames; at += have {
			copy(x[at:], x[:have])
		}
		join(x, make([]float32, n))
	}
	return out, nil
}

// Alike reports whether two songs sound the same in a solo, by what their renders depend on.
func (r *Renderer) Alike(a, b *session.Song, solo Solo) (bool, error) {
	var ids [2]any
	for i, song := range []*session.Song{a, b} {
		if solo == SoloKey {
			trigger, filter := heardBy(song)
			k, err := r.graph(song).keyOf(trigger)
			if err != nil {
				return false, err
			}
			ids[i] = key(k.id, filter)
			continue
		}
		in, err := r.graph(song).master(cutOf(song, solo))
		if err != nil {
			return false, err
		}
		ids[i] = key(in.node.id, in.at)
	}
	return ids[0] == ids[1], nil
}

// Stem renders one stem through its whole chain: clip gain, moves, fader, pan and width.
func (r *Renderer) Stem(ctx context.Context, song *session.Song, st *session.Stem, w Window) (audio.Buffer, string, error) {
	n, err := r.graph(song).stem(st)
	if err != nil {
		return audio.Buffer{}, "", err
	}
	s, err := r.sum(ctx, []input{{n, stemPlace(st)}}, song.Rate, w, 1)
	return s.buf, s.key, err
}

// heardBy is the trigger that the song's duck works at, and what filters it.
func heardBy(song *session.Song) (trigger string, filter *move.KeyFilter) {
	if d, _ := song.Duck(); d != nil {
		return d.Trigger, d.Key
	}
	return session.KickTrigger, nil
}

// heardKey renders what the duck listens to, as it hears it.
func (r *Renderer) heardKey(ctx context.Context, song *session.Song, w Window, channels int) (audio.Buffer, string, error) {
	trigger, filter := heardBy(song)
	sections, err := filter.Filters(float64(song.Rate))
	if err != nil {
		return audio.Buffer{}, "", err
	}
	lead := dsp.Settles(sections)
	x, k, err := r.KeySound(ctx, song, trigger, Window{w.From - lead, w.To})
	if err != nil {
		return audio.Buffer{}, "", err
	}
	k = key("key heard", k, filter, channels)
	b, err := Cached(ctx, r.Cache, k, func() (audio.Buffer, int, error) {
		y := append([]float32(nil), x...)
		dsp.NewFilter(sections).Process(y, y)
		out := audio.Buffer{Rate: song.Rate}
		for range channels {
			out.Ch = append(out.Ch, y[lead:])
		}
		return out, 4 * len(y), nil
	})
	return b, k, err
}

// KeySound renders a trigger's sound over a window, mono, with what identifies it.
func (r *Renderer) KeySound(ctx context.Context, song *session.Song, trigger string, w Window) ([]float32, string, error) {
	k, err := r.graph(song).keyOf(trigger)
	if err != nil {
		return nil, "", err
	}
	x, err := r.keySound(ctx, k, w)
	return x, Key("key", k.id, w), err
}

// Gain returns the gain of a stem's duck over a window, as amplitude, of drawn ones to several triggers the lower; nil where
// it has none, or it is off. It is worked out once for the window of a render and for this.
func (r *Renderer) Gain(ctx context.Context, song *session.Song, st *session.Stem, w Window) ([]float32, error) {
	m, d := st.DuckMove()
	if d == nil || m.Off {
		return nil, nil
	}
	n, err := r.graph(song).stem(st)
	if err != nil {
		return nil, err
	}
	for i, s := range n.steps {
		if s.listens != nil && s.Kind == m.Params.Kind().Name && d.Keyed() {
			c, err := n.carry(w)
			if err != nil {
				return nil, err
			}
			g, err := r.gain(ctx, s.listens, c.keyWindow(i))
			if err != nil {
				return nil, err
			}
			from := w.From - c.keyWindow(i).From
			return g[from : from+w.Frames()], nil
		}
		if g, ok := s.Params.(gainer); ok && !d.Keyed() {
			return g.Gain(n.place(s, w.From), w.Frames())
		}
	}
	return nil, nil
}

// Clicks renders a short click at each hit: a trigger that is steadier than a drum, not to be heard.
func Clicks(hits []int, w Window, rate int) []float32 {
	const hz, seconds, amplitude, decay = 1000.0, 0.010, 0.5, 0.003
	x := make([]float32, w.Frames())
	for _, h := range hits {
		for i := range int(seconds * float64(rate)) {
			if k := h + i - w.From; k >= 0 && k < len(x) {
				s := float64(i) / float64(rate)
				x[k] = float32(amplitude * math.Sin(2*math.Pi*hz*s) * math.Exp(-s/decay))
			}
		}
	}
	return x
}
