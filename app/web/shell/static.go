package shell

import (
	"bytes"
	"compress/gzip"
	"embed"
	"io"
	"io/fs"
	"net/http"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
)

// leastCompressed is the size from which an answer is compressed, bytes.
const leastCompressed = 600

//go:embed *.html
var templates embed.FS

//go:embed static
var static embed.FS

// sharedStyles are the layers of the look that all pages stand on, in order; a file a stage comes after them.
var sharedStyles = []string{"tokens", "shell", "controls", "tables", "pictures", "deck", "chains", "home"}

// shipped are the files that pages load, by their names under /static/.
type shipped struct {
	files  map[string]file
	styles []string // in the order in which a page loads them
}

// file is one of them, compressed once at the start where that is worth it.
type file struct{ plain, packed []byte }

// ship takes up what the shell and the stages bring: templates, styles, scripts.
func (s *Server) ship() error {
	s.ships = shipped{files: map[string]file{}, styles: slices.Clone(sharedStyles)}
	own, err := fs.Sub(static, "static")
	if err != nil {
		return err
	}
	if err := s.takeUp(own, func(name string) string { return name }); err != nil {
		return err
	}
	all := []fs.FS{templates}
	for _, stage := range s.stages {
		all = append(all, stage.Files...)
	}
	for _, files := range all {
		if _, err := s.pages.ParseFS(files, "*.html"); err != nil {
			return err
		}
		if err := s.takeUp(files, func(name string) string {
			switch path.Ext(name) {
			case ".css":
				if style := strings.TrimSuffix(name, ".css"); !slices.Contains(s.ships.styles, style) {
					s.ships.styles = append(s.ships.styles, style)
				}
				return "css/" + name
			case ".js":
				return "js/" + name
			}
			return ""
		}); err != nil {
			return err
		}
	}
	return nil
}

// takeUp reads the files of a folder; as says under which name one is served, empty: not at all.
func (s *Server) takeUp(files fs.FS, as func(name string) string) error {
	return fs.WalkDir(files, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || as(name) == "" {
			return err
		}
		var f file
		if f.plain, err = fs.ReadFile(files, name); err != nil {
			return err
		}
		if compressible(contentType(name)) {
			var out bytes.Buffer
			z, _ := gzip.NewWriterLevel(&out, gzip.BestCompression)
			z.Write(f.plain)
			if err := z.Close(); err != nil {
				return err
			}
			f.packed = out.Bytes()
		}
		s.ships.files[as(name)] = f
		return nil
	})
}

// serveStatic serves them.
func (s *Server) serveStatic(c *gin.Context) {
	name := strings.TrimPrefix(path.Clean(c.Param("path")), "/")
	f, ok := s.ships.files[name]
	if !ok {
		c.Header("Cache-Control", "no-store")
		http.NotFound(c.Writer, c.Request)
		return
	}
	c.Header("Cache-Control", "no-cache") // what scripts import from each other has no version in its address
	if c.Request.URL.RawQuery != "" || !strings.HasPrefix(name, "js/") {
		c.Header("Cache-Control", staticMaxAge)
	}
	if f.packed != nil && takesGzip(c.Request) {
		c.Header("Content-Encoding", "gzip")
		c.Header("Vary", "Accept-Encoding")
		c.Data(http.StatusOK, contentType(name), f.packed)
		return
	}
	http.ServeContent(c.Writer, c.Request, path.Base(name), time.Time{}, bytes.NewReader(f.plain))
}

func contentType(name string) string {
	return map[string]string{
		".css": "text/css; charset=utf-8", ".js": "text/javascript; charset=utf-8", ".svg": "image/svg+xml", ".woff2": "font/woff2",
		".html": "text/html; charset=utf-8",
	}[path.Ext(name)]
}

func compressible(kind string) bool {
	kind, _, _ = strings.Cut(kind, ";")
	return strings.HasPrefix(kind, "text/") || kind == "image/svg+xml" || kind == "application/json"
}

func takesGzip(r *http.Request) bool {
	return strings.Contains(r.Header.Get("Accept-Encoding"), "gzip")
}

// compressed compresses answers that are text and long enough to be worth it.
func compressed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !takesGzip(r) {
			next.ServeHTTP(w, r)
			return
		}
		z := &zipping{ResponseWriter: w}
		defer z.close()
		next.ServeHTTP(z, r)
	})
}

var zippers = sync.Pool{New: func() any { z, _ := gzip.NewWriterLevel(nil, gzip.BestSpeed); return z }}

// zipping decides with the first bytes whether what comes is compressed.
type zipping struct {
	http.ResponseWriter
	z       *gzip.Writer
	status  int
	decided bool
}

// WriteHeader is held back until it is known whether the answer is compressed.
func (z *zipping) WriteHeader(status int) {
	if z.status == 0 {
		z.status = status
	}
	if status < 200 || status == http.StatusNoContent || status == http.StatusNotModified {
		z.begin(false)
	}
}

func (z *zipping) begin(zip bool) {
	if z.decided {
		return
	}
	z.decided = true
	if zip {
		h := z.Header()
		h.Set("Content-Encoding", "gzip")
		h.Add("Vary", "Accept-Encoding")
		h.Del("Content-Length")
		z.z = zippers.Get().(*gzip.Writer)
		z.z.Reset(z.ResponseWriter)
	}
	if z.status != 0 {
		z.ResponseWriter.WriteHeader(z.status)
	}
}

// Write compresses text; what has been compressed already, sound, and what is short goes out as it is.
func (z *zipping) Write(b []byte) (int, error) {
	h := z.Header()
	z.begin(len(b) >= leastCompressed && compressible(h.Get("Content-Type")) && h.Get("Content-Encoding") == "" && h.Get("Content-Range") == "")
	if z.z != nil {
		return z.z.Write(b)
	}
	return z.ResponseWriter.Write(b)
}

// Unwrap lets the server's own controls through.
func (z *zipping) Unwrap() http.ResponseWriter { return z.ResponseWriter }

func (z *zipping) close() {
	z.begin(false)
	if z.z != nil {
		z.z.Close()
		z.z.Reset(io.Discard)
		zippers.Put(z.z)
	}
}

// headAsGet answers HEAD with the head of what GET would answer.
func headAsGet(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodHead {
			next.ServeHTTP(w, r)
			return
		}
		as := r.Clone(r.Context())
		as.Method = http.MethodGet
		next.ServeHTTP(bodiless{w}, as)
	})
}

// bodiless drops what is written after the head.
type bodiless struct{ http.ResponseWriter }

// Write counts and drops.
func (bodiless) Write(b []byte) (int, error) { return len(b), nil }

// WriteString counts and drops.
func (bodiless) WriteString(s string) (int, error) { return len(s), nil }
