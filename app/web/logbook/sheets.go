package logbook

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/core/group"
	"mellowthump/core/mix"
	"mellowthump/core/runsheet"
)

const (
	sheetsKept = 4                // sheets that are held, the last asked for
	nobody     = 10 * time.Second // after that a sheet that nobody asks for is not made on
)

// sheets are the run sheets that are being made, or were made last. A page asks for the rows that it has not; an apply and the
// deck ask for the same sheet.
type sheets struct {
	*shell.Server
	mu  sync.Mutex
	all []*making
}

// making is one sheet.
type making struct {
	key  string
	work *mix.Work
	stop context.CancelFunc

	mu      sync.Mutex
	rows    []runsheet.Row
	sheet   *runsheet.Sheet // when it is done
	err     error
	changed chan struct{} // closed at every change
	waiting int           // for it
	idle    *time.Timer
}

// close gives all up that are being made.
func (s *sheets) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, m := range s.all {
		m.stop()
	}
}

// of returns the sheet of a song as it was at a revision, for a choice, and begins it where it is not there.
func (s *sheets) of(song *store.Song, c runsheet.Choice) *making {
	b, err := json.Marshal(c)
	if err != nil {
		panic("logbook: a choice does not encode: " + err.Error())
	}
	h, err := json.Marshal(song.Song) // takes and notes make no revision, and an undo leads back to one
	if err != nil {
		panic("logbook: a song does not encode: " + err.Error())
	}
	key := mix.Key("sheet", song.ID, string(h), string(b))
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, m := range s.all {
		if m.key == key && !m.failed() {
			s.all = append(append(s.all[:i:i], s.all[i+1:]...), m)
			return m
		}
	}
	ctx, stop := context.WithCancel(context.Background())
	m := &making{key: key, work: &mix.Work{}, stop: stop, changed: make(chan struct{})}
	m.idle = group.After(nobody, m.leave)
	s.all = append(s.all, m)
	for len(s.all) > sheetsKept {
		s.all[0].leave()
		s.all = s.all[1:]
	}
	plain := song.Song.Clone()
	group.Beside(func() {
		var sheet *runsheet.Sheet
		err := group.Try(func() error {
			bench, err := s.Bench(ctx, &plain)
			if err == nil {
				sheet, err = runsheet.Make(
					mix.Watched(ctx, m.work),
					s.Renderer,
					&plain,
					bench.Facts,
					c,
					func(r runsheet.Row) { m.tell(func() { m.rows = append(m.rows, r) }) },
				)
			}
			return err
		})
		m.tell(func() { m.sheet, m.err = sheet, err })
		m.idle.Stop()
	})
	return m
}

// tell changes what is known, and wakes who waits.
func (m *making) tell(change func()) {
	m.mu.Lock()
	defer m.mu.Unlock()
	change()
	close(m.changed)
	m.changed = make(chan struct{})
}

func (m *making) failed() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.err != nil
}

// leave gives it up where nobody waits for it.
func (m *making) leave() {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.waiting == 0 && m.sheet == nil {
		m.stop()
	}
}

// known are the rows that are measured, and the sheet when it is done.
type known struct {
	rows  []runsheet.Row
	sheet *runsheet.Sheet
	err   error
}

// more waits until more than so many rows are measured, or all is done, at most as long as is given.
func (m *making) more(ctx context.Context, than int, most time.Duration) known {
	late := time.NewTimer(most)
	defer late.Stop()
	m.mu.Lock()
	m.waiting++
	m.idle.Stop()
	defer func() {
		m.waiting--
		if m.waiting == 0 && m.sheet == nil && m.err == nil {
			m.idle.Reset(nobody)
		}
		m.mu.Unlock()
	}()
	for {
		k := known{m.rows, m.sheet, m.err}
		if k.sheet != nil || k.err != nil || len(k.rows) > than {
			return k
		}
		changed := m.changed
		m.mu.Unlock()
		select {
		case <-changed:
			m.mu.Lock()
		case <-late.C:
			m.mu.Lock()
			return known{m.rows, m.sheet, m.err}
		case <-ctx.Done():
			m.mu.Lock()
			return known{m.rows, nil, ctx.Err()}
		}
	}
}
