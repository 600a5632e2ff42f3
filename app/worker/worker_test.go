package worker

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"mellowthump/app/store"
	"mellowthump/core/session"
)

var ctx = context.Background()

// pool makes a pool of one kind of job over a real store.
func pool(t *testing.T, st *store.Store, f Func) *Pool {
	t.Helper()
	p := New(st, map[string]Kind{"work": {Run: f}, "light": {Run: f, Light: true}})
	t.Cleanup(p.Close)
	return p
}

func fresh(t *testing.T) (*store.Store, string) {
	t.Helper()
	st, err := store.Open(ctx, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { st.Close() })
	id, err := st.CreateSong(ctx, session.New("x", 120), "new")
	if err != nil {
		t.Fatal(err)
	}
	return st, id
}

// reaches waits until a job is in a state.
func reaches(t *testing.T, st *store.Store, id int64, want store.JobState) store.Job {
	t.Helper()
	deadline := time.Now().Add(10 * time.Second)
	for {
		j, err := st.Job(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		if j.State == want {
			return j
		}
		if time.Now().After(deadline) {
			t.Fatalf("the job stays %s (%s), want %s", j.State, j.Message, want)
		}
		<-time.After(5 * time.Millisecond) // between two looks
	}
}

func submit(t *testing.T, p *Pool, song, kind string) int64 {
	t.Helper()
	id, err := p.Submit(ctx, store.Job{SongID: song, Kind: kind, Name: "a"})
	if err != nil {
		t.Fatal(err)
	}
	return id
}

func TestEnds(t *testing.T) {
	st, song := fresh(t)
	p := pool(t, st, func(_ context.Context, j store.Job, _ Report) error {
		switch j.Name {
		case "a":
			return nil
		}
		return errors.New("no")
	})
	reaches(t, st, submit(t, p, song, "work"), store.Done)
	if j := reaches(t, st, submit(t, p, song, "unknown"), store.Failed); !strings.Contains(j.Message, "unknown") {
		t.Errorf("says %q", j.Message)
	}
	panics := pool(t, st, func(context.Context, store.Job, Report) error { panic("boom") })
	if j := reaches(t, st, submit(t, panics, song, "work"), store.Failed); strings.Contains(j.Message, "boom") || j.Message == "" {
		t.Errorf("a panic says %q", j.Message)
	}
}

func TestCancelRunningAndQueued(t *testing.T) {
	st, song := fresh(t)
	p := pool(t, st, func(ctx context.Context, _ store.Job, _ Report) error {
		<-ctx.Done()
		return ctx.Err()
	})
	var ids []int64
	for range runtime.GOMAXPROCS(0) + 2 { // more than there are slots
		ids = append(ids, submit(t, p, song, "work"))
	}
	for free := 1; free > 0; {
		<-time.After(time.Millisecond)
		p.slots.mu.Lock()
		free = p.slots.free
		p.slots.mu.Unlock()
	}
	for i := len(ids) - 1; i >= 0; i-- {
		p.Cancel(ids[i])
		reaches(t, st, ids[i], store.Cancelled)
	}
	p.Cancel(12345) // nobody's job
}

// A job that finds the disk full says so, waits, and goes on when there is room; told to stop, it stops.
func TestNoRoom(t *testing.T) {
	defer func(was time.Duration) { roomPatience = was }(roomPatience)
	roomPatience = 10 * time.Millisecond
	st, song := fresh(t)
	var room atomic.Bool
	var tries atomic.Int64
	p := pool(t, st, func(context.Context, store.Job, Report) error {
		tries.Add(1)
		if !room.Load() {
			return fmt.Errorf("writing: %w", syscall.ENOSPC)
		}
		return nil
	})
	waits := func(id int64) {
		t.Helper()
		for deadline := time.Now().Add(10 * time.Second); ; <-time.After(5 * time.Millisecond) {
			j, err := st.Job(ctx, id)
			if err != nil {
				t.Fatal(err)
			}
			if said := p.Now([]store.Job{j})[0].Message; strings.Contains(said, "the disk is full") {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("the job is %s and says nothing of the disk", j.State)
			}
		}
	}
	id, other := submit(t, p, song, "work"), submit(t, p, song, "work")
	waits(id)
	waits(other)
	p.Cancel(other)
	reaches(t, st, other, store.Cancelled)
	room.Store(true)
	if j := reaches(t, st, id, store.Done); p.Now([]store.Job{j})[0].Message != "" || tries.Load() < 3 {
		t.Errorf("after %d tries it says %q", tries.Load(), j.Message)
	}
}

// A stop of the program leaves its jobs to be taken up again.
func TestResume(t *testing.T) {
	st, song := fresh(t)
	began := make(chan struct{})
	p := New(st, map[string]Kind{"work": {Run: func(ctx context.Context, _ store.Job, _ Report) error {
		close(began)
		<-ctx.Done()
		return ctx.Err()
	}}})
	id := submit(t, p, song, "work")
	<-began
	p.Close()
	if j, _ := st.Job(ctx, id); j.State != store.Queued {
		t.Fatalf("after the stop the job is %s", j.State)
	}
	again := pool(t, st, func(context.Context, store.Job, Report) error { return nil })
	if err := again.Resume(ctx); err != nil {
		t.Fatal(err)
	}
	reaches(t, st, id, store.Done)
}

// Jobs that only wait leave the slots to those that work, however many they are.
func TestLightJobsTakeNoSlot(t *testing.T) {
	st, song := fresh(t)
	worked := make(chan struct{})
	p := pool(t, st, func(ctx context.Context, j store.Job, _ Report) error {
		if j.Kind == "work" {
			close(worked)
			return nil
		}
		select {
		case <-worked:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	})
	var waiting []int64
	for range 2*runtime.GOMAXPROCS(0) + 1 {
		waiting = append(waiting, submit(t, p, song, "light"))
	}
	reaches(t, st, submit(t, p, song, "work"), store.Done)
	for _, id := range waiting {
		reaches(t, st, id, store.Done)
	}
}

func TestProgressIsStored(t *testing.T) {
	st, song := fresh(t)
	go1 := make(chan struct{})
	p := pool(t, st, func(_ context.Context, _ store.Job, report Report) error {
		for i := 0; ; i++ {
			report(0.5, "measuring")
			select {
			case <-go1:
				return nil
			case <-time.After(time.Millisecond):
			}
		}
	})
	id := submit(t, p, song, "work")
	deadline := time.Now().Add(10 * time.Second)
	for {
		j, err := st.Job(ctx, id)
		if err != nil {
			t.Fatal(err)
		}
		if j.Progress == 0.5 && j.Message == "measuring" {
			break
		}
		if time.Now().After(deadline) {
			t.Fatalf("no progress: %+v", j)
		}
		<-time.After(5 * time.Millisecond)
	}
	close(go1)
	reaches(t, st, id, store.Done)
}

// deaf is a store that for a while cannot keep how jobs end.
type deaf struct {
	*store.Store
	left atomic.Int64
}

func (d *deaf) SetJob(ctx context.Context, id int64, state store.JobState, progress float64, message string) error {
	if state == store.Done && d.left.Add(-1) >= 0 {
		return errors.New("database is locked")
	}
	return d.Store.SetJob(ctx, id, state, progress, message)
}

// A job whose end cannot be stored at first does not run for ever: it is stored later.
func TestEndIsStoredInTheEnd(t *testing.T) {
	st, song := fresh(t)
	d := &deaf{Store: st}
	d.left.Store(2)
	p := New(d, map[string]Kind{"work": {Run: func(context.Context, store.Job, Report) error { return nil }}})
	t.Cleanup(p.Close)
	reaches(t, st, submit(t, p, song, "work"), store.Done)
}

// A job during which the program was ended again and again is left at last: it may be what ended it. A stop that the
// program was told does not count.
func TestEndsOverTheSameJob(t *testing.T) {
	st, song := fresh(t)
	hang := func(ctx context.Context, _ store.Job, _ Report) error { <-ctx.Done(); return ctx.Err() }
	p := New(st, map[string]Kind{"work": {Run: hang}})
	id := submit(t, p, song, "work")
	reaches(t, st, id, store.Running)
	p.Close()
	if j, err := st.Job(ctx, id); err != nil || j.State != store.Queued || j.Starts != 0 {
		t.Errorf("told to stop, it is %+v, %v", j, err)
	}
	for range store.MostStarts { // as a program that is killed leaves it
		if err := st.StartJob(ctx, id); err != nil {
			t.Fatal(err)
		}
	}
	next := pool(t, st, func(context.Context, store.Job, Report) error { t.Error("it is started once more"); return nil })
	if err := next.Resume(ctx); err != nil {
		t.Fatal(err)
	}
	if j := reaches(t, st, id, store.Failed); !strings.Contains(j.Message, "ended 5 times") || !j.Kept() {
		t.Errorf("it says %q", j.Message)
	}
	done := pool(t, st, func(context.Context, store.Job, Report) error { return nil })
	if err := done.Again(ctx, id); err != nil {
		t.Fatal(err)
	}
	reaches(t, st, id, store.Done)
	if err := done.Again(ctx, id); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("what is done is tried again: %v", err)
	}
}

// A job that does not heed its end gives its slot back, and does not keep the program from stopping.
func TestDeafJobs(t *testing.T) {
	st, song := fresh(t)
	never := make(chan bool)
	p := New(
		st,
		map[string]Kind{
			"deaf": {Run: func(context.Context, store.Job, Report) error { <-never; return nil }},
			"work": {Run: func(context.Context, store.Job, Report) error { return nil }},
		},
	)
	var ids []int64
	for range runtime.GOMAXPROCS(0) {
		ids = append(ids, submit(t, p, song, "deaf"))
	}
	for _, id := range ids {
		reaches(t, st, id, store.Running)
		p.Cancel(id)
	}
	reaches(t, st, submit(t, p, song, "work"), store.Done)
	reaches(t, st, ids[0], store.Cancelled)
	submit(t, p, song, "deaf")
	begin := time.Now()
	p.Close()
	if d := time.Since(begin); d > 2*patience {
		t.Errorf("the program takes %v to stop", d)
	}
}

// Jobs begin in the order in which they came, also those that a stop of the program left.
func TestInOrder(t *testing.T) {
	st, song := fresh(t)
	var want []int64
	for range 20 {
		id, err := st.AddJob(context.Background(), store.Job{SongID: song, Kind: "work", State: store.Queued})
		if err != nil {
			t.Fatal(err)
		}
		want = append(want, id)
	}
	var mu sync.Mutex
	var got []int64
	p := New(st, map[string]Kind{"work": {Run: func(_ context.Context, j store.Job, _ Report) error {
		mu.Lock()
		defer mu.Unlock()
		got = append(got, j.ID)
		return nil
	}}})
	defer p.Close()
	p.slots.free = 1
	if err := p.Resume(context.Background()); err != nil {
		t.Fatal(err)
	}
	want = append(want, submit(t, p, song, "work"))
	reaches(t, st, want[len(want)-1], store.Done)
	mu.Lock()
	defer mu.Unlock()
	if !slices.Equal(got, want) {
		t.Errorf("begun in the order %v", got)
	}
}
