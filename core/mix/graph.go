package mix

import (
	"fmt"
	"slices"

	"mellowthump/core/move"
	"mellowthump/core/session"
)

// node is one place of the song's graph: a stem behind its chain, a bus or the master behind theirs, or the sum that a
// trigger is heard as. Its faders are on the edges that lead away from it.
type node struct {
	name   string
	rate   int
	bpm    float64
	audio  string  // of a stem: its file
	gain   float64 // of a stem: source and clip, dB
	inputs []input // of all others: what is added up
	steps  []step
	alone  bool   // it is the slow part of a chain, apart from the rest
	live   bool   // it holds a duck: what is worked on, and changes most
	id     string // hash of all that its sound depends on, but for the window
}

// input is an edge of the graph: a node at the gain, pan and width at which it is added up.
type input struct {
	node *node
	at   place
}

// step is a move of a chain with what it needs worked out.
type step struct {
	Params  move.Params
	Kind    string
	Hits    []int
	Key     string  // id of what it listens to
	listens *listen // nil where it listens to nothing
}

// listen is a move that listens, and what it hears.
type listen struct {
	params move.Listener
	key    *keyNode
	rate   int
	bpm    float64
	id     string
}

// keyNode is a trigger's sound: the sum of its stems, or clicks.
type keyNode struct {
	sum    *node
	clicks []int // frames; where sum is nil
	rate   int
	id     string
}

// graph makes the nodes of one song, each stem's once.
type graph struct {
	r     *Renderer
	song  *session.Song
	stems map[string]*node
}

func (r *Renderer) graph(song *session.Song) *graph {
	return &graph{r: r, song: song, stems: map[string]*node{}}
}

// cut says what of the graph is heard: all of it, some stems, or what goes through one bus.
type cut struct {
	stem func(*session.Stem) bool // nil: all
	bus  string                   // empty: all
}

// seal works out the node's id.
func (n *node) seal() *node {
	type edge struct {
		ID string
		At place
	}
	edges := make([]edge, len(n.inputs))
	for i, in := range n.inputs {
		edges[i] = edge{in.node.id, in.at}
		n.live = n.live || in.node.live
	}
	bpm := 0.0
	if len(n.steps) > 0 { // it turns nothing else
		bpm = n.bpm
	}
	n.id = key("node", n.audio, n.rate, bpm, n.gain, edges, n.steps)
	return n
}

// stem returns the node of a stem.
func (g *graph) stem(st *session.Stem) (*node, error) {
	if n := g.stems[st.ID]; n != nil {
		return n, nil
	}
	n := &node{name: st.Name, rate: g.song.Rate, bpm: g.song.BPM, audio: st.Audio, gain: st.Source + st.Clip}
	var err error
	if n.steps, n.live, err = g.steps(st.Moves, st); err != nil {
		return nil, fmt.Errorf("the moves of %s: %w", st.Name, err)
	}
	g.stems[st.ID] = n.seal()
	return n, nil
}

// steps works out what the moves of a chain need; st is the stem whose it is, nil for a bus or the master. live reports
// whether one of them is a duck.
func (g *graph) steps(chain move.Chain, st *session.Stem) (out []step, live bool, err error) {
	for _, m := range chain {
		if m.Off {
			continue
		}
		s := step{Params: m.Params, Kind: m.Params.Kind().Name} // the id and the reason do not sound
		if d, ok := m.Params.(*move.Duck); ok {
			live = true
			if d, err = d.AtTempo(g.song.BPM); err != nil {
				return nil, false, err
			}
			s.Params = d
		}
		need := m.Params.Needs()
		if need.Sound {
			l := s.Params.(move.Listener)
			k, err := g.keyOf(need.Trigger)
			if err != nil {
				return nil, false, err
			}
			s.listens = &listen{params: l, key: k, rate: g.song.Rate, bpm: g.song.BPM, id: key("listens", l, k.id, g.song.Rate)}
			s.Params, s.Key = l.Carrier(), s.listens.id
		} else if s.Hits, err = g.r.hitsFor(g.song, need, st); err != nil {
			return nil, false, err
		} else if d, ok := s.Params.(*move.Duck); ok {
			g.song.Shallow(d, s.Hits)
		}
		out = append(out, s)
	}
	return lowest(out), live, nil
}

// lowest makes one step of drawn ducks that follow each other: where they overlap the lower gain counts.
func lowest(steps []step) []step {
	var out []step
	for _, s := range steps {
		d, ok := s.Params.(*move.Duck)
		if n := len(out); ok && n > 0 {
			switch before := out[n-1].Params.(type) {
			case *move.Duck:
				out[n-1] = step{Params: &move.Lowest{Ducks: []*move.Duck{before, d}, Hits: [][]int{out[n-1].Hits, s.Hits}}, Kind: s.Kind}
				continue
			case *move.Lowest:
				before.Ducks, before.Hits = append(before.Ducks, d), append(before.Hits, s.Hits)
				continue
			}
		}
		out = append(out, s)
	}
	return out
}

// gainer is a duck whose gain is known before it is rendered.
type gainer interface {
	Gain(p move.Place, frames int) ([]float32, error)
}

// bus returns the node of a bus as far as it is heard: nil where nothing goes through it.
func (g *graph) bus(b *session.Bus, c cut) (*node, error) {
	n := &node{name: b.Name, rate: g.song.Rate, bpm: g.song.BPM}
	var err error
	if n.inputs, err = g.inputs(b.ID, c); err != nil || len(n.inputs) == 0 {
		return nil, err
	}
	if n.steps, n.live, err = g.steps(b.Moves, nil); err != nil {
		return nil, fmt.Errorf("the moves of %s: %w", b.Name, err)
	}
	return n.seal(), nil
}

// master returns the master as far as it is heard, behind its chain, at its fader.
func (g *graph) master(c cut) (input, error) {
	n, err := g.into("", c)
	return input{n, place{DB: g.song.Master.Fader}}, err
}

// into returns the node of a bus, or of the master where id is empty, even where nothing goes through it.
func (g *graph) into(id string, c cut) (*node, error) {
	if b := g.song.Bus(id); b != nil {
		n, err := g.bus(b, c)
		if n == nil && err == nil {
			n = (&node{name: b.Name, rate: g.song.Rate, bpm: g.song.BPM}).seal()
		}
		return n, err
	}
	n := &node{name: "the master", rate: g.song.Rate, bpm: g.song.BPM}
	var err error
	if n.inputs, err = g.inputs("", c); err != nil {
		return nil, err
	}
	if n.steps, n.live, err = g.steps(g.song.Master.Moves, nil); err != nil {
		return nil, fmt.Errorf("the moves of the master: %w", err)
	}
	return n.seal(), nil
}

// inputs lists what goes to a bus and is heard: stems and sends in the song's order, then buses. Where one bus is
// heard alone, what lies on its way to the master carries it and nothing else.
func (g *graph) inputs(bus string, c cut) ([]input, error) {
	only := ""
	if c.bus != "" && bus != c.bus {
		way := g.song.Path(c.bus)
		for i, b := range way {
			next := ""
			if i+1 < len(way) {
				next = way[i+1].ID
			}
			if next == bus {
				only = b.ID
			}
		}
	}
	var out []input
	for i := range g.song.Stems {
		st := &g.song.Stems[i]
		if only != "" || st.Mute || c.stem != nil && !c.stem(st) {
			continue
		}
		for _, at := range arrivals(st, bus) {
			n, err := g.stem(st)
			if err != nil {
				return nil, err
			}
			out = append(out, input{n, at})
		}
	}
	for i := range g.song.Buses {
		b := &g.song.Buses[i]
		if b.Bus != bus || b.Mute || only != "" && b.ID != only {
			continue
		}
		n, err := g.bus(b, c)
		if err != nil {
			return nil, err
		}
		if n != nil {
			out = append(out, input{n, place{DB: b.Fader}})
		}
	}
	return out, nil
}

// arrivals lists the places at which a stem comes straight to a bus: by its own way, and by sends.
func arrivals(st *session.Stem, bus string) []place {
	var out []place
	if st.Bus == bus {
		out = append(out, stemPlace(st))
	}
	for _, e := range st.Sends {
		if e.Bus != bus {
			continue
		}
		at := place{DB: e.Level}
		if !e.Pre {
			at = stemPlace(st)
			at.DB += e.Level
		}
		out = append(out, at)
	}
	return out
}

// keyOf returns a trigger's sound: its stems at the end of their moves, before or behind their faders, mono. A grid, and
// hits changed by hand, are heard as clicks. Nothing comes of a trigger that does not arrive.
func (g *graph) keyOf(trigger string) (*keyNode, error) {
	t := g.song.Trigger(trigger)
	if t == nil {
		t = &session.Trigger{ID: session.KickTrigger}
	}
	k := &keyNode{rate: g.song.Rate}
	if t.Clicks() || len(t.Added)+len(t.Removed) > 0 {
		var err error
		k.clicks, err = g.r.Hits(g.song, trigger)
		k.id = key("clicks", k.clicks, k.rate)
		return k, err
	}
	k.sum = &node{name: t.Name, rate: g.song.Rate}
	for _, st := range g.song.Sources(t) {
		if t.At != "" && !g.song.Reaches(st, t.At) {
			continue
		}
		n, err := g.stem(st)
		if err != nil {
			return nil, err
		}
		at := place{}
		if t.Post || t.Bus != "" { // what a bus carries has gone through the faders
			at = stemPlace(st)
		}
		k.sum.inputs = append(k.sum.inputs, input{n, at})
	}
	k.id = k.sum.seal().id
	return k, nil
}

// linear reports whether what comes to a bus ("" is the master) is the sum of what its stems come to alone: all moves
// on the way are linear. How a stem's own chain bends its sound does not matter.
func linear(song *session.Song, bus string) bool {
	for i := range song.Buses {
		b := &song.Buses[i]
		inside := bus == "" || slices.ContainsFunc(song.Path(b.ID), func(p *session.Bus) bool { return p.ID == bus })
		if inside && !b.Moves.Linear() {
			return false
		}
	}
	return bus != "" || song.Master.Moves.Linear()
}
