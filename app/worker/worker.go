// Package worker runs background jobs: a bounded number at once, stored, cancellable, taken
// up again after a restart.
package worker

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime"
	"slices"
	"sync"
	"time"

	"mellowthump/app/store"
	"mellowthump/core/group"
)

// Report tells how far a job is, 0 to 1, and what it is doing.
type Report func(progress float64, message string)

// Func carries out one kind of job. Its error is shown to the user.
type Func func(ctx context.Context, j store.Job, report Report) error

// Kind is one kind of job.
type Kind struct {
	Run   Func
	Light bool // it waits more than it works, and takes no slot
	Own   bool // nobody sent it who could try again: it is always taken up
}

// Jobs is what a pool keeps its jobs in.
type Jobs interface {
	AddJob(ctx context.Context, j store.Job) (int64, error)
	SetJob(ctx context.Context, id int64, state store.JobState, progress float64, message string) error
	StartJob(ctx context.Context, id int64) error
	StopJob(ctx context.Context, id int64) error
	Job(ctx context.Context, id int64) (store.Job, error)
	Unfinished(ctx context.Context) ([]store.Job, error)
	Again(ctx context.Context, id int64) error
}

// ErrCancelled is the cause of a job's context where the user cancelled it, and not the stop
// of the program.
var ErrCancelled = errors.New("cancelled by the user")

// ErrKept is returned by a job that has stored itself how it stands: nothing more is said of it.
var ErrKept = errors.New("the job stands as it left itself")

const (
	reportEvery = 150 * time.Millisecond
	patience    = 5 * time.Second // for a job that was told to stop
)

// Pool runs jobs.
type Pool struct {
	jobs  Jobs
	kinds map[string]Kind
	slots slots
	ctx   context.Context
	stop  context.CancelFunc
	wg    group.Group

	mu      sync.Mutex
	cancels map[int64]context.CancelCauseFunc
	noRoom  map[int64]bool // jobs that wait for room on the disk; where there is none, it cannot be stored
}

// New returns a pool with as many slots as there are processors.
func New(jobs Jobs, kinds map[string]Kind) *Pool {
	ctx, stop := context.WithCancel(context.Background())
	return &Pool{jobs: jobs, kinds: kinds, slots: slots{free: runtime.GOMAXPROCS(0)},
		ctx: ctx, stop: stop, cancels: map[int64]context.CancelCauseFunc{}, noRoom: map[int64]bool{}}
}

// Resume takes up what a stop of the program left.
func (p *Pool) Resume(ctx context.Context) error {
	left, err := p.jobs.Unfinished(ctx)
	if err != nil {
		return err
	}
	for _, j := range left {
		if j.Starts >= store.MostStarts && !p.kinds[j.Kind].Own { // what ends a decoder ends a child; but whatever it is, it must not end the program at each start
			if err := p.jobs.SetJob(ctx, j.ID, store.Failed, 0, fmt.Sprintf("the program ended %d times while it worked on this; what you sent is kept",
				j.Starts)); err != nil {
				return err
			}
			continue
		}
		p.start(j)
	}
	return nil
}

// Submit stores a job and starts it when a slot is free.
func (p *Pool) Submit(ctx context.Context, j store.Job) (int64, error) {
	j.State = store.Queued
	id, err := p.jobs.AddJob(ctx, j)
	if err != nil {
		return 0, err
	}
	j.ID = id
	p.start(j)
	return id, nil
}

// Again begins a job that was given up for the program's ends.
func (p *Pool) Again(ctx context.Context, id int64) error {
	if err := p.jobs.Again(ctx, id); err != nil {
		return err
	}
	j, err := p.jobs.Job(ctx, id)
	if err != nil {
		return err
	}
	p.start(j)
	return nil
}

// Cancel ends a job that is queued or running.
func (p *Pool) Cancel(id int64) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if c := p.cancels[id]; c != nil {
		c(ErrCancelled)
	}
}

// Close stops all jobs and waits for them, not longer than patience; they are taken up at the next start.
func (p *Pool) Close() {
	p.stop()
	ended := make(chan struct{})
	group.Beside(func() {
		p.wg.Wait()
		close(ended)
	})
	select {
	case <-ended:
	case <-time.After(patience + time.Second):
		slog.Error("jobs that do not stop are left behind")
	}
}

// slots are given to jobs in the order in which they came.
type slots struct {
	mu    sync.Mutex
	free  int
	queue []chan struct{}
}

// join takes a place in the queue; what it returns is closed when the slot is there.
func (s *slots) join() chan struct{} {
	s.mu.Lock()
	defer s.mu.Unlock()
	turn := make(chan struct{})
	if s.free > 0 {
		s.free--
		close(turn)
	} else {
		s.queue = append(s.queue, turn)
	}
	return turn
}

// leave gives a slot back, or the place in the queue of one that waits for it no more.
func (s *slots) leave(turn chan struct{}) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if i := slices.Index(s.queue, turn); i >= 0 {
		s.queue = slices.Delete(s.queue, i, i+1)
		return
	}
	if len(s.queue) == 0 {
		s.free++
		return
	}
	close(s.queue[0])
	s.queue = s.queue[1:]
}

// start puts a job in the queue.
func (p *Pool) start(j store.Job) {
	ctx, cancel := context.WithCancelCause(p.ctx)
	p.mu.Lock()
	p.cancels[j.ID] = cancel
	p.mu.Unlock()
	var turn chan struct{}
	if !p.kinds[j.Kind].Light {
		turn = p.slots.join()
	}
	p.wg.Go(func() error {
		defer func() {
			cancel(nil)
			p.mu.Lock()
			delete(p.cancels, j.ID)
			p.mu.Unlock()
		}()
		if turn != nil {
			defer p.slots.leave(turn)
			select {
			case <-turn:
			case <-ctx.Done():
			}
		}
		p.run(ctx, j)
		return nil
	})
}

func (p *Pool) run(ctx context.Context, j store.Job) {
	set := func(state store.JobState, progress float64, message string) {
		if err := p.jobs.SetJob(context.WithoutCancel(ctx), j.ID, state, progress, message); err != nil {
			slog.Error("storing a job", "job", j.ID, "err", err)
		}
	}
	end := func(state store.JobState, progress float64, message string) { p.end(j, state, progress, message) }
	err := p.ctx.Err()
	if err == nil { // a job cancelled while it waited is called too, to clean up after itself
		if err := p.jobs.StartJob(context.WithoutCancel(ctx), j.ID); err != nil {
			slog.Error("storing that a job began", "job", j.ID, "err", err)
		}
		var mu sync.Mutex // a job may report from several goroutines
		last := time.Now()
		report := func(progress float64, message string) {
			mu.Lock()
			defer mu.Unlock()
			if time.Since(last) >= reportEvery {
				last = time.Now()
				set(store.Running, progress, message)
			}
		}
		for err = p.abiding(ctx, j, report); store.Full(err) && ctx.Err() == nil; err = p.abiding(ctx, j, report) {
			p.waitForRoom(ctx, j)
		}
		p.tellRoom(j, false)
	}
	switch {
	case errors.Is(err, ErrKept):
	case err == nil:
		end(store.Done, 1, "")
	case p.ctx.Err() != nil: // the program stops: the job stays to be resumed
		if err := p.jobs.StopJob(context.WithoutCancel(ctx), j.ID); err != nil {
			slog.Error("storing that a job was stopped", "job", j.ID, "err", err)
		}
	case ctx.Err() != nil:
		end(store.Cancelled, 0, "")
	default:
		end(store.Failed, 0, err.Error())
	}
}

// roomPatience is the time between two looks at whether there is room on the disk again.
var roomPatience = 5 * time.Second

// waitForRoom waits a while, or until a job is told to stop. What it came with is kept: it begins anew.
func (p *Pool) waitForRoom(ctx context.Context, j store.Job) {
	p.tellRoom(j, true)
	select {
	case <-ctx.Done():
	case <-time.After(roomPatience):
	}
}

func (p *Pool) tellRoom(j store.Job, none bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if none {
		p.noRoom[j.ID] = true
	} else {
		delete(p.noRoom, j.ID)
	}
}

// NoRoom is what a job says that waits for room on the disk.
const NoRoom = "the disk is full; it goes on when there is room"

// Now says of stored jobs what could not be stored: that they wait for room on the disk.
func (p *Pool) Now(jobs []store.Job) []store.Job {
	p.mu.Lock()
	defer p.mu.Unlock()
	for i := range jobs {
		if jobs[i].Active() && p.noRoom[jobs[i].ID] {
			jobs[i].Message = NoRoom
		}
	}
	return jobs
}

// endPatience is the time between two tries to store how a job ended.
const endPatience = 200 * time.Millisecond

// end stores how a job ended. It tries until it can: a job that is never said to have ended would run for ever on the
// page. Where the program stops meanwhile, the job is taken up again.
func (p *Pool) end(j store.Job, state store.JobState, progress float64, message string) {
	for {
		err := p.jobs.SetJob(context.WithoutCancel(p.ctx), j.ID, state, progress, message)
		if err == nil {
			p.tellRoom(j, false)
			return
		}
		slog.Error("storing how a job ended", "job", j.ID, "err", err)
		p.tellRoom(j, store.Full(err))
		select {
		case <-p.ctx.Done():
			return
		case <-time.After(endPatience):
		}
	}
}

// Background runs what no song waits for beside the jobs; ctx ends when the program stops.
func (p *Pool) Background(f func(ctx context.Context)) {
	p.wg.Go(func() error { f(p.ctx); return nil })
}

func (p *Pool) call(ctx context.Context, j store.Job, report Report) (err error) {
	f := p.kinds[j.Kind].Run
	if f == nil {
		return fmt.Errorf("no job of the kind %q is known", j.Kind)
	}
	if err = group.Try(func() error { return f(ctx, j, report) }); group.Stopped(err) {
		slog.Error("a job stopped short", "job", j.ID, "kind", j.Kind)
		err = fmt.Errorf("%w; the file is unchanged", err)
	}
	return err
}

// abiding calls a job and waits for it; one that was told to stop and does not return gives its slot back after a while.
func (p *Pool) abiding(ctx context.Context, j store.Job, report Report) error {
	ended := make(chan error, 1)
	group.Beside(func() { ended <- p.call(ctx, j, report) })
	select {
	case err := <-ended:
		return err
	case <-ctx.Done():
	}
	select {
	case err := <-ended:
		return err
	case <-time.After(patience):
		slog.Error("a job does not stop and is left behind", "job", j.ID, "kind", j.Kind)
		return ctx.Err()
	}
}
