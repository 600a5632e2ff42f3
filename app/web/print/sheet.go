package print

import (
	"context"
	"fmt"
	"html/template"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/core/export"
	"mellowthump/core/session"
)

// sheetPlace is a stem, a bus or the master with what is done there.
type sheetPlace struct {
	Name, Bus string
	Rows      []sheetRow
}

type sheetRow struct{ What, Value, Words, Why string }

// sheetOf is a song's settings sheet, for its template.
func (h *handlers) sheetOf(song *session.Song) map[string]any {
	var all, places, still []sheetPlace
	for _, r := range export.Rows(song) {
		if n := len(all); n == 0 || all[n-1].Name != r[0] {
			all = append(all, sheetPlace{Name: r[0]})
		}
		p := &all[len(all)-1]
		if r[1] == "bus" {
			p.Bus = r[2]
			continue
		}
		p.Rows = append(p.Rows, sheetRow{r[1], strings.TrimSpace(r[2] + " " + r[3]), r[4], r[5]})
	}
	for _, p := range all {
		if len(p.Rows) > 0 {
			places = append(places, p)
		} else {
			still = append(still, p)
		}
	}
	return map[string]any{"Song": song, "Places": places, "Still": still, "On": time.Now().Format("2 January 2006"), "Built": h.Built()}
}

// sheetPage answers with the settings sheet as a page that prints well.
func (h *handlers) sheetPage(c *gin.Context) {
	if song := h.Load(c); song != nil {
		h.Write(c, http.StatusOK, "printsheet", h.sheetOf(&song.Song))
	}
}

// sheetFile is the same page as a file, whole in itself.
func (h *handlers) sheetFile(song *session.Song) (export.File, error) {
	css, err := h.Static("css/sheet.css")
	if err != nil {
		return export.File{}, fmt.Errorf("reading the sheet's style: %w", err)
	}
	data := h.sheetOf(song)
	data["Style"] = template.CSS(css)
	page, err := h.Part("printsheet", data)
	return export.File{Name: export.Safe(song.Name + " settings.html"), Type: "text/html; charset=utf-8", Write: func(_ context.Context, w io.Writer) error {
		_, err := io.WriteString(w, string(page))
		return err
	}}, err
}
