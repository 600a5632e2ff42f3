package web

import (
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"mellowthump/app/gate"
)

// Senders that fall silent are gone after a while, whatever they were answered, and hold nothing up: their connections are counted.
func TestSilentSenders(t *testing.T) {
	hash, err := gate.Hash("wide quiet river")
	if err != nil {
		t.Fatal(err)
	}
	shut := newBench(t)
	song := shut.song()
	guard, err := New(shut.server.Store, Access{Known: func(host string) bool { return strings.HasPrefix(host, "127.") }, Gate: gate.New(hash)})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range []*Server{shut.server, guard} {
		s.Patience = 300 * time.Millisecond
	}
	defer guard.Pool.Close()
	form := "Content-Type: application/x-www-form-urlencoded\r\n"
	files := "Content-Type: multipart/form-data; boundary=b\r\n"
	for _, c := range []struct {
		name, head, begun string
		behind            bool // the door
	}{
		{"an upload", "POST /songs/" + song + "/stems HTTP/1.1\r\nHost: HERE\r\n" + files + "Content-Length: 100000\r\n", "--b\r\nContent-Disposition: " +
			"form-data; name=\"f\"; filename=\"a.wav\"\r\n\r\nRIFF", false},
		{"an upload of no length", "POST /songs/" + song + "/stems HTTP/1.1\r\nHost: HERE\r\n" + files + "Transfer-Encoding: chunked\r\n", "5\r\n--b\r\n", false},
		{"a form", "POST /songs HTTP/1.1\r\nHost: HERE\r\n" + form + "Content-Length: 40\r\n", "name=", false},
		{"a form where none is taken", "POST /nowhere HTTP/1.1\r\nHost: HERE\r\n" + form + "Content-Length: 40\r\n", "", false},
		{"a page with a body", "GET / HTTP/1.1\r\nHost: HERE\r\n" + form + "Content-Length: 40\r\n", "", false},
		{"another page's form", "POST /songs HTTP/1.1\r\nHost: HERE\r\nSec-Fetch-Site: cross-site\r\n" + form + "Content-Length: 40\r\n", "na", false},
		{"another name", "POST /songs HTTP/1.1\r\nHost: evil.example\r\n" + form + "Content-Length: 40\r\n", "na", false},
		{"the door", "POST /door HTTP/1.1\r\nHost: HERE\r\n" + form + "Content-Length: 40\r\n", "password=", true},
		{"before the door", "POST /songs/" + song + "/stems HTTP/1.1\r\nHost: HERE\r\n" + files + "Content-Length: 100000\r\n", "--b", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			var mu sync.Mutex
			open := map[net.Conn]bool{}
			srv := httptest.NewUnstartedServer(shut.server)
			if c.behind {
				srv.Config.Handler = guard
			} else { // this address is another
				s, err := New(shut.server.Store, local(srv.Listener.Addr()))
				if err != nil {
					t.Fatal(err)
				}
				defer s.Pool.Close()
				s.Patience = 300 * time.Millisecond
				srv.Config.Handler = s
			}
			srv.Config.ConnState = func(c net.Conn, is http.ConnState) {
				mu.Lock()
				defer mu.Unlock()
				if is == http.StateNew {
					open[c] = true
				} else if is == http.StateClosed {
					delete(open, c)
				}
			}
			srv.Start()
			defer srv.Close()
			here := srv.Listener.Addr().String()
			const senders = 200
			for range senders {
				conn, err := net.Dial("tcp", here)
				if err != nil {
					t.Fatal(err)
				}
				defer conn.Close()
				fmt.Fprint(conn, strings.ReplaceAll(c.head, "HERE", here)+"\r\n"+c.begun)
			}
			count := func() int {
				mu.Lock()
				defer mu.Unlock()
				return len(open)
			}
			until(t, "all 200 are gone", func() bool { return count() == 0 })
			res, err := http.Get(srv.URL + "/")
			if err != nil {
				t.Fatal(err)
			}
			if res.Body.Close(); res.StatusCode != http.StatusOK {
				t.Errorf("then a page is answered with %d", res.StatusCode)
			}
		})
	}
}
