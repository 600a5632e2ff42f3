package bench

import (
	"context"
	"errors"
	"testing"
)

// What is worked out is worked out once; who waits for it leaves when it wants to; what was given up, and what panicked, is tried again.
func TestWaitingCanBeLeft(t *testing.T) {
	var o once[int]
	started, give, ended := make(chan bool), make(chan bool), make(chan error)
	go func() {
		_, err := o.get(t.Context(), func() (int, error) {
			close(started)
			<-give
			return 0, context.Canceled
		})
		ended <- err
	}()
	<-started
	gone, leave := context.WithCancel(t.Context())
	leave()
	if _, err := o.get(gone, func() (int, error) { t.Error("it is worked out twice at once"); return 0, nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("who left is answered %v", err)
	}
	close(give)
	if err := <-ended; !errors.Is(err, context.Canceled) {
		t.Errorf("who gave up is answered %v", err)
	}
	func() {
		defer func() { _ = recover() }()
		_, _ = o.get(t.Context(), func() (int, error) { panic("broken") })
	}()
	boom := errors.New("boom")
	for range 2 {
		if v, err := o.get(t.Context(), func() (int, error) { return 7, boom }); v != 7 || err != boom {
			t.Errorf("%d, %v", v, err)
		}
	}
	if v, err := o.get(t.Context(), func() (int, error) { t.Error("it is worked out again"); return 8, nil }); v != 7 || err != boom {
		t.Errorf("%d, %v", v, err)
	}
}
