package shell

import (
	"io"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"
)

func TestKnownHosts(t *testing.T) {
	for _, c := range []struct {
		is   func(string) bool
		host string
		want bool
	}{
		{Loopback("8808"), "127.0.0.1:8808", true}, {Loopback("8808"), "localhost:8808", true}, {Loopback("8808"), "[::1]:8808", true},
		{Loopback("8808"), "127.0.0.2:8808", true}, {Loopback("8808"), "[::ffff:127.0.0.1]:8808", true},
		{Loopback("80"), "127.0.0.1", true}, {Loopback("80"), "[::1]", true}, {Loopback("80"), "localhost", true},
		{Loopback("8808"), "127.0.0.1", false}, {Loopback("8808"), "127.0.0.1:80", false}, {Loopback("8808"), "192.0.2.1:8808", false},
		{Loopback("8808"), "localhost.evil.example:8808", false}, {Loopback("8808"), "evil.example:8808", false}, {Loopback("8808"), "", false},
		{Network("8808", "studio", "studio.local"), "192.0.2.1:8808", true}, {Network("8808", "studio"), "Studio:8808", true},
		{Network("8808", "studio", ""), "evil.example:8808", false}, {Network("8808", ""), ":8808", false},
	} {
		if got := c.is(c.host); got != c.want {
			t.Errorf("%q: %v", c.host, got)
		}
	}
}

func TestWay(t *testing.T) {
	for to, want := range map[string]string{
		"/songs/a/duck": "/songs/a/duck", "": "/", "//evil.example/": "/", "https://evil.example/": "/", `/\evil.example`: "/", "/door": "/", "javascript:x": "/",
		"/%5cevil.example": "/",
	} {
		if got := way(to); got != want {
			t.Errorf("%q leads to %q", to, got)
		}
	}
}

// A sender that falls silent is ended; one that is slow, or thinks before it is answered, is not.
func TestPatience(t *testing.T) {
	const patience = 200 * time.Millisecond
	read := make(chan error, 1)
	srv := httptest.NewServer((&Server{Patience: patience}).patient(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		_, err := io.Copy(io.Discard, r.Body)
		time.Sleep(2 * patience)
		if r.Context().Err() != nil {
			err = r.Context().Err()
		}
		read <- err
	})))
	defer srv.Close()
	send := func(pause time.Duration) error {
		r, w := io.Pipe()
		go func() {
			for range 4 {
				w.Write([]byte("x"))
				time.Sleep(pause)
			}
			w.Close()
		}()
		if res, err := http.Post(srv.URL, "text/plain", r); err == nil {
			res.Body.Close()
		}
		return <-read
	}
	if err := send(patience / 4); err != nil {
		t.Errorf("slow: %v", err)
	}
	if err := send(5 * patience); err == nil {
		t.Error("silence is waited for")
	}
}
