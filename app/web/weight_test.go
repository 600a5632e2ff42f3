package web

import (
	"io"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"
)

// wire fetches an address as a browser does and returns the bytes that come over the wire, and the text.
func (b *bench) wire(path string) (bytes int, text string) {
	b.Helper()
	req, err := http.NewRequest("GET", b.url+path, nil)
	if err != nil {
		b.Fatal(err)
	}
	req.Header.Set("Accept-Encoding", "gzip") // set by hand: the answer is not unpacked
	res, err := b.Do(req)
	if err != nil {
		b.Fatal(err)
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != 200 {
		b.Fatalf("%s: %d, %v", path, res.StatusCode, err)
	}
	_, text = b.do("GET", path, nil)
	if len(text) > 2000 && !strings.HasPrefix(res.Header.Get("Content-Type"), "font/") && res.Header.Get("Content-Encoding") != "gzip" {
		b.Errorf("%s comes unpacked", path)
	}
	return len(raw), text
}

var assets = regexp.MustCompile(`(?:href|src)="(/static/[^"]+)"|url\("?(/static/[^")]+|\.\./[^")]+)"?\)`)

// Each stage comes cold with under 300 KB over the wire: the page, its styles, scripts and fonts.
func TestWeight(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{})
	for _, stage := range b.server.Stages() {
		total, page := b.wire("/songs/" + id + "/" + stage.Key)
		seen := map[string]bool{}
		var fetch func(text string)
		fetch = func(text string) {
			for _, m := range assets.FindAllStringSubmatch(text, -1) {
				path := m[1] + strings.Replace(m[2], "../", "/static/", 1)
				path, _, _ = strings.Cut(path, "?")
				if !seen[path] {
					seen[path] = true
					n, css := b.wire(path)
					total += n
					if strings.HasSuffix(path, ".css") {
						fetch(css)
					}
				}
			}
		}
		fetch(page)
		t.Logf("%s: %d KB in %d files", stage.Key, total>>10, len(seen)+1)
		if total > 300_000 || len(seen) < 5 {
			t.Errorf("%s: %d bytes over the wire in %d files", stage.Key, total, len(seen)+1)
		}
	}
}

// HEAD answers as GET does, without a body; what is not there is not there.
func TestHead(t *testing.T) {
	b, id := ready(t)
	for path, want := range map[string]int{"/": 200, "/songs/" + id + "/levels": 200, "/static/css/tokens.css": 200, "/songs/none/levels": 404, "/nowhere": 404} {
		res, err := b.Head(b.url + path)
		if err != nil {
			t.Fatal(err)
		}
		body, _ := io.ReadAll(res.Body)
		res.Body.Close()
		if res.StatusCode != want || len(body) != 0 {
			t.Errorf("%s: %d with %d bytes", path, res.StatusCode, len(body))
		}
	}
}
