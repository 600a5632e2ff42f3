package web

import (
	"context"
	"html"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"
)

const (
	clients  = 16
	soakWord = "MELLOWTHUMP_SOAK" // for how long the clients of TestClientsAtOnce work, as 5m; a few seconds otherwise
)

var offered = regexp.MustCompile(`(?:hx-get|href|data-before|data-after)="(/songs/[^"]+)"`)

// client is one of several that follow what a song's pages offer, edit it, and leave in the middle of an answer.
type client struct {
	*bench
	*rand.Rand
	song    string
	mu      *sync.Mutex
	answers map[int]int
}

func (c *client) ask(ctx context.Context, method, path string, form url.Values) string {
	if c.IntN(10) == 0 { // it leaves
		leaves, leave := context.WithTimeout(ctx, time.Duration(c.IntN(100))*time.Millisecond)
		defer leave()
		ctx = leaves
	}
	req, err := http.NewRequestWithContext(ctx, method, c.url+path, strings.NewReader(form.Encode()))
	if err != nil {
		c.Errorf("%s: %v", path, err)
		return ""
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	req.Header.Set("HX-Request", "true")
	res, err := c.Do(req)
	if err != nil {
		if ctx.Err() == nil {
			c.Errorf("%s: %v", path, err)
		}
		return ""
	}
	defer res.Body.Close()
	body, _ := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	c.mu.Lock()
	c.answers[res.StatusCode]++
	c.mu.Unlock()
	if res.StatusCode >= 500 {
		c.Errorf("%s %s %v answers %d: %.300s", method, path, form, res.StatusCode, body)
	}
	return string(body)
}

// work goes from stage to stage until its time is over.
func (c *client) work(ctx context.Context) {
	stages := []string{"intake", "levels", "pocket", "duck", "room", "body", "width", "compare", "print", "log", "duck/hits"}
	revOf := regexp.MustCompile(`name="rev" value="(\d+)"`)
	for ctx.Err() == nil {
		page := c.ask(ctx, "GET", "/songs/"+c.song+"/"+stages[c.IntN(len(stages))], nil)
		links := offered.FindAllStringSubmatch(page, -1)
		for range 4 {
			if len(links) > 0 {
				c.ask(ctx, "GET", html.UnescapeString(links[c.IntN(len(links))][1]), nil)
			}
		}
		rev := revOf.FindStringSubmatch(page)
		if rev == nil {
			continue
		}
		edits := []struct {
			path string
			form url.Values
		}{
			{"/settings", url.Values{"name": {"Tide"}, "bpm": {"120"}, "key": {[]string{"", "F minor"}[c.IntN(2)]}, "felt": {""}}},
			{"/duck/targets", url.Values{"clearance": {[]string{"3", "6", "9"}[c.IntN(3)]}, "depth": {"12"}}},
			{"/duck/fit", url.Values{"school": {"curve"}}},
			{"/undo", url.Values{}}, {"/redo", url.Values{}}, {"/redo", url.Values{}},
			{"/takes", url.Values{"name": {"a take"}}},
			{"/levels/plan", url.Values{}},
			{"/moves/add", url.Values{"at": {"master"}, "kind": {"filter"}}},
			{"/log/apply", url.Values{"tick": {"levels/plan"}, "shown": {"levels/plan"}}},
			{"/print/goes", url.Values{"what": {"mix", "sheet"}}},
		}
		e := edits[c.IntN(len(edits))]
		e.form.Set("rev", rev[1])
		c.ask(ctx, "POST", "/songs/"+c.song+e.path, e.form)
	}
}

// Sixteen clients on three songs follow what the pages offer, edit, undo, print and leave in the middle: none is answered that
// the program failed. For five minutes with the race detector by make soak.
func TestClientsAtOnce(t *testing.T) {
	b, id := ready(t)
	most := 4 * time.Second
	if d, err := time.ParseDuration(os.Getenv(soakWord)); err == nil {
		most = d
	}
	songs := []string{id}
	kick, bass := beat()
	for range 2 {
		songs = append(songs, b.song())
		b.send(songs[len(songs)-1], file{"Kick.wav", asWAV(kick)}, file{"808.wav", asWAV(bass)})
	}
	ctx, stop := context.WithTimeout(t.Context(), most+3*time.Minute)
	defer stop()
	var mu sync.Mutex
	answers := map[int]int{}
	enough := func() bool {
		mu.Lock()
		defer mu.Unlock()
		return answers[200] >= 2*clients
	}
	var all sync.WaitGroup
	all.Go(func() { // on a busy machine it takes longer until there is something to judge
		select {
		case <-time.After(most):
		case <-ctx.Done():
		}
		for ctx.Err() == nil && !enough() {
			time.Sleep(50 * time.Millisecond)
		}
		stop()
	})
	for i := range clients {
		c := &client{bench: b, Rand: rand.New(rand.NewPCG(uint64(i), 7)), song: songs[i%len(songs)], mu: &mu, answers: answers}
		all.Go(func() { c.work(ctx) })
	}
	all.Wait()
	if answers[200] < clients {
		t.Errorf("answers: %v", answers)
	}
	t.Logf("answers: %v", answers)
	for _, id := range songs { // each is still there and whole
		if song := b.load(id); song.Validate() != nil {
			t.Errorf("%s: %v", id, song.Validate())
		}
	}
}
