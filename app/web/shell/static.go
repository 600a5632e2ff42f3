package shell

import (
	"bytes"
	"compress/gzip"
	"io"
	"io/fs"
	"net/http"
	"path"
	"strings"
	"sync"

	"github.com/gin-gonic/gin"
)

// leastCompressed is the size from which an answer is compressed, bytes.
const leastCompressed = 600

// serveStatic serves the files that ship with the app, compressed once at the start.
func (s *Server) serveStatic(r *gin.Engine, static fs.FS) error {
	packed := map[string][]byte{}
	err := fs.WalkDir(static, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !compressible(contentType(name)) {
			return err
		}
		b, err := fs.ReadFile(static, name)
		if err != nil {
			return err
		}
		var out bytes.Buffer
		z, _ := gzip.NewWriterLevel(&out, gzip.BestCompression)
		z.Write(b)
		if err := z.Close(); err != nil {
			return err
		}
		packed[name] = out.Bytes()
		return nil
	})
	if err != nil {
		return err
	}
	files := http.StripPrefix("/static/", http.FileServerFS(static))
	r.GET("/static/*path", func(c *gin.Context) {
		name := strings.TrimPrefix(path.Clean(c.Param("path")), "/")
		c.Header("Cache-Control", "no-cache") // what scripts import from each other has no version in its address
		if c.Request.URL.RawQuery != "" || !strings.HasPrefix(name, "js/") {
			c.Header("Cache-Control", staticMaxAge)
		}
		if b, ok := packed[name]; ok && takesGzip(c.Request) {
			c.Header("Content-Encoding", "gzip")
			c.Header("Vary", "Accept-Encoding")
			c.Data(http.StatusOK, contentType(name), b)
			return
		}
		if _, err := fs.Stat(static, name); err != nil {
			c.Header("Cache-Control", "no-store")
		}
		files.ServeHTTP(c.Writer, c.Request)
	})
	return nil
}

func contentType(name string) string {
	return map[string]string{
		".css": "text/css; charset=utf-8", ".js": "text/javascript; charset=utf-8", ".svg": "image/svg+xml", ".woff2": "font/woff2", ".html": "text/html; charset=utf-8",
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
