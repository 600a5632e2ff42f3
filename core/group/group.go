// Package group runs work beside other work. Nothing else in the program starts a goroutine: a panic in one that nobody
// recovers ends the whole program, with every other tab and job. Here it ends the work alone: it is logged once, with
// its stack, and is an error to whoever waits.
package group

import (
	"context"
	"errors"
	"log/slog"
	"runtime"
	"runtime/debug"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"
)

// Panic is work that stopped short.
type Panic struct {
	Value any // that it panicked with
}

// Error is a sentence for a user; the value and the stack are in the log.
func (p *Panic) Error() string { return "something went wrong inside the program" }

// Recovered makes an error of what was recovered, and logs it with the stack where it was not logged further down.
func Recovered(v any) error {
	if p, ok := v.(*Panic); ok {
		return p
	}
	slog.Error("work stopped short", "panic", v, "stack", string(debug.Stack()))
	return &Panic{v}
}

// Stopped reports whether an error is that of work that stopped short.
func Stopped(err error) bool {
	var p *Panic
	return errors.As(err, &p)
}

// Try calls f; a panic is an error.
func Try(f func() error) (err error) {
	defer func() {
		if v := recover(); v != nil {
			err = Recovered(v)
		}
	}()
	return f()
}

// Group is work that is waited for together; its zero value is ready. The first error is that of all.
type Group struct {
	plain errgroup.Group
	bound *errgroup.Group // the one with a context
}

func (g *Group) of() *errgroup.Group {
	if g.bound != nil {
		return g.bound
	}
	return &g.plain
}

// WithContext returns a group with a context that ends with its first error, or when all of it is done.
func WithContext(ctx context.Context) (*Group, context.Context) {
	of, ctx := errgroup.WithContext(ctx)
	return &Group{bound: of}, ctx
}

// SetLimit bounds how much of it is done at once.
func (g *Group) SetLimit(n int) { g.of().SetLimit(n) }

// Go begins f, when the limit lets it.
func (g *Group) Go(f func() error) { g.of().Go(func() error { return Try(f) }) }

// Wait waits for all of it.
func (g *Group) Wait() error { return g.of().Wait() }

// All calls f for each of 0 to n-1, as many at once as there are processors, and waits. Where one panics, the caller does.
func All(n int, f func(i int)) {
	if n == 0 {
		return
	}
	var g Group
	var next atomic.Int64
	for range min(n, runtime.GOMAXPROCS(0)) {
		g.Go(func() error {
			for i := int(next.Add(1)) - 1; i < n; i = int(next.Add(1)) - 1 {
				f(i)
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		panic(err)
	}
}

// Beside calls f in its own time; nobody waits for it.
func Beside(f func()) {
	go func() {
		defer func() {
			if v := recover(); v != nil {
				Recovered(v)
			}
		}()
		f()
	}()
}

// After calls f after a while, in its own time.
func After(d time.Duration, f func()) *time.Timer {
	return time.AfterFunc(d, func() {
		defer func() {
			if v := recover(); v != nil {
				Recovered(v)
			}
		}()
		f()
	})
}
