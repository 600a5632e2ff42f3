package web

import (
	"bytes"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"mellowthump/app/gate"
)

// guarded is a bench behind a password.
func guarded(t *testing.T) *bench {
	t.Helper()
	hash, err := gate.Hash("wide quiet river")
	if err != nil {
		t.Fatal(err)
	}
	b := newBench(t)
	at := b.server
	if b.server, err = New(at.Store, Access{Known: func(string) bool { return true }, Gate: gate.New(hash)}); err != nil {
		t.Fatal(err)
	}
	at.Pool.Close()
	b.at.Config.Handler = b.server
	b.CheckRedirect = func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }
	return b
}

func TestDoor(t *testing.T) {
	b := guarded(t)
	answer := func(method, path string, form url.Values, headers ...string) *http.Response {
		t.Helper()
		req, err := http.NewRequest(method, b.url+path, strings.NewReader(form.Encode()))
		if err != nil {
			t.Fatal(err)
		}
		if form != nil {
			req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		}
		for i := 0; i+1 < len(headers); i += 2 {
			req.Header.Set(headers[i], headers[i+1])
		}
		res, err := b.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		body, _ := io.ReadAll(res.Body)
		res.Body = io.NopCloser(bytes.NewReader(body))
		return res
	}
	if res := answer("GET", "/songs/x/duck", nil); res.StatusCode != 303 || res.Header.Get("Location") != "/door?to=%2Fsongs%2Fx%2Fduck" {
		t.Errorf("a page: %d to %s", res.StatusCode, res.Header.Get("Location"))
	}
	for _, r := range b.server.Routes() { // nothing but the door and the look is to be had
		path := strings.NewReplacer(":id", "x", ":stage", "duck", ":side", "after", "*filepath", "js/shell.js").Replace(r.Path)
		if res := answer(r.Method, path, nil, "HX-Request", "true"); res.StatusCode != http.StatusUnauthorized && !strings.HasPrefix(path, "/static") &&
			path != "/door" {
			t.Errorf("%s %s answers %d", r.Method, path, res.StatusCode)
		} else if res.StatusCode == http.StatusUnauthorized && path != "/door" && res.Header.Get("HX-Redirect") != "/door" {
			t.Errorf("%s %s does not lead to the door", r.Method, path)
		}
		if res := answer(r.Method, path+"/", nil, "HX-Request", "true"); res.StatusCode != http.StatusUnauthorized && !strings.HasPrefix(path, "/static") {
			t.Errorf("%s %s/ answers %d: that there is such a route can be told", r.Method, path, res.StatusCode)
		}
	}
	if res := answer("POST", "/songs", url.Values{"name": {"x"}, "bpm": {"120"}}); res.StatusCode != 303 || res.Header.Get("Location") != "/door" {
		t.Errorf("a form: %d", res.StatusCode)
	}
	if res := answer("GET", "/static/css/shell.css", nil); res.StatusCode != 200 {
		t.Errorf("the look: %d", res.StatusCode)
	}
	res := answer("POST", "/door", url.Values{"password": {"a guess"}})
	if body, _ := io.ReadAll(res.Body); res.StatusCode != 401 || !strings.Contains(string(body), "That is not the password.") ||
		strings.Contains(string(body), "a guess") {
		t.Errorf("a guess: %d %s", res.StatusCode, body)
	}
	res = answer("POST", "/door", url.Values{"password": {"wide quiet river"}, "to": {"/songs/x/duck"}})
	cookie := res.Header.Get("Set-Cookie")
	if res.StatusCode != 303 || res.Header.Get("Location") != "/songs/x/duck" || !strings.Contains(cookie, "HttpOnly") ||
		!strings.Contains(cookie, "SameSite=Strict") {
		t.Errorf("the password: %d to %s, %s", res.StatusCode, res.Header.Get("Location"), cookie)
	}
	res = answer("GET", "/", nil)
	if body, _ := io.ReadAll(res.Body); res.StatusCode != 200 || !strings.Contains(string(body), `id="leave"`) {
		t.Errorf("in: %d", res.StatusCode)
	}
	answer("POST", "/leave", url.Values{})
	if res := answer("GET", "/", nil); res.StatusCode != 303 {
		t.Errorf("after leaving: %d", res.StatusCode)
	}
	for range gate.MostTries {
		answer("POST", "/door", url.Values{"password": {"a guess"}})
	}
	res = answer("POST", "/door", url.Values{"password": {"wide quiet river"}})
	if res.StatusCode != http.StatusTooManyRequests || res.Header.Get("Retry-After") == "" {
		t.Errorf("a sixth try: %d", res.StatusCode)
	}
}

// Every form is bounded, plain or with parts; only what takes files in takes more, and that has bounds of its own.
func TestFormsAreBounded(t *testing.T) {
	b := newBench(t)
	song := b.song()
	large := strings.Repeat("x", 2<<20)
	files := 0
	for _, r := range b.server.Routes() {
		if r.Method != "POST" {
			continue
		}
		path := strings.ReplaceAll(r.Path, ":id", song)
		status, body := b.do("POST", path, url.Values{"name": {large}})
		if status == http.StatusBadRequest && strings.Contains(body, "Nothing arrived") {
			files++
			continue
		}
		if status != http.StatusRequestEntityTooLarge || !strings.Contains(body, "too large") {
			t.Errorf("%s answers a form of 2 MiB with %d", r.Path, status)
		}
		var parts bytes.Buffer
		m := multipart.NewWriter(&parts)
		m.WriteField("name", large)
		m.Close()
		res, err := b.Post(b.url+path, m.FormDataContentType(), &parts)
		if err != nil {
			t.Fatal(err)
		}
		if res.Body.Close(); res.StatusCode != http.StatusRequestEntityTooLarge {
			t.Errorf("%s answers parts of 2 MiB with %d", r.Path, res.StatusCode)
		}
	}
	if files != 4 { // stems, new versions, finished tracks, a voice
		t.Errorf("%d routes take files", files)
	}
}

func TestUploadsAtOnce(t *testing.T) {
	b := newBench(t)
	song := b.song()
	const most = 64
	done := make(chan int, most)
	opened := make(chan *io.PipeWriter, 100*most)
	kind := multipart.NewWriter(io.Discard).FormDataContentType()
	for range most {
		go func() {
			for { // one that comes in while the one more below is counted is the one that is sent away: it comes again
				r, w := io.Pipe()
				go w.Write([]byte("--"))
				opened <- w
				res, err := b.Post(b.url+"/songs/"+song+"/stems", kind, r)
				if err != nil {
					done <- 0
					return
				}
				if res.Body.Close(); res.StatusCode != http.StatusServiceUnavailable {
					done <- res.StatusCode
					return
				}
			}
		}()
	}
	status := 0
	for range 1000 { // they may be on their way to the handler
		res, err := b.Post(b.url+"/songs/"+song+"/stems", kind, strings.NewReader(""))
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if status = res.StatusCode; status == http.StatusServiceUnavailable && strings.Contains(string(body), "64 uploads") {
			break
		}
		time.Sleep(20 * time.Millisecond)
	}
	if status != http.StatusServiceUnavailable {
		t.Errorf("one more is answered by %d", status)
	}
	for ended := 0; ended < most; {
		select {
		case w := <-opened:
			w.Close()
		case <-done:
			ended++
		}
	}
	if res, err := b.Post(b.url+"/songs/"+song+"/stems", kind, strings.NewReader("")); err != nil || res.StatusCode == http.StatusServiceUnavailable {
		t.Errorf("when they are in: %v, %v", res, err)
	}
}
