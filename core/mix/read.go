package mix

import (
	"context"
	"fmt"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/group"
	"mellowthump/core/move"
)

// sound is a rendered window with what identifies it.
type sound struct {
	buf audio.Buffer
	key string
}

// place says where a step's processor works that starts at a frame.
func (n *node) place(s step, start int) move.Place {
	return move.Place{Rate: n.rate, BPM: n.bpm, Hits: s.Hits, Start: start}
}

// begins returns the frame from which a node's chain must run so that what comes out from start on is right: the memory
// of its moves, folded from the last to the first. Before the song there is nothing to remember.
func (n *node) begins(start int) int {
	from := start
	for i := len(n.steps) - 1; i >= 0; i-- {
		from -= n.steps[i].Params.Memory(n.place(n.steps[i], from))
	}
	return max(from, min(0, start))
}

// carriage is a chain set up for a window: its processors start at the first frame that is fed to them, and what comes
// out is latency frames late.
type carriage struct {
	fed     Window // what is taken in
	procs   []move.Processor
	late    []int // of what reaches each processor
	latency int
	gain    float32
}

// carry sets a node's chain up for a window.
func (n *node) carry(w Window) (*carriage, error) {
	c := &carriage{fed: Window{From: n.begins(w.From)}, gain: float32(dsp.Gain(n.gain))}
	for _, s := range n.steps {
		p, err := s.Params.Processor(n.place(s, c.fed.From-c.latency))
		if err != nil {
			return nil, err
		}
		c.procs, c.late = append(c.procs, p), append(c.late, c.latency)
		c.latency += p.Latency()
	}
	c.fed.To = w.To + c.latency
	return c, nil
}

// keyWindow is the window of a step's gain: what reaches the step is late by the moves before it, and so is its gain.
func (c *carriage) keyWindow(step int) Window {
	return Window{c.fed.From - c.late[step], c.fed.To - c.late[step]}
}

// process takes a block through the chain, in place; keys are the gains of the steps that listen, nil for all others.
func (c *carriage) process(x audio.Buffer, keys [][]float32) {
	if c.gain != 1 {
		for _, ch := range x.Ch {
			for i := range ch {
				ch[i] *= c.gain
			}
		}
	}
	for k, p := range c.procs {
		key := audio.Buffer{Rate: x.Rate}
		if keys[k] != nil {
			key.Ch = [][]float32{keys[k]}
		}
		p.Process(x, key)
	}
}

// run takes what is fed through the chain, block by block, and returns the frames of the window.
func (c *carriage) run(in audio.Buffer, keys [][]float32, w Window, block int) audio.Buffer {
	out := audio.New(in.Rate, len(in.Ch), in.Frames())
	part := make([][]float32, len(keys))
	for at := 0; at < in.Frames(); at += block {
		end := min(at+block, in.Frames())
		x := out.Slice(at, end)
		for ch := range x.Ch {
			copy(x.Ch[ch], in.Ch[ch][at:end])
		}
		for k, g := range keys {
			if part[k] = nil; g != nil {
				part[k] = g[at:end]
			}
		}
		c.process(x, part)
	}
	from := w.From - c.fed.From + c.latency
	return out.Slice(from, from+w.Frames())
}

// read renders a window of a node behind its chain, in at least that many channels where it is a sum.
func (r *Renderer) read(ctx context.Context, n *node, w Window, channels int) (sound, error) {
	if err := ctx.Err(); err != nil {
		return sound{}, err
	}
	if len(n.steps) == 0 && n.gain == 0 { // an untouched stem is its source, to the bit
		if n.audio == "" {
			return r.sum(ctx, n.inputs, n.rate, w, channels)
		}
		b, err := r.source(ctx, n.audio, n.rate, w)
		return sound{b, key("source", n.audio, n.rate, w)}, err
	}
	if n.audio != "" {
		channels = 0
	}
	k := key("read", n.id, w, channels)
	b, err := Cached(ctx, r.shelf(ctx, n.rate, w), k, func() (audio.Buffer, int, error) {
		pre, n := n.apart()
		c, err := n.carry(w)
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		var in sound
		if pre != nil {
			in, err = r.cells(ctx, pre, c.fed)
		} else if n.audio != "" {
			in.buf, err = r.source(ctx, n.audio, n.rate, c.fed)
		} else {
			in, err = r.sum(ctx, n.inputs, n.rate, c.fed, channels)
		}
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		keys, err := r.keys(ctx, n, c)
		if err != nil {
			return audio.Buffer{}, 0, err
		}
		return c.run(in.buf, keys, w, r.block), in.buf.Bytes(), nil
	})
	return sound{b, k}, err
}

// apart parts a stem whose first move is slow into that move and the rest of it, so that what follows may change without it;
// pre is nil where there is nothing to part.
func (n *node) apart() (pre, rest *node) {
	if n.audio == "" || len(n.steps) == 0 || !n.steps[0].Params.Kind().Slow || n.alone {
		return nil, n
	}
	pre = (&node{name: n.name, rate: n.rate, bpm: n.bpm, audio: n.audio, steps: n.steps[:1], alone: true}).seal()
	after := *n
	after.steps = n.steps[1:]
	return pre, &after
}

// cellSeconds is the length of the pieces in which the slow part of a chain is kept.
const cellSeconds = 8

// cells reads a window of the slow part of a chain out of pieces that stand on one grid, so that windows that begin or end
// otherwise share them.
func (r *Renderer) cells(ctx context.Context, n *node, w Window) (sound, error) {
	ctx = context.WithValue(ctx, passingPass{}, nil) // they are kept, whoever passes
	cell := cellSeconds * n.rate
	var out audio.Buffer
	for from := w.From - ((w.From%cell)+cell)%cell; from < w.To; from += cell {
		s, err := r.read(ctx, n, Window{From: from, To: from + cell}, 0)
		if err != nil {
			return s, err
		}
		if out.Ch == nil {
			out = audio.New(n.rate, len(s.buf.Ch), w.Frames())
		}
		a, b := max(from, w.From), min(from+cell, w.To)
		for c := range out.Ch {
			copy(out.Ch[c][a-w.From:], s.buf.Ch[c][a-from:b-from])
		}
	}
	return sound{out, key("cells", n.id, w)}, nil
}

// keys works out the gains of the steps that listen.
func (r *Renderer) keys(ctx context.Context, n *node, c *carriage) ([][]float32, error) {
	out := make([][]float32, len(n.steps))
	for i, s := range n.steps {
		if s.listens == nil {
			continue
		}
		var err error
		if out[i], err = r.gain(ctx, s.listens, c.keyWindow(i)); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// gain works out the gain of a move that listens over a window, as amplitude: once for the sound and for the readouts.
func (r *Renderer) gain(ctx context.Context, l *listen, w Window) ([]float32, error) {
	return Cached(ctx, r.shelf(ctx, l.rate, w), key("gain", l.id, w), func() ([]float32, int, error) {
		at := move.Place{Rate: l.rate, BPM: l.bpm, Start: w.From}
		before := min(l.params.Listens(at), max(0, w.From))
		g, err := l.params.Listen(at)
		if err != nil {
			return nil, 0, err
		}
		x, err := r.keySound(ctx, l.key, Window{w.From - before, w.To + g.Ahead()})
		if err != nil {
			return nil, 0, err
		}
		out := append([]float32(nil), g.Gains(x)[before+g.Ahead():]...)
		return out, 4 * len(out), nil
	})
}

// keySound renders a trigger's sound over a window, mono.
func (r *Renderer) keySound(ctx context.Context, k *keyNode, w Window) ([]float32, error) {
	if k.sum == nil {
		return Clicks(k.clicks, w, k.rate), nil
	}
	s, err := r.sum(ctx, k.sum.inputs, k.rate, w, 1)
	if err != nil {
		return nil, err
	}
	return s.buf.Mono(), nil
}

// part is a rendered input of a sum.
type part struct {
	sound
	at   place
	live bool
}

// sum renders inputs and adds them up, in at least that many channels. Those that no duck touches are added up first,
// and their sum is kept while a duck is worked on.
func (r *Renderer) sum(ctx context.Context, ins []input, rate int, w Window, channels int) (sound, error) {
	parts, err := r.parts(ctx, ins, w)
	if err != nil {
		return sound{}, err
	}
	var still, live []part
	for _, p := range parts {
		channels = max(channels, p.at.channels(len(p.buf.Ch)))
		if p.live {
			live = append(live, p)
		} else {
			still = append(still, p)
		}
	}
	if len(live) > 0 && len(still) > 1 {
		s, err := r.add(ctx, still, rate, w, channels)
		if err != nil {
			return sound{}, err
		}
		parts = append([]part{{sound: s}}, live...)
	}
	return r.add(ctx, parts, rate, w, channels)
}

// parts renders the inputs of a sum: stems beside each other, then buses, which do so themselves.
func (r *Renderer) parts(ctx context.Context, ins []input, w Window) ([]part, error) {
	out := make([]part, len(ins))
	one := func(ctx context.Context, i int) error {
		s, err := r.read(ctx, ins[i].node, w, 1)
		if err != nil {
			return fmt.Errorf("rendering %s: %w", ins[i].node.name, err)
		}
		out[i] = part{s, ins[i].at, ins[i].node.live}
		return nil
	}
	g, inner := group.WithContext(ctx)
	g.SetLimit(2 * workers()) // some wait for the disk, or for what another request renders
	for i, in := range ins {
		if in.node.audio != "" {
			g.Go(func() error { return one(inner, i) })
		}
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	for i, in := range ins {
		if in.node.audio == "" {
			if err := one(ctx, i); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// add adds parts, each at its place, into a buffer of that many channels; a mono part stands in every channel at its
// full level. A single part that nothing changes is passed on as it is.
func (r *Renderer) add(ctx context.Context, parts []part, rate int, w Window, channels int) (sound, error) {
	if len(parts) == 1 && parts[0].at == (place{}) && len(parts[0].buf.Ch) == channels {
		return parts[0].sound, nil
	}
	keys := make([]string, len(parts))
	places := make([]place, len(parts))
	for i, p := range parts {
		keys[i], places[i] = p.key, p.at
	}
	k := key("sum", keys, places, channels, w)
	b, err := Cached(ctx, r.shelf(ctx, rate, w), k, func() (audio.Buffer, int, error) {
		out := audio.New(rate, channels, w.Frames())
		for i, p := range parts {
			p.at.addTo(out, p.buf, i == 0)
		}
		return out, out.Bytes(), nil
	})
	return sound{b, k}, err
}
