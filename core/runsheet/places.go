package runsheet

import (
	"context"
	"math"
	"runtime"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/stages"
)

// place is a section on a bench of its own.
type place struct {
	*state
	name string
}

// places puts each section of the song on a bench of its own, once.
func (w *walk) places() []place {
	s := w.at
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.places == nil && len(s.Song.Sections) > 1 {
		for i := range s.Song.Sections {
			if b := s.Section(i); b != nil {
				s.places = append(s.places, place{newState(b), s.Song.Sections[i].Name})
			}
		}
	}
	return s.places
}

// holds says in which sections what a row is for is not as it is asked, before it, and whether it is so in all of them. Both
// are empty where the song has no sections, or no figure of the row's can be taken of them.
func (w *walk) holds(ctx context.Context, own []find.Measure) (in []string, all bool, err error) {
	var asked []find.Measure
	for _, m := range own {
		taken, _ := stages.Figure(m.Figure)
		if b := m.In; taken.Local && (!math.IsInf(b.Lo, 0) || !math.IsInf(b.Hi, 0)) {
			asked = append(asked, m)
		}
	}
	places := w.places()
	if len(asked) == 0 || len(places) < 2 {
		return nil, false, nil
	}
	off := make([]bool, len(places))
	var g group.Group // with no context of its own, as in changes
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i, p := range places {
		g.Go(func() error {
			for _, m := range asked {
				f, err := p.take(ctx, m)
				if err != nil {
					return err
				}
				off[i] = off[i] || m.In.Off(f) > 0
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, false, err
	}
	for i, p := range places {
		if off[i] {
			in = append(in, p.name)
		}
	}
	return in, len(in) == len(places), nil
}

func newState(b *bench.Bench) *state { return &state{Bench: b, known: map[find.Measure]meter.Figure{}} }
