package shell

import (
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/app/gate"
)

const (
	doorPath      = "/door"
	sessionCookie = "session"
)

// patience is for the next byte of what is sent.
const patience = 30 * time.Second

// Access says who is served.
type Access struct {
	Known func(host string) bool // the Host headers that are answered
	Gate  *gate.Gate             // asks for a password; nil: whoever reaches the address is in
}

// Loopback knows this machine under all its own names: localhost and every loopback address, with that port.
func Loopback(port string) func(host string) bool {
	return known(port, func(name string, ip netip.Addr) bool { return name == "localhost" || ip.IsLoopback() })
}

// Network knows every address, which no name that changes its address can pretend to be, localhost and the names given.
func Network(port string, names ...string) func(host string) bool {
	return known(port, func(name string, ip netip.Addr) bool {
		for _, n := range append(names, "localhost") {
			if n != "" && strings.EqualFold(name, n) {
				return true
			}
		}
		return ip.IsValid()
	})
}

func known(port string, is func(name string, ip netip.Addr) bool) func(string) bool {
	return func(host string) bool {
		name, p, err := net.SplitHostPort(host)
		if err != nil { // a browser leaves the usual port out
			name, p = strings.Trim(host, "[]"), "80"
		}
		ip, _ := netip.ParseAddr(name)
		return p == port && is(name, ip.Unmap())
	}
}

// headers sets what every answer carries, refusals too.
func headers(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set(
			"Content-Security-Policy",
			"default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; media-src 'self' blob:; "+
				"form-action 'self'; base-uri 'none'; frame-ancestors 'none'",
		)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		h.Set("Cache-Control", "no-store")
		next.ServeHTTP(w, r)
	})
}

// hostCheck refuses names that are not this server's, against DNS rebinding.
func hostCheck(known func(string) bool, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !known(r.Host) {
			http.Error(w, "This name does not belong to this program. Open the address that it printed.", http.StatusMisdirectedRequest)
			return
		}
		next.ServeHTTP(w, r)
	})
}

// patient ends a request of which no byte comes for a while.
func (s *Server) patient(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Body != nil && r.Body != http.NoBody {
			body := &patientBody{ReadCloser: r.Body, conn: http.NewResponseController(w), patience: s.Patience}
			body.wait()
			defer body.leave()
			r.Body = body
		}
		next.ServeHTTP(w, r)
	})
}

type patientBody struct {
	io.ReadCloser
	conn     *http.ResponseController
	patience time.Duration
	end      error
}

// wait bounds how long the next bytes are waited for. The deadline is the connection's, and stays until the body is at
// its end: the server itself looks for the rest of one that nobody reads, as soon as the answer is longer than its
// buffer. A connection that knows none, as a test's, waits.
func (b *patientBody) wait() { b.conn.SetReadDeadline(time.Now().Add(b.patience)) }

// Read waits for the next bytes.
func (b *patientBody) Read(p []byte) (int, error) {
	if b.end != nil {
		return 0, b.end
	}
	b.wait()
	n, err := b.ReadCloser.Read(p)
	if b.end = err; errors.Is(err, io.EOF) {
		b.conn.SetReadDeadline(time.Time{})
	}
	return n, err
}

// leave bounds how long the server looks for the rest of a body that was not read to its end.
func (b *patientBody) leave() {
	if b.end == nil {
		b.conn.SetReadDeadline(time.Now().Add(b.patience / 6))
	}
}

// LimitForm reads a form without files, and refuses one that is too large.
func (s *Server) LimitForm(c *gin.Context) {
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, pageBytes)
	err := c.Request.ParseForm()
	if err == nil {
		err = c.Request.ParseMultipartForm(pageBytes)
	}
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		s.Fail(c, http.StatusRequestEntityTooLarge, fmt.Sprintf("That is too large: a form has at most %d MiB. The song is as it was.", pageBytes>>20))
	case err != nil && !errors.Is(err, http.ErrNotMultipart):
		s.Fail(c, http.StatusBadRequest, "The form did not arrive whole. The song is as it was; send it again.")
	}
}

// LimitUploads bounds how many requests with files are read at once.
func (s *Server) LimitUploads(c *gin.Context) {
	if s.uploads.Add(1) > mostUploads {
		s.uploads.Add(-1)
		c.Header("Retry-After", "10")
		s.Fail(c, http.StatusServiceUnavailable, fmt.Sprintf("%d uploads are coming in already. Send these when some of them are in.", mostUploads))
		return
	}
	defer s.uploads.Add(-1)
	c.Next()
}

// letIn shows the door to whoever has no session.
func (s *Server) letIn(c *gin.Context) {
	if s.gate == nil || c.Request.URL.Path == doorPath || strings.HasPrefix(c.Request.URL.Path, "/static/") {
		return
	}
	if token, err := c.Cookie(sessionCookie); err == nil && s.gate.In(token) {
		return
	}
	c.Abort()
	back := doorPath
	switch {
	case IsHTMX(c):
		c.Header("HX-Redirect", back)
		c.String(http.StatusUnauthorized, "The password is asked for again.")
	case c.Request.Method == http.MethodGet:
		c.Redirect(http.StatusSeeOther, back+"?to="+url.QueryEscape(c.Request.URL.Path))
	default:
		c.Redirect(http.StatusSeeOther, back)
	}
}

// way is the path that was asked for before the door: on this server, or the start.
func way(to string) string {
	u, err := url.Parse(to)
	if err != nil || u.Scheme != "" || u.Host != "" || !strings.HasPrefix(u.Path, "/") || strings.HasPrefix(u.Path, "//") || strings.Contains(u.Path, `\`) ||
		u.Path == doorPath {
		return "/"
	}
	return u.EscapedPath()
}

func (s *Server) door(c *gin.Context) {
	if token, err := c.Cookie(sessionCookie); s.gate == nil || err == nil && s.gate.In(token) {
		c.Redirect(http.StatusSeeOther, way(c.Query("to")))
		return
	}
	s.showDoor(c, http.StatusOK, way(c.Query("to")), nil)
}

func (s *Server) showDoor(c *gin.Context, status int, to string, wrong error) {
	v := map[string]any{"To": to, "Theme": theme(c), "Built": s.built}
	if wrong != nil {
		v["Wrong"] = Sentence(wrong.Error())
	}
	s.Write(c, status, "door", v)
}

func (s *Server) enter(c *gin.Context) {
	to := way(c.PostForm("to"))
	if s.gate == nil {
		c.Redirect(http.StatusSeeOther, to)
		return
	}
	token, err := s.gate.Enter(c.Request.Context(), c.Request.RemoteAddr, c.PostForm("password"))
	switch {
	case c.Request.Context().Err() != nil: // who asked has gone
		c.Abort()
	case errors.Is(err, gate.ErrBusy):
		c.Header("Retry-After", "5")
		s.showDoor(c, http.StatusTooManyRequests, to, err)
	case errors.Is(err, gate.ErrTries):
		c.Header("Retry-After", "60")
		s.showDoor(c, http.StatusTooManyRequests, to, err)
	case err != nil:
		s.showDoor(c, http.StatusUnauthorized, to, err)
	default:
		http.SetCookie(c.Writer, &http.Cookie{Name: sessionCookie, Value: token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode})
		c.Redirect(http.StatusSeeOther, to)
	}
}

func (s *Server) leave(c *gin.Context) {
	if token, err := c.Cookie(sessionCookie); err == nil && s.gate != nil {
		s.gate.Leave(token)
	}
	http.SetCookie(c.Writer, &http.Cookie{Name: sessionCookie, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, MaxAge: -1})
	c.Redirect(http.StatusSeeOther, "/")
}

// OnNetwork reports whether the program is open to a network, and not to this machine alone.
func (s *Server) OnNetwork() bool { return s.gate != nil }
