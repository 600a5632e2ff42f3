package mix

import (
	"context"
	"slices"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/group"
	"mellowthump/core/session"
)

// contributions lists how a stem comes to the inside of a bus ("" is the master, behind its fader), where all moves on
// the way are linear: the sum of all stems' contributions is what is there. Faders are added up until a chain is met;
// a chain is passed by the stem alone.
func (g *graph) contributions(st *session.Stem, bus string) ([]input, error) {
	if st.Mute {
		return nil, nil
	}
	n, err := g.stem(st)
	if err != nil {
		return nil, err
	}
	var out []input
	for _, to := range destinations(st) {
		for _, at := range arrivals(st, to) {
			in, ok, err := g.through(input{n, at}, to, bus)
			if err != nil {
				return nil, err
			}
			if ok {
				out = append(out, in)
			}
		}
	}
	return out, nil
}

// destinations are the buses that a stem goes to, its own way first.
func destinations(st *session.Stem) []string {
	out := []string{st.Bus}
	for _, e := range st.Sends {
		if !slices.Contains(out, e.Bus) {
			out = append(out, e.Bus)
		}
	}
	return out
}

// through takes what arrives at a bus on to the inside of another; ok is false where it does not come there.
func (g *graph) through(in input, from, bus string) (out input, ok bool, err error) {
	for _, b := range g.song.Path(from) {
		if in, err = g.behind(in, b.Moves != nil, func() ([]step, bool, error) { return g.steps(b.Moves, nil) }); err != nil {
			return in, false, err
		}
		if b.ID == bus {
			return in, true, nil
		}
		if b.Mute {
			return in, false, nil
		}
		in.at.DB += b.Fader
	}
	if bus != "" {
		return in, false, nil
	}
	m := &g.song.Master
	in, err = g.behind(in, m.Moves != nil, func() ([]step, bool, error) { return g.steps(m.Moves, nil) })
	in.at.DB += m.Fader
	return in, true, err
}

// behind is an edge behind a chain that it passes alone.
func (g *graph) behind(in input, any bool, steps func() ([]step, bool, error)) (input, error) {
	if !any {
		return in, nil
	}
	list, live, err := steps()
	if err != nil || len(list) == 0 {
		return in, err
	}
	n := &node{name: in.node.name, rate: in.node.rate, bpm: g.song.BPM, inputs: []input{in}, steps: list, live: live}
	return input{n.seal(), place{}}, nil
}

// RunningSum measures the master as groups of stems join it one after another, in order. The groups hold stems of the
// song. Where a move on the way is not linear, each sum is rendered through it anew.
func (r *Renderer) RunningSum(ctx context.Context, song *session.Song, groups [][]*session.Stem, w Window) ([]Level, error) {
	if !linear(song, "") {
		return r.runningThrough(ctx, song, groups, w)
	}
	g := r.graph(song)
	parts := make([][]input, len(groups))
	type edge struct {
		ID string
		At place
	}
	ids := make([][]edge, len(groups))
	for i, group := range groups {
		for _, st := range group {
			ins, err := g.contributions(st, "")
			if err != nil {
				return nil, err
			}
			for _, in := range ins {
				parts[i], ids[i] = append(parts[i], in), append(ids[i], edge{in.node.id, in.at})
			}
		}
	}
	return Cached(ctx, r.Cache, key("running sum", ids, w), func() ([]Level, int, error) {
		meters := make([]*levelMeter, len(groups))
		for i := range meters {
			meters[i] = newLevelMeter(song.Rate, 2, w.From)
		}
		err := pieces(ctx, song.Rate, w, func(ctx context.Context, p Window) error {
			return r.joined(ctx, parts, meters, song.Rate, p)
		})
		out := make([]Level, len(groups))
		for i, m := range meters {
			out[i] = m.level()
		}
		return out, 4000 * len(groups), err
	})
}

// joined adds a piece of each group to the sum of those before it and measures each sum, beside the next.
func (r *Renderer) joined(ctx context.Context, parts [][]input, meters []*levelMeter, rate int, p Window) error {
	var g group.Group
	g.SetLimit(workers())
	var last audio.Buffer
	for i := range parts {
		sum := audio.New(rate, 2, p.Frames())
		for c := range last.Ch {
			copy(sum.Ch[c], last.Ch[c])
		}
		for _, in := range parts[i] {
			s, err := r.read(ctx, in.node, p, 1)
			if err != nil {
				return err
			}
			in.at.addTo(sum, s.buf, false)
		}
		last = sum
		g.Go(func() error { meters[i].add(sum); return nil })
	}
	return g.Wait()
}

// runningThrough is RunningSum by renders of the master with the stems that have joined.
func (r *Renderer) runningThrough(ctx context.Context, song *session.Song, groups [][]*session.Stem, w Window) ([]Level, error) {
	joined := map[string]bool{}
	g := r.graph(song)
	out := make([]Level, len(groups))
	for i, group := range groups {
		for _, st := range group {
			joined[st.ID] = true
		}
		in, err := g.master(cut{stem: func(st *session.Stem) bool { return joined[st.ID] }})
		if err != nil {
			return nil, err
		}
		if out[i], err = r.measured(ctx, []input{in}, song.Rate, w, 2); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Share is a stem's part in the peaks of a bus.
type Share struct {
	Stem  *session.Stem
	Share float64 // of the energy at the worst samples, 0 to 1
}

// Shares tells who causes the peaks of a bus ("" is the master) that were measured as l: the share of each stem's
// energy at the worst sample of each of the loudest stretches of 50 ms. Where a move on the way is not linear, a stem's
// energy is that of what goes where it is left out.
func (r *Renderer) Shares(ctx context.Context, song *session.Song, bus string, l Level) ([]Share, error) {
	worst := append([]int(nil), l.worst...)
	sort.Ints(worst)
	g := r.graph(song)
	apart := linear(song, bus)
	var all []frame
	if !apart {
		n, err := g.into(bus, cut{})
		if err != nil {
			return nil, err
		}
		if all, err = r.frames(ctx, input{n, place{}}, worst); err != nil {
			return nil, err
		}
	}
	var out []Share
	total := 0.0
	for i := range song.Stems {
		st := &song.Stems[i]
		energy, err := r.causes(ctx, g, st, bus, worst, all)
		if err != nil {
			return nil, err
		}
		if energy > 0 {
			out = append(out, Share{st, energy})
			total += energy
		}
	}
	for i := range out {
		out[i].Share /= total
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Share > out[j].Share })
	return out, nil
}

// causes is a stem's energy at some frames of a bus, which ascend; all is what is there of everything, nil where the sum
// may be taken apart.
func (r *Renderer) causes(ctx context.Context, g *graph, st *session.Stem, bus string, at []int, all []frame) (float64, error) {
	sum := 0.0
	if all == nil {
		ins, err := g.contributions(st, bus)
		if err != nil {
			return 0, err
		}
		for _, in := range ins {
			f, err := r.frames(ctx, in, at)
			if err != nil {
				return 0, err
			}
			for _, v := range f {
				sum += v.l*v.l + v.r*v.r
			}
		}
		return sum, nil
	}
	if st.Mute || !slices.ContainsFunc(destinations(st), func(to string) bool {
		return bus == "" || slices.ContainsFunc(g.song.Path(to), func(b *session.Bus) bool { return b.ID == bus })
	}) {
		return 0, nil
	}
	n, err := g.into(bus, cut{stem: func(o *session.Stem) bool { return o.ID != st.ID }})
	if err != nil {
		return 0, err
	}
	without, err := r.frames(ctx, input{n, place{}}, at)
	for i, v := range without {
		l, r := all[i].l-v.l, all[i].r-v.r
		sum += l*l + r*r
	}
	return sum, err
}

// frame is one frame in two channels.
type frame struct{ l, r float64 }

// peakWindow is the number of frames rendered around a worst sample.
const peakWindow = 1 << 12

// frames renders some frames of an edge, which ascend.
func (r *Renderer) frames(ctx context.Context, in input, at []int) ([]frame, error) {
	var out []frame
	for i := 0; i < len(at); {
		w := Window{at[i] - at[i]%peakWindow, at[i] - at[i]%peakWindow + peakWindow}
		s, err := r.read(ctx, in.node, w, 1)
		if err != nil {
			return nil, err
		}
		ll, rl, lr, rr := in.at.matrix(len(s.buf.Ch))
		for ; i < len(at) && at[i] < w.To; i++ {
			k := at[i] - w.From
			a, c := s.buf.Ch[0][k], s.buf.Ch[len(s.buf.Ch)-1][k]
			out = append(out, frame{float64(a*ll + c*rl), float64(a*lr + c*rr)})
		}
	}
	return out, nil
}
