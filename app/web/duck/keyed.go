package duck

import (
	"errors"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/duck"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// setKeyed changes the values of a keyed duck.
func (h *handlers) setKeyed(c *gin.Context) {
	h.WorkOut(c, "duck", "keyed", func(song *session.Song) (session.Edit, error) {
		was, off := song.Duck()
		if was == nil || !was.Keyed() {
			return nil, shell.BadInput("keyed", errors.New("there is no keyed duck to set; press Fit first"))
		}
		d := move.Copy(was).(*move.Duck)
		if d.Key == nil {
			d.Key = &move.KeyFilter{Slope: keySlope}
		}
		form := func(name string) (string, bool) {
			text, ok := c.GetPostForm(name)
			if name == "band.range_db" { // a depth may be typed with its sign
				text = strings.TrimLeft(strings.TrimSpace(text), "-−")
			}
			return text, ok
		}
		err := move.Read(d, form)
		if d.Key.High == 0 && d.Key.Low == 0 {
			d.Key = nil
		}
		if err != nil {
			return nil, shell.BadInput("keyed", err)
		}
		return session.SetDuck{Duck: d, Off: off, Said: "Change the keyed duck"}, nil
	})
}

// keySlope is what a key filter has until something else is chosen, dB per octave.
const keySlope = 24

type schoolRow struct {
	School, Label string
	Fitted        duck.Fitted
	State         *pair.State
	On            bool
	Values        string
}

// Short is the school in a narrow column: its label without the first word.
func (r schoolRow) Short() string {
	_, rest, _ := strings.Cut(r.Label, " ")
	return strings.ToUpper(rest[:1]) + rest[1:]
}

// schools fits all three to the same goal, over the loop, and shows them side by side.
func (h *handlers) schools(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	v, err := h.View(c, song, "duck", nil)
	if err == nil {
		err = v.NeedPair(c.Request.Context())
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	out := map[string]any{"ID": song.ID, "Rows": []schoolRow(nil), "BassLeads": v.BassLeads()}
	if v.State != nil && !v.BassLeads() {
		rows, err := h.schoolRows(c, v)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		out["Rows"] = rows
	}
	if v.State != nil {
		f, err := duck.FalseTriggers(c.Request.Context(), h.Renderer, &song.Song, v.Win, func(sha string) []float64 {
			if a := v.Facts[sha]; a != nil {
				return a.Onsets
			}
			return nil
		})
		if err != nil {
			h.FailWith(c, err)
			return
		}
		out["False"] = f
	}
	h.Write(c, http.StatusOK, "schools", out)
}

func (h *handlers) schoolRows(c *gin.Context, v *shell.View) ([]schoolRow, error) {
	ctx, song := c.Request.Context(), &v.Song.Song
	n, err := h.Renderer.PairLength(song)
	if err != nil {
		return nil, err
	}
	now, off := song.Duck()
	fits, err := duck.FitSchools(ctx, h.Renderer, song, mix.Window{To: n})
	if err != nil {
		if bench.Trouble(err) != "" {
			err = nil
		}
		return nil, err
	}
	var rows []schoolRow
	for i, k := range move.Schools {
		f := fits[i]
		r := schoolRow{School: k.School, Label: k.Label, Fitted: f, On: now != nil && !off && now.School == k.School}
		if f.Duck != nil {
			one := song.Unducked()
			d := *f.Duck
			d.Trigger = song.DuckTrigger()
			r.Values = duck.Values(&d)
			one.SetDuck(&d, false, "")
			if r.State, err = pair.Measure(ctx, h.Renderer, &one, v.Win); err != nil {
				return nil, err
			}
		}
		rows = append(rows, r)
	}
	return rows, nil
}

// stopFalse puts the key filter in that stops the false triggers.
func (h *handlers) stopFalse(c *gin.Context) {
	h.WorkOut(c, "duck", "keyed", func(song *session.Song) (session.Edit, error) {
		return keyLow(song, c.PostForm("low"))
	})
}

// keyLow is the edit that puts a low-pass before what a keyed duck listens to.
func keyLow(song *session.Song, hz string) (session.Edit, error) {
	low, err := strconv.ParseFloat(hz, 64)
	was, off := song.Duck()
	if was == nil || !was.Keyed() || err != nil || math.IsNaN(low) {
		return nil, shell.BadInput("keyed", errors.New("there is no keyed duck to filter"))
	}
	d := *was
	d.Key = &move.KeyFilter{Low: low, Slope: keySlope}
	if was.Key != nil {
		d.Key.High = was.Key.High
	}
	return session.SetDuck{Duck: &d, Off: off, Why: song.DuckWhy(), Said: fmt.Sprintf("Low-pass the key at %g Hz", low)}, nil
}
