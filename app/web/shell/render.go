package shell

import (
	"bytes"
	"fmt"
	"html/template"
	"log/slog"
	"math"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/ask"
	"mellowthump/app/web/plot"
	"mellowthump/core/compare"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/room"
	"mellowthump/core/session"
)

// Write renders a template to the end before anything is sent.
func (s *Server) Write(c *gin.Context, status int, name string, data any) {
	var b bytes.Buffer
	if err := s.pages.ExecuteTemplate(&b, name, data); err != nil {
		slog.Error("a template failed", "template", name, "err", err)
		c.String(500, "The page could not be drawn.")
		return
	}
	c.Data(status, "text/html; charset=utf-8", b.Bytes())
}

// Part renders a template to be put into another, or into a file.
func (s *Server) Part(name string, data any) (template.HTML, error) {
	var b bytes.Buffer
	err := s.pages.ExecuteTemplate(&b, name, data)
	return template.HTML(b.String()), err
}

// throughs are the ways of listening, by their groups.
var throughs = func() (out [][]compare.Through) {
	for i, t := range compare.Throughs {
		if i == 0 || t.Group != compare.Throughs[i-1].Group {
			out = append(out, nil)
		}
		out[len(out)-1] = append(out[len(out)-1], t)
	}
	return out
}()

func (s *Server) funcs() template.FuncMap {
	return template.FuncMap{
		"size":     size,
		"try":      func(stage, what string, args ...any) ask.Try { return tryOf(stage, what, "", args) },
		"trywith":  func(stage, what, query string) ask.Try { return tryOf(stage, what, query, nil) },
		"styles":   func() []string { return s.ships.styles },
		"throughs": func() [][]compare.Through { return throughs },
		"fig":      Figure,
		"num":      figure.Signed,
		"plain":    func(v float64) string { return figure.Signed(v, -1) },
		"typed":    Typed,
		"glyph":    func(r session.Role) template.HTML { return plot.Glyph(string(r)) },
		"clock":    Clock,
		"when":     when,
		"said":     Sentence,
		"ms":       func(s float64) float64 { return 1000 * s },
		"percent":  func(share float64) string { return fmt.Sprintf("%.0f %%", 100*share) },
		"def":      func(key string) string { return figure.Of(key).Definition },
		"roles":    func() any { return session.Roles },
		"aims":     func() any { return session.Aims },
		"inc":      func(i int) int { return i + 1 },
		"over":     func(a, b meter.Figure) bool { return a.Valid() && float64(a) >= float64(b) },
		"cell":     func(v ...any) []any { return v },
		"letgo":    func() float64 { return move.LetGo },
		"shapetime": func(t move.Time) string {
			if t.Note != "" {
				return t.Note
			}
			return Typed(figure.Tenth(t.MS))
		},
		"schools": func() any { return move.Schools },
		"ways":    func() any { return room.Ways },
		"words":   move.Words,
		"anchors": func() any { return levels.Anchors },
		"signed":  func(v float64) string { return figure.Plus(v, 1) },
		"signed0": func(n int) string { return figure.Plus(float64(n), 0) },
		"figure":  func(v float64) meter.Figure { return meter.Figure(v) },
		"float":   func(f meter.Figure) float64 { return float64(f) },
		"sub":     func(a, b float64) float64 { return a - b },
		"minus":   func(a float64, b int) float64 { return a - float64(b) },
		"fig10":   func(f float64) string { return strconv.FormatFloat(f, 'f', 1, 64) },
		"count":   figure.Count,
		"less":    func(n int) int { return n - 1 },
		"rest":    func(all []find.Finding) []find.Finding { return all[1:] },
		"has":     func(all []string, one string) bool { return slices.Contains(all, one) },
		"shape":   compare.Shape,
		"offby":   offBy,
		"abs":     func(f meter.Figure) meter.Figure { return max(f, -f) },
	}
}

// tryOf is what a button has the deck try.
func tryOf(stage, what, query string, args []any) ask.Try {
	t := ask.Try{Stage: stage, What: what}
	t.With, _ = url.ParseQuery(query)
	for _, a := range args {
		t.Args = append(t.Args, fmt.Sprint(a))
	}
	return t
}

// offBy shows a difference, with its sign; a dash where there is none.
func offBy(f meter.Figure, decimals int) string {
	if !f.Valid() {
		return "–"
	}
	return figure.Plus(float64(f), decimals)
}

// Figure shows a measured number; a dash where there is none.
func Figure(f meter.Figure, decimals int) string {
	if !f.Valid() {
		return "–"
	}
	return figure.Signed(float64(f), decimals)
}

// Typed shows a number in a field as a person would type it, to a thousandth: what a field
// shows is what the next edit of the form sends back.
func Typed(v float64) string {
	return strconv.FormatFloat(math.Round(v*1000)/1000+0, 'f', -1, 64)
}

// size shows bytes as a person counts them.
func size(bytes int64) string {
	switch {
	case bytes >= 1e9:
		return fmt.Sprintf("%.1f GB", float64(bytes)/1e9)
	case bytes >= 1e6:
		return fmt.Sprintf("%.0f MB", float64(bytes)/1e6)
	}
	return fmt.Sprintf("%.0f kB", math.Ceil(float64(bytes)/1e3))
}

// Clock shows seconds as 1:23.4.
func Clock(s float64) string {
	m := int(s) / 60
	return fmt.Sprintf("%d:%04.1f", m, s-float64(60*m))
}

func when(stamp string) string {
	t, err := time.Parse(time.RFC3339Nano, stamp)
	if err != nil {
		return stamp
	}
	return t.Local().Format("2 Jan 2006, 15:04")
}

// Sentence makes an error's text one: a capital first, a full stop last; nothing of nothing.
func Sentence(s string) string {
	if s = strings.TrimSpace(s); s == "" {
		return ""
	}
	r, n := utf8.DecodeRuneInString(s)
	s = string(unicode.ToUpper(r)) + s[n:]
	if !strings.HasSuffix(s, ".") {
		s += "."
	}
	return s
}
