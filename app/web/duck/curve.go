package duck

import (
	"errors"
	"fmt"
	"net/http"
	"sort"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/duck"
	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// readPoints reads the points of the form: ms-0, db-0, bend-0 and so on.
func readPoints(c *gin.Context, song *session.Song) (*move.Duck, error) {
	d, bpm := &move.Duck{School: "curve", Trigger: song.DuckTrigger(), Follow: c.PostForm("follow") != ""}, song.BPM
	for i := 0; ; i++ {
		n := strconv.Itoa(i)
		at, ok := c.GetPostForm("at-" + n)
		if !ok {
			break
		}
		if i >= move.DuckPoints {
			return nil, shell.BadInput("points", fmt.Errorf("a duck curve holds at most %d points", move.DuckPoints))
		}
		ms, note, err := field.Time(at, bpm)
		if err != nil {
			return nil, shell.BadInput("points", fmt.Errorf("point %d: %w", i+1, err))
		}
		db, err := field.Number(c.PostForm("db-"+n), "dB")
		if err != nil {
			return nil, shell.BadInput("points", fmt.Errorf("point %d: %w", i+1, err))
		}
		bend := 0.0
		if b := strings.TrimSpace(c.PostForm("bend-" + n)); b != "" {
			if bend, err = field.Number(b, ""); err != nil {
				return nil, shell.BadInput("points", fmt.Errorf("point %d: %w", i+1, err))
			}
		}
		d.Points = append(d.Points, move.Point{MS: ms, Note: note, DB: db, Bend: bend})
	}
	if err := d.Validate(); err != nil {
		return nil, shell.BadInput("points", err)
	}
	return d, nil
}

// setPoints stores the curve as it was dragged, moved or typed.
func (h *handlers) setPoints(c *gin.Context) {
	h.WorkOut(c, "duck", "points", func(song *session.Song) (session.Edit, error) {
		d, err := readPoints(c, song)
		if err != nil {
			return nil, err
		}
		was, _ := song.Duck()
		return session.SetDuck{Duck: d, Said: pointsSummary(was, d)}, nil
	})
}

// pointsSummary says what of a curve changed; empty where nothing did.
func pointsSummary(was, d *move.Duck) string {
	if was == nil || len(was.Points) != len(d.Points) {
		return fmt.Sprintf("Draw a duck of %s dB", figure.Signed(d.Depth(), 1))
	}
	changed, at := 0, 0
	for i := range d.Points {
		if d.Points[i] != was.Points[i] {
			changed, at = changed+1, i
		}
	}
	switch changed {
	case 0:
		return ""
	case 1:
		p := d.Points[at]
		return fmt.Sprintf("Duck point %d to %s ms, %s dB", at+1, figure.Signed(p.MS, 1), figure.Signed(p.DB, 1))
	}
	return "Change the duck curve"
}

// previewPoints shows what a curve would do while it is dragged: nothing is stored.
func (h *handlers) previewPoints(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	d, err := readPoints(c, &song.Song)
	if err != nil {
		c.Status(http.StatusNoContent) // a point dragged past its neighbour: keep the last picture
		return
	}
	song.SetDuck(d, false, "")
	v, err := h.View(c, song, "duck", nil)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	if v.Levels, err = v.Bench.Loudness(c.Request.Context(), mix.SoloAll); err != nil {
		h.FailWith(c, err)
		return
	}
	out, err := h.drawn(c.Request.Context(), v)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	if out.State == nil {
		c.Status(http.StatusNoContent)
		return
	}
	if v.Found, err = duck.Findings(c.Request.Context(), v.Bench); err != nil {
		h.FailWith(c, err)
		return
	}
	out.Preview = true
	h.Write(c, http.StatusOK, "duckpreview", out)
}

// follow answers with the gains that a hand draws: the curve, or the handover that it moves.
func (h *handlers) follow(c *gin.Context) {
	h.DrawnGains(c, func(song *session.Song) error {
		if c.PostForm("ms") != "" {
			e, err := h.moved(c, song)
			if err == nil {
				*song, _, err = session.Made(song, e)
			}
			return err
		}
		d, err := readPoints(c, song)
		if err == nil {
			song.SetDuck(d, false, "")
		}
		return err
	})
}

// addPoint puts a point into the middle of the longest segment, or draws a first curve.
func (h *handlers) addPoint(c *gin.Context) {
	h.WorkOut(c, "duck", "points", func(song *session.Song) (session.Edit, error) {
		was, off := song.Duck()
		if was == nil || was.Keyed() {
			d := song.StartingDuck()
			return session.SetDuck{Duck: d, Said: fmt.Sprintf("Draw a duck of %s dB", figure.Signed(d.Depth(), 1))}, nil
		}
		d, err := was.AtTempo(song.BPM)
		if err != nil {
			return nil, shell.BadInput("points", err)
		}
		if len(d.Points) >= move.DuckPoints {
			return nil, shell.BadInput("points", fmt.Errorf("a duck curve holds at most %d points", move.DuckPoints))
		}
		at, longest := 0.0, 0.0
		for i := 1; i < len(d.Points); i++ {
			if l := d.Points[i].MS - d.Points[i-1].MS; l > longest {
				longest, at = l, d.Points[i-1].MS+l/2
			}
		}
		p := move.Point{MS: figure.Tenth(at), DB: figure.Tenth(d.GainDB(figure.Tenth(at)))}
		d.Points = append(d.Points, p)
		sort.SliceStable(d.Points, func(i, j int) bool { return d.Points[i].MS < d.Points[j].MS })
		return session.SetDuck{Duck: d, Off: off, Said: fmt.Sprintf("Add a duck point at %s ms", figure.Signed(p.MS, 1))}, nil
	})
}

func (h *handlers) removePoint(c *gin.Context) {
	h.WorkOut(c, "duck", "points", func(song *session.Song) (session.Edit, error) {
		was, off := song.Duck()
		i, err := strconv.Atoi(c.PostForm("i"))
		if was == nil || was.Keyed() || err != nil || i <= 0 || i >= len(was.Points)-1 {
			return nil, shell.BadInput("points", errors.New("the first and the last point hold the curve at 0 dB and stay"))
		}
		d := *was
		d.Points = append(append([]move.Point(nil), was.Points[:i]...), was.Points[i+1:]...)
		return session.SetDuck{Duck: &d, Off: off, Said: fmt.Sprintf("Remove duck point %d", i+1)}, nil
	})
}

// switchDuck turns the duck off and on.
func (h *handlers) switchDuck(c *gin.Context) {
	h.WorkOut(c, "duck", "points", func(song *session.Song) (session.Edit, error) {
		d, off := song.Duck()
		if d == nil {
			return session.Together{}, nil
		}
		return session.SetDuck{Duck: d, Off: !off, Why: song.DuckWhy(), Said: map[bool]string{true: "Duck on", false: "Duck off"}[off]}, nil
	})
}

func (h *handlers) dropDuck(c *gin.Context) {
	h.WorkOut(c, "duck", "points", func(song *session.Song) (session.Edit, error) {
		if d, _ := song.Duck(); d == nil {
			return session.Together{}, nil
		}
		return session.SetDuck{Said: "Take the duck away"}, nil
	})
}
