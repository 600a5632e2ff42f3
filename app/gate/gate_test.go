package gate

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"
)

func TestPassword(t *testing.T) {
	if _, err := Hash("too short"); !errors.Is(err, ErrShort) {
		t.Error(err)
	}
	if _, err := Hash(strings.Repeat("x", MaxPassword+1)); !errors.Is(err, ErrLong) {
		t.Error(err)
	}
	hash, err := Hash("wide quiet river")
	if err != nil {
		t.Fatal(err)
	}
	if again, _ := Hash("wide quiet river"); again == hash {
		t.Error("two hashes of one password are the same: no salt")
	}
	dir := filepath.Join(t.TempDir(), "data")
	if h, err := Read(dir); h != "" || err != nil {
		t.Errorf("none set: %q, %v", h, err)
	}
	if err := Write(dir, hash); err != nil {
		t.Fatal(err)
	}
	if h, err := Read(dir); h != hash || err != nil {
		t.Errorf("kept %q, %v", h, err)
	}
	if st, err := os.Stat(filepath.Join(dir, fileName)); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("kept as %v, %v", st.Mode(), err)
	}
	os.WriteFile(filepath.Join(dir, fileName), []byte("wide quiet river"), 0o600)
	if _, err := Read(dir); err == nil || !strings.Contains(err.Error(), "damaged") {
		t.Errorf("a damaged one: %v", err)
	}
	if a, b := Once(), Once(); a == b || len(a) != 19 {
		t.Errorf("%q and %q", a, b)
	}
}

func TestGate(t *testing.T) {
	hash, err := Hash("wide quiet river")
	if err != nil {
		t.Fatal(err)
	}
	g, at := New(hash), time.Now()
	g.now = func() time.Time { return at }
	if g.In("") || g.In("x") {
		t.Error("in without a session")
	}
	token, err := g.Enter(t.Context(), "192.0.2.7:4000", "wide quiet river")
	if err != nil || !g.In(token) {
		t.Fatalf("%q, %v", token, err)
	}
	for i := range MostTries {
		if _, err := g.Enter(t.Context(), fmt.Sprintf("192.0.2.8:%d", 4000+i), "a guess"); !errors.Is(err, ErrWrong) {
			t.Errorf("try %d: %v", i+1, err)
		}
	}
	if _, err := g.Enter(t.Context(), "192.0.2.8:5000", "wide quiet river"); !errors.Is(err, ErrTries) {
		t.Errorf("one more: %v", err)
	}
	if _, err := g.Enter(t.Context(), "192.0.2.9:5000", "wide quiet river"); err != nil {
		t.Errorf("from elsewhere: %v", err)
	}
	at = at.Add(61 * time.Second)
	if _, err := g.Enter(t.Context(), "192.0.2.8:5000", "wide quiet river"); err != nil {
		t.Errorf("a minute later: %v", err)
	}
	for i := range MostTries + 1 { // one network of IPv6 counts as one
		if _, err := g.Enter(t.Context(), fmt.Sprintf("[2001:db8::%d]:80", i), "a guess"); (i < MostTries) != errors.Is(err, ErrWrong) {
			t.Errorf("IPv6 %d: %v", i, err)
		}
	}
	if g.Leave(token); g.In(token) {
		t.Error("in after leaving")
	}
	token, _ = g.Enter(t.Context(), "192.0.2.7:4000", "wide quiet river")
	if at = at.Add(lasts); g.In(token) {
		t.Error("in for ever")
	}
	if _, err := New("").Enter(t.Context(), "192.0.2.1", ""); !errors.Is(err, ErrWrong) {
		t.Errorf("a gate without a password lets in: %v", err)
	}
}

// A flood of guesses is bounded, and a right password from an address that has not tried yet goes before it; nothing is worked
// out for who has gone.
func TestFlood(t *testing.T) {
	var q queue
	if err := q.take(t.Context(), 1); err != nil {
		t.Fatal(err)
	}
	ended := make(chan error, 2*mostWaiting)
	join := func(ctx context.Context, tries int) {
		go func() { ended <- q.take(ctx, tries) }()
	}
	waits := func(n int) {
		t.Helper()
		for end := time.Now().Add(time.Minute); ; runtime.Gosched() {
			q.mu.Lock()
			is := len(q.waiting)
			q.mu.Unlock()
			if is == n {
				return
			}
			if time.Now().After(end) {
				t.Fatalf("%d wait, not %d", is, n)
			}
		}
	}
	for i := range mostWaiting {
		join(t.Context(), 2+i%3)
		waits(i + 1)
	}
	if err := q.take(t.Context(), 4); !errors.Is(err, ErrBusy) {
		t.Errorf("one more of the flood: %v", err)
	}
	join(t.Context(), 1) // it makes one give way
	if err := <-ended; !errors.Is(err, ErrBusy) {
		t.Errorf("who has tried most: %v", err)
	}
	waits(mostWaiting)
	q.mu.Lock()
	last := q.waiting[mostWaiting-1]
	q.mu.Unlock()
	if q.leave(); last.tries != 1 || slices.Contains(q.waiting, last) {
		t.Error("who has tried least is not the next")
	}
	if err := <-ended; err != nil {
		t.Error(err)
	}
	gone, leave := context.WithCancel(t.Context())
	join(gone, 1)
	waits(mostWaiting)
	leave()
	if err := <-ended; !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	waits(mostWaiting - 1)
	for range mostWaiting {
		q.leave()
	}
	if q.busy {
		t.Error("nobody is there, and it is busy")
	}
	hash, err := Hash("wide quiet river")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := New(hash).Enter(gone, "192.0.2.1", "wide quiet river"); !errors.Is(err, context.Canceled) {
		t.Errorf("who has gone: %v", err)
	}
}
