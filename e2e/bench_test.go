// Package e2e drives the real interface in headless Chromium through Rod.
package e2e

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/launcher"
	"github.com/go-rod/rod/lib/proto"

	"mellowthump/app/decode"
	"mellowthump/app/gate"
	"mellowthump/app/store"
	"mellowthump/app/web"
)

const (
	chromium     = "/usr/bin/chromium-headless-shell" // Debian's Chromium without its windows: a page takes a sixth of the time
	patience     = 90 * time.Second                   // how long a condition is waited for
	longPatience = 3 * time.Minute                    // how long what works over all stages is waited for
)

var browser struct {
	sync.Once
	*rod.Browser
	err error
}

// chrome returns the one browser of the test run.
func chrome(t *testing.T) *rod.Browser {
	t.Helper()
	browser.Do(func() {
		dir, err := os.MkdirTemp("", "mellowthump-chromium-")
		if err != nil {
			browser.err = err
			return
		}
		l := launcher.New().Bin(chromium).UserDataDir(dir).Headless(true).NoSandbox(true).
			Set("disable-gpu").Set("disable-quic").Set("no-first-run").Set("disable-background-networking").
			Set("disable-component-update").Set("disable-sync").Set("autoplay-policy", "user-gesture-required").
			Set("force-prefers-reduced-motion") // what breathes while one waits takes a core here
		u, err := l.Launch()
		if err != nil {
			browser.err = fmt.Errorf("starting %s (make test installs it): %w", chromium, err)
			return
		}
		browser.Browser = rod.New().ControlURL(u)
		browser.err = browser.Connect()
	})
	if browser.err != nil {
		t.Fatal(browser.err)
	}
	return browser.Browser
}

func TestMain(m *testing.M) {
	decode.Main()
	code := m.Run()
	if browser.Browser != nil {
		browser.Browser.Close()
	}
	fought.Remove()
	os.Exit(code)
}

// app is the running program over a data folder.
type app struct {
	t      *testing.T
	dir    string
	url    string
	addr   string
	gate   *gate.Gate // asks for a password
	store  *store.Store
	server *web.Server
	http   *http.Server
}

// start serves a data folder on a free port.
func start(t *testing.T, dir string) *app {
	t.Helper()
	a := &app{t: t, dir: dir, addr: "127.0.0.1:0"}
	a.up()
	t.Cleanup(a.down)
	return a
}

func (a *app) up() {
	a.t.Helper()
	l, err := net.Listen("tcp", a.addr)
	if err != nil {
		a.t.Fatal(err)
	}
	a.addr = l.Addr().String()
	a.url = "http://" + a.addr
	if a.store, err = store.Open(context.Background(), a.dir); err != nil {
		a.t.Fatal(err)
	}
	if a.server, err = web.New(a.store, web.Access{Known: func(host string) bool { return host == a.addr }, Gate: a.gate}); err != nil {
		a.t.Fatal(err)
	}
	if err := a.server.Start(context.Background()); err != nil {
		a.t.Fatal(err)
	}
	a.http = &http.Server{Handler: a.server}
	go a.http.Serve(l)
}

func (a *app) down() {
	if a.http == nil {
		return
	}
	a.http.Close()
	a.server.Pool.Close()
	a.store.Close()
	a.http = nil
}

// page is a tab whose console is watched: an error in it fails the test.
type page struct {
	*rod.Page
	t       *testing.T
	mu      sync.Mutex
	console []string
}

func (a *app) open(path string) *page {
	a.t.Helper()
	incognito, err := chrome(a.t).Incognito()
	if err != nil {
		a.t.Fatal(err)
	}
	raw, err := incognito.Page(proto.TargetCreateTarget{URL: "about:blank"})
	if err != nil {
		a.t.Fatal(err)
	}
	p := &page{Page: raw.Timeout(4 * time.Minute), t: a.t}
	if err := p.SetViewport(&proto.EmulationSetDeviceMetricsOverride{Width: 1280, Height: 800, DeviceScaleFactor: 1}); err != nil {
		a.t.Fatal(err)
	}
	go p.EachEvent(func(e *proto.RuntimeConsoleAPICalled) {
		if e.Type == proto.RuntimeConsoleAPICalledTypeError || e.Type == proto.RuntimeConsoleAPICalledTypeWarning {
			var words []string
			for _, arg := range e.Args {
				words = append(words, arg.Value.String())
			}
			p.note(strings.Join(words, " "))
		}
	}, func(e *proto.RuntimeExceptionThrown) {
		text := e.ExceptionDetails.Text
		if e.ExceptionDetails.Exception != nil {
			text += " " + e.ExceptionDetails.Exception.Description
		}
		p.note(text)
	}, func(e *proto.LogEntryAdded) {
		if e.Entry.Level == proto.LogLogEntryLevelError {
			p.note(e.Entry.Text + " " + e.Entry.URL)
		}
	})()
	if err := (proto.LogEnable{}).Call(p); err != nil {
		a.t.Fatal(err)
	}
	a.t.Cleanup(func() {
		if a.t.Failed() {
			if shot, err := raw.Screenshot(false, nil); err == nil {
				name := filepath.Join(os.TempDir(), "failed-"+strings.ReplaceAll(a.t.Name(), "/", "-")+".png")
				if os.WriteFile(name, shot, 0o600) == nil {
					a.t.Log("the page at the end: " + name)
				}
			}
		}
		raw.Close()
		incognito.Close()
	})
	if err := p.Navigate(a.url + path); err != nil {
		a.t.Fatal(err)
	}
	if err := p.WaitLoad(); err != nil {
		a.t.Fatal(err)
	}
	return p
}

func (p *page) note(s string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.console = append(p.console, s)
}

// visit goes to an address as a link does: the protocol's own way breaks off what the page asked for before it tells the page
// that it is left.
func (p *page) visit(url string) {
	p.t.Helper()
	loaded := p.WaitNavigation(proto.PageLifecycleEventNameLoad)
	if _, err := p.Eval("to => to === location.href ? location.reload() : location.assign(to)", url); err != nil {
		p.t.Fatal(err)
	}
	loaded()
}

// clean fails the test where the console holds an error, but for those expected.
func (p *page) clean(expected ...string) {
	p.t.Helper()
	p.mu.Lock()
	defer p.mu.Unlock()
next:
	for _, c := range p.console {
		for _, e := range expected {
			if strings.Contains(c, e) {
				continue next
			}
		}
		p.t.Errorf("the console says: %s", c)
	}
}

// js runs an expression in the page and returns its value as a string.
func (p *page) js(expr string) string {
	p.t.Helper()
	v, err := p.Eval("() => String(" + expr + ")")
	if err != nil {
		p.t.Fatalf("%s: %v", expr, err)
	}
	return v.Value.Str()
}

// until waits for an expression to be true in the page.
func (p *page) until(what, expr string) {
	p.t.Helper()
	p.untilWithin(patience, what, expr)
}

func (p *page) untilWithin(most time.Duration, what, expr string) {
	p.t.Helper()
	deadline := time.Now().Add(most)
	for {
		v, err := p.Eval("() => Boolean(" + expr + ")")
		if err == nil && v.Value.Bool() {
			return
		}
		if time.Now().After(deadline) {
			p.t.Fatalf("waited in vain until %s (%s): %v", what, expr, err)
		}
		<-time.After(20 * time.Millisecond) // between two looks at the condition
	}
}

func (p *page) text(selector string) string {
	p.t.Helper()
	return strings.TrimSpace(p.js(fmt.Sprintf("document.querySelector(%q)?.textContent ?? '(no %s)'", selector, strings.ReplaceAll(selector, "'", ""))))
}

// on does something to an element. What htmx replaces meanwhile is looked for again, as a hand does.
func (p *page) on(what, selector string, do func(el *rod.Element) error) {
	p.t.Helper()
	for deadline := time.Now().Add(patience); ; {
		el, err := p.Timeout(patience).Element(selector)
		if err != nil {
			p.t.Fatalf("no %s: %v", selector, err)
		}
		if err = do(el.CancelTimeout().Timeout(patience / 4)); err == nil {
			return
		}
		if time.Now().After(deadline) {
			p.t.Fatalf("%s %s: %v", what, selector, err)
		}
	}
}

func (p *page) click(selector string) {
	p.t.Helper()
	p.on("clicking", selector, func(el *rod.Element) error { return el.Click(proto.InputMouseButtonLeft, 1) })
}

// fill types into a field in place of what it holds and leaves it.
func (p *page) fill(selector, text string) {
	p.t.Helper()
	p.on("filling", selector, func(el *rod.Element) error {
		if err := el.SelectAllText(); err != nil {
			return err
		}
		return el.Input(text)
	})
}

// rev is the revision that the page shows.
func (p *page) rev() string { return p.js("document.querySelector('#rev').value") }

// edited does something and waits until the page shows a new revision.
func (p *page) edited(what string, do func()) {
	p.t.Helper()
	was := p.rev()
	do()
	p.until("a new revision after "+what, fmt.Sprintf("document.querySelector('#rev').value !== %q && !document.querySelector('.htmx-request')", was))
}

func (p *page) shot(name string) {
	p.t.Helper()
	png, err := p.Screenshot(false, &proto.PageCaptureScreenshot{Format: proto.PageCaptureScreenshotFormatPng})
	if err != nil {
		p.t.Fatal(err)
	}
	if err := os.WriteFile(name, png, 0o644); err != nil {
		p.t.Fatal(err)
	}
}
