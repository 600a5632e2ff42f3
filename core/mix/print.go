package mix

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync"

	"mellowthump/core/audio"
	"mellowthump/core/group"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Tap is a place whose sound is printed: a stem behind its chain and fader, a bus behind its own, or the master where
// both are empty; Premaster is the master without what Print puts on it.
type Tap struct {
	Stem, Bus string
	Premaster bool
}

// Print renders a window at several places in one pass, block by block: each block is given to write, one buffer a tap,
// in order. A tap has two channels where anything in it has. What is held in memory does not grow with the window, and
// nothing is cached; the buffers are the printer's own until write returns.
func (r *Renderer) Print(ctx context.Context, song *session.Song, taps []Tap, w Window, write func(blocks []audio.Buffer) error) error {
	ins := make([]input, len(taps))
	g := r.graph(song)
	for i, t := range taps {
		var err error
		if ins[i], err = g.tap(t); err != nil {
			return err
		}
	}
	return r.print(ctx, ins, song.Rate, w, 1, write)
}

// tap returns the edge of the graph that a tap listens to.
func (g *graph) tap(t Tap) (input, error) {
	switch {
	case t.Stem != "":
		st := g.song.Stem(t.Stem)
		if st == nil {
			return input{}, errors.New("that stem is no longer there")
		}
		n, err := g.stem(st)
		return input{n, stemPlace(st)}, err
	case t.Bus != "":
		b := g.song.Bus(t.Bus)
		if b == nil {
			return input{}, errors.New("that bus is no longer there")
		}
		n, err := g.into(b.ID, cut{})
		return input{n, place{DB: b.Fader}}, err
	case t.Premaster:
		plain := g.song.Unprinted()
		return (&graph{r: g.r, song: &plain, stems: g.stems}).master(cut{})
	}
	return g.master(cut{})
}

// print is Print of edges of the graph, each in at least that many channels.
func (r *Renderer) print(ctx context.Context, ins []input, rate int, w Window, channels int, write func([]audio.Buffer) error) (err error) {
	p := &printer{r: r, ctx: ctx, begins: map[string]int{}, streams: map[string]*stream{}}
	defer func() {
		if e := p.close(); err == nil {
			err = e
		}
	}()
	for _, in := range ins { // from where on each place must run: known before any of them does
		p.want(in.node, w.From)
	}
	outs := make([]*summing, len(ins))
	for i, in := range ins {
		if outs[i], err = p.summing([]input{in}, rate, w.From, channels); err != nil {
			return err
		}
	}
	blocks := make([]audio.Buffer, len(ins))
	wait := p.ahead(min(r.block, w.To-w.From))
	defer func() { wait() }() // nothing reads a file that is closed
	for at := w.From; at < w.To; at += r.block {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := min(r.block, w.To-at)
		if err := wait(); err != nil {
			return err
		}
		wait = p.ahead(min(2*r.block, w.To-at)) // this block, which is there, and the next
		for i, o := range outs {
			if blocks[i], err = o.next(n); err != nil {
				return err
			}
		}
		if err := write(blocks); err != nil {
			return err
		}
	}
	return nil
}

// printer makes one stream for each place that is needed, however many read it.
type printer struct {
	r       *Renderer
	ctx     context.Context
	begins  map[string]int // by node or key: the first frame that anybody wants of it
	streams map[string]*stream
	closers []func() error
}

// close closes the files that it reads.
func (p *printer) close() (err error) {
	for _, c := range p.closers {
		if e := c(); err == nil {
			err = e
		}
	}
	return err
}

// stream yields the frames of one place, one after another; readers may stand at different frames of it.
type stream struct {
	make     func(n int) (audio.Buffer, error) // the next n frames
	channels int
	kept     audio.Buffer // what some reader has not had yet
	at       int          // frame of the first that is kept
	readers  []*reader
	alone    bool       // it reads its own file and listens to nothing: it may be made beside others, and ahead of who reads it
	making   sync.Mutex // whoever makes more of it
	mu       sync.Mutex // of what is kept, and where its readers are
}

// reader reads a stream from a frame on.
type reader struct {
	of  *stream
	at  int
	out audio.Buffer
}

func (s *stream) reader(at int) *reader {
	rd := &reader{of: s, at: at}
	s.readers = append(s.readers, rd)
	return rd
}

// lacks is how many frames are not there yet, up to a frame.
func (s *stream) lacks(to int) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return to - s.at - s.kept.Frames()
}

// fill makes what is not there yet, up to a frame.
func (s *stream) fill(to int) error {
	if s.lacks(to) <= 0 {
		return nil
	}
	s.making.Lock()
	defer s.making.Unlock()
	for n := s.lacks(to); n > 0; n = s.lacks(to) {
		b, err := s.make(n)
		if err != nil {
			return err
		}
		s.mu.Lock()
		for c := range s.kept.Ch {
			s.kept.Ch[c] = append(s.kept.Ch[c], b.Ch[c]...)
		}
		s.mu.Unlock()
	}
	return nil
}

// ahead begins to make the next n frames of all that is made alone, as many at once as there are processors, while others are
// made and written; what it returns waits for them.
func (p *printer) ahead(n int) (wait func() error) {
	var g group.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	var all []func() error
	for _, s := range p.streams {
		if !s.alone {
			continue
		}
		to := 0
		for _, rd := range s.readers {
			to = max(to, rd.at+n)
		}
		all = append(all, func() error { return s.fill(to) })
	}
	done := make(chan struct{})
	group.Beside(func() {
		defer close(done)
		for _, f := range all {
			g.Go(f)
		}
	})
	return func() error {
		<-done
		return g.Wait()
	}
}

// next returns the next n frames; the buffer is the reader's own until its next call.
func (rd *reader) next(n int) (audio.Buffer, error) {
	s := rd.of
	if err := s.fill(rd.at + n); err != nil {
		return audio.Buffer{}, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	from := rd.at - s.at
	rd.out.Rate = s.kept.Rate
	for len(rd.out.Ch) < s.channels {
		rd.out.Ch = append(rd.out.Ch, nil)
	}
	for c := range s.kept.Ch {
		rd.out.Ch[c] = append(rd.out.Ch[c][:0], s.kept.Ch[c][from:from+n]...)
	}
	rd.at += n
	first := rd.at
	for _, o := range s.readers {
		first = min(first, o.at)
	}
	if drop := first - s.at; drop > 0 {
		for c := range s.kept.Ch {
			s.kept.Ch[c] = append(s.kept.Ch[c][:0], s.kept.Ch[c][drop:]...)
		}
		s.at = first
	}
	return rd.out, nil
}

// want notes that a node is needed from a frame on, and so all that it is made of.
func (p *printer) want(n *node, start int) {
	if at, ok := p.begins[n.id]; ok && at <= start {
		return
	}
	p.begins[n.id] = start
	c, err := n.carry(Window{start, start})
	if err != nil {
		return // it fails again where the stream is made, and is told there
	}
	for _, in := range n.inputs {
		p.want(in.node, c.fed.From)
	}
	for i, s := range n.steps {
		if l := s.listens; l != nil {
			p.wantGain(l, c.keyWindow(i).From)
		}
	}
}

func (p *printer) wantGain(l *listen, start int) {
	if at, ok := p.begins[l.id]; ok && at <= start {
		return
	}
	p.begins[l.id] = start
	if l.key.sum != nil {
		for _, in := range l.key.sum.inputs {
			p.want(in.node, l.heard(start))
		}
	}
}

// heard is the frame from which a key must be heard so that the gain from start on is right.
func (l *listen) heard(start int) int {
	at := move.Place{Rate: l.rate, BPM: l.bpm, Start: start}
	return start - min(l.params.Listens(at), max(0, start))
}

// reader returns a reader of a node's frames from start on.
func (p *printer) reader(n *node, start int) (*reader, error) {
	if s := p.streams[n.id]; s != nil {
		return s.reader(start), nil
	}
	begin := p.begins[n.id]
	c, err := n.carry(Window{begin, begin})
	if err != nil {
		return nil, fmt.Errorf("printing %s: %w", n.name, err)
	}
	feed, channels, err := p.feed(n, c.fed.From)
	if err != nil {
		return nil, fmt.Errorf("printing %s: %w", n.name, err)
	}
	keys, alone := make([]*reader, len(n.steps)), n.audio != ""
	for i, s := range n.steps {
		if s.listens != nil {
			alone = false
			if keys[i], err = p.gains(s.listens, c.keyWindow(i).From); err != nil {
				return nil, fmt.Errorf("printing %s: %w", n.name, err)
			}
		}
	}
	part := make([][]float32, len(keys))
	step := func(n int) (audio.Buffer, error) {
		x, err := feed(n)
		if err != nil {
			return x, err
		}
		for i, k := range keys {
			if k == nil {
				continue
			}
			g, err := k.next(n)
			if err != nil {
				return x, err
			}
			part[i] = g.Ch[0]
		}
		c.process(x, part)
		return x, nil
	}
	early := begin - c.fed.From + c.latency // frames that come out before the first that is wanted
	s := &stream{at: begin, channels: channels, alone: alone, kept: audio.New(n.rate, channels, 0)}
	s.make = p.skipping(early, step)
	p.streams[n.id] = s
	return s.reader(start), nil
}

// skipping is step without the frames that come out before the first that is wanted.
func (p *printer) skipping(early int, step func(int) (audio.Buffer, error)) func(int) (audio.Buffer, error) {
	return func(n int) (audio.Buffer, error) {
		for early > 0 {
			k := min(early, p.r.block)
			if _, err := step(k); err != nil {
				return audio.Buffer{}, err
			}
			early -= k
		}
		return step(n)
	}
}

// feed returns what yields the frames that go into a node's chain, from a frame on, and their channels: a file, or a sum.
func (p *printer) feed(n *node, from int) (func(int) (audio.Buffer, error), int, error) {
	if n.audio == "" {
		sum, err := p.summing(n.inputs, n.rate, from, 1)
		if err != nil {
			return nil, 0, err
		}
		return sum.next, sum.channels, nil
	}
	in, closeFile, err := p.r.open(n.audio, n.rate)
	if err != nil {
		return nil, 0, err
	}
	p.closers = append(p.closers, closeFile)
	channels := in.Format().Channels
	var buf audio.Buffer
	return func(k int) (audio.Buffer, error) {
		if buf.Frames() < k {
			buf = audio.New(n.rate, channels, k)
		}
		x := buf.Slice(0, k)
		err := in.ReadAt(x, int64(from))
		from += k
		return x, err
	}, channels, nil
}

// summing adds inputs up, block by block.
type summing struct {
	readers  []*reader
	at       []place
	channels int
	buf      audio.Buffer
	rate     int
}

func (p *printer) summing(ins []input, rate, start, channels int) (*summing, error) {
	s := &summing{channels: channels, rate: rate}
	for _, in := range ins {
		rd, err := p.reader(in.node, start)
		if err != nil {
			return nil, err
		}
		s.readers, s.at = append(s.readers, rd), append(s.at, in.at)
		s.channels = max(s.channels, in.at.channels(rd.of.channels))
	}
	return s, nil
}

// next returns the sum of the next n frames; the buffer is the sum's own until its next call.
func (s *summing) next(n int) (audio.Buffer, error) {
	if s.buf.Frames() < n {
		s.buf = audio.New(s.rate, s.channels, n)
	}
	out := s.buf.Slice(0, n)
	if len(s.readers) == 0 {
		for _, ch := range out.Ch {
			audio.Clear(ch)
		}
	}
	for i, rd := range s.readers {
		b, err := rd.next(n)
		if err != nil {
			return out, err
		}
		s.at[i].addTo(out, b, i == 0)
	}
	return out, nil
}

// gains returns a reader of the gain of a move that listens, from start on.
func (p *printer) gains(l *listen, start int) (*reader, error) {
	if s := p.streams[l.id]; s != nil {
		return s.reader(start), nil
	}
	begin := p.begins[l.id]
	from := l.heard(begin)
	g, err := l.params.Listen(move.Place{Rate: l.rate, BPM: l.bpm, Start: begin})
	if err != nil {
		return nil, err
	}
	var sound *summing
	if l.key.sum != nil {
		if sound, err = p.summing(l.key.sum.inputs, l.rate, from, 1); err != nil {
			return nil, err
		}
	}
	at := from
	step := func(n int) (audio.Buffer, error) {
		x := Clicks(l.key.clicks, Window{at, at + n}, l.rate)
		if sound != nil {
			b, err := sound.next(n)
			if err != nil {
				return b, err
			}
			x = b.Mono()
		}
		at += n
		return audio.Buffer{Rate: l.rate, Ch: [][]float32{g.Gains(x)}}, nil
	}
	early := begin - from + g.Ahead()
	s := &stream{at: begin, channels: 1, kept: audio.New(l.rate, 1, 0)}
	s.make = p.skipping(early, step)
	p.streams[l.id] = s
	return s.reader(start), nil
}
