package mix

import (
	"context"
	"sync"

	"mellowthump/core/audio"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// heldMost is how long a sound may be that is held in memory, s; a longer one is rendered as often as it is read.
const heldMost = 360

// long reports whether a window is rendered as it is read.
func long(rate int, w Window) bool { return w.Frames() > heldMost*rate }

// passingPass marks a context in which what is rendered is not asked for again soon.
type passingPass struct{}

// Passing is a context in which nothing of what is rendered is kept: for what is looked at once.
func Passing(ctx context.Context) context.Context { return passing(ctx) }

// passing is a context for one pass over a long window, of which nothing is kept.
func passing(ctx context.Context) context.Context {
	return context.WithValue(ctx, passingPass{}, true)
}

// rendered is a mono sound that is rendered as it is read, in memory that does not grow with it.
type rendered struct {
	frames int
	ctx    context.Context
	pass   func(ctx context.Context, f func(x []float32) error) error
}

// Frames is its length.
func (s rendered) Frames() int { return s.frames }

// ahead is how many stretches are rendered while one is looked at.
const ahead = 2

// Read renders it; what comes next is rendered beside what f does. How far it is is said to whoever follows.
func (s rendered) Read(f func(x []float32) error) error {
	ctx, stop := context.WithCancel(passing(s.ctx))
	defer stop()
	tell := following(s.ctx)
	stretches, failed := make(chan []float32, ahead), make(chan error, 1)
	group.Beside(func() {
		defer close(stretches)
		failed <- group.Try(func() error {
			return s.pass(ctx, func(x []float32) error {
				select {
				case stretches <- append([]float32(nil), x...):
					return nil
				case <-ctx.Done():
					return ctx.Err()
				}
			})
		})
	})
	at := 0
	for x := range stretches {
		if err := f(x); err != nil {
			return err
		}
		at += len(x)
		tell(float64(at) / float64(max(1, s.frames)))
	}
	return <-failed
}

// soundOf is a solo over a window as a mono sound, with what identifies it: held where it is short.
func (r *Renderer) soundOf(ctx context.Context, song *session.Song, solo Solo, w Window) (meter.Sound, string, error) {
	in, err := r.graph(song).master(cutOf(song, solo))
	if err != nil {
		return nil, "", err
	}
	return r.sound(ctx, []input{in}, song.Rate, w)
}

func (r *Renderer) sound(ctx context.Context, ins []input, rate int, w Window) (meter.Sound, string, error) {
	if !long(rate, w) {
		s, err := r.sum(ctx, ins, rate, w, 1)
		if err != nil {
			return nil, "", err
		}
		x, err := Cached(ctx, r.shelf(ctx, rate, w), key("mono", s.key), func() ([]float32, int, error) {
			m := s.buf.Mono()
			return m, 4 * len(m), nil
		})
		return meter.Held(x), s.key, err
	}
	ids, places := make([]string, len(ins)), make([]place, len(ins))
	for i, in := range ins {
		ids[i], places[i] = in.node.id, in.at
	}
	return rendered{w.Frames(), ctx, func(ctx context.Context, f func(x []float32) error) error {
		return r.each(ctx, ins, rate, w, 1, func(b audio.Buffer) error { return f(b.Mono()) })
	}}, key("sound", ids, places, w), nil
}

// Key is a trigger's sound over a window, mono, with what identifies it.
func (r *Renderer) Key(ctx context.Context, song *session.Song, trigger string, w Window) (meter.Sound, string, error) {
	k, err := r.graph(song).keyOf(trigger)
	if err != nil {
		return nil, "", err
	}
	id := Key("key", k.id, w)
	if !long(song.Rate, w) {
		x, err := r.keySound(ctx, k, w)
		return meter.Held(x), id, err
	}
	if k.sum != nil {
		s, _, err := r.sound(ctx, k.sum.inputs, song.Rate, w)
		return s, id, err
	}
	return ClickSound(k.clicks, w, song.Rate), id, nil
}

// ClickSound is Clicks as a sound of any length.
func ClickSound(hits []int, w Window, rate int) meter.Sound {
	return rendered{w.Frames(), context.Background(), func(ctx context.Context, f func(x []float32) error) error {
		return pieces(ctx, rate, w, func(_ context.Context, p Window) error { return f(Clicks(hits, p, rate)) })
	}}
}

// listened is the gain of a move that listens, as it is printed.
func (r *Renderer) listened(ctx context.Context, l *listen, w Window) meter.Sound {
	return rendered{w.Frames(), ctx, func(ctx context.Context, f func(x []float32) error) error {
		p := &printer{r: r, ctx: ctx, begins: map[string]int{}, streams: map[string]*stream{}}
		defer p.close()
		p.wantGain(l, w.From)
		rd, err := p.gains(l, w.From)
		for at := w.From; at < w.To && err == nil; at += r.block {
			if err = ctx.Err(); err != nil {
				break
			}
			var b audio.Buffer
			if b, err = rd.next(min(r.block, w.To-at)); err == nil {
				err = f(b.Ch[0])
			}
		}
		return err
	}}
}

// GainOf is Gain as a sound: of amplitudes. nil where the stem has no duck, or it is off.
func (r *Renderer) GainOf(ctx context.Context, song *session.Song, st *session.Stem, w Window) (meter.Sound, error) {
	m, own := st.DuckMove()
	if own == nil || m.Off {
		return nil, nil
	}
	if !long(song.Rate, w) {
		g, err := r.Gain(ctx, song, st, w)
		return meter.Held(g), err
	}
	n, err := r.graph(song).stem(st)
	if err != nil {
		return nil, err
	}
	for _, s := range n.steps {
		switch d, ok := s.Params.(gainer); {
		case s.listens != nil && s.Kind == m.Params.Kind().Name && own.Keyed():
			return r.listened(ctx, s.listens, w), nil
		case ok && !own.Keyed():
			return rendered{w.Frames(), ctx, func(ctx context.Context, f func(x []float32) error) error {
				return pieces(ctx, n.rate, w, func(_ context.Context, p Window) error {
					g, err := d.Gain(n.place(s, p.From), p.Frames())
					if err != nil {
						return err
					}
					return f(g)
				})
			}}, nil
		}
	}
	return nil, nil
}

// Work is what a long piece of work does now and how far it is with it; it is safe for use by several goroutines.
type Work struct {
	Told func(what string, part float64) // called at each change, beside others; nil: it is asked

	mu   sync.Mutex
	what string
	part float64
}

type workKey struct{}

// Watched returns a context in which what is done over a long window is said to w.
func Watched(ctx context.Context, w *Work) context.Context {
	return context.WithValue(ctx, workKey{}, w)
}

// Doing says what is done from now on, in words, to whoever follows.
func Doing(ctx context.Context, what string) {
	if w, ok := ctx.Value(workKey{}).(*Work); ok {
		w.mu.Lock()
		w.what, w.part = what, 0
		w.mu.Unlock()
		w.tell(what, 0)
	}
}

// Did says what part of what is done is over, 0 to 1.
func Did(ctx context.Context, part float64) { following(ctx)(part) }

// Now returns what is done and the part of it that is over, 0 to 1.
func (w *Work) Now() (what string, part float64) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.what, w.part
}

func following(ctx context.Context) func(part float64) {
	w, ok := ctx.Value(workKey{}).(*Work)
	if !ok || ctx.Value(passingPass{}) != nil { // whoever reads the pass says it
		return func(float64) {}
	}
	return func(part float64) {
		w.mu.Lock()
		w.part = part
		what := w.what
		w.mu.Unlock()
		w.tell(what, part)
	}
}

func (w *Work) tell(what string, part float64) {
	if w.Told != nil {
		w.Told(what, part)
	}
}
