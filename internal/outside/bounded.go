package outside

import (
	"runtime"
	"testing"
	"time"
)

// What one input of a fuzz target may take.
const (
	MostTime   = 5 * time.Second
	MostMemory = 1 << 30 // bytes
)

// Bounded runs work on one input and fails where it takes longer, or asks for more memory, than a file may.
func Bounded(t *testing.T, work func()) {
	t.Helper()
	var was, is runtime.MemStats
	runtime.ReadMemStats(&was)
	done := make(chan any, 1)
	go func() {
		defer func() { done <- recover() }()
		work()
	}()
	select {
	case v := <-done:
		if v != nil {
			panic(v)
		}
	case <-time.After(MostTime):
		t.Fatalf("it works for more than %v", MostTime)
	}
	if runtime.ReadMemStats(&is); is.TotalAlloc-was.TotalAlloc > MostMemory {
		t.Errorf("it asked for %d MB", (is.TotalAlloc-was.TotalAlloc)>>20)
	}
}

// Slow is said by a test of figures that takes long and runs nothing beside itself: the pass that looks for races
// (go test -race -short) leaves it out.
func Slow(t testing.TB) {
	t.Helper()
	if testing.Short() {
		t.Skip("figures alone: nothing runs beside it")
	}
}
