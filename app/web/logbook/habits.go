package logbook

import (
	"encoding/json"
	"fmt"
	"math"
	"net/http"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// habit is a figure over the last takes of all songs, and how this one stands to it.
type habit struct {
	figure.Figure
	Usual, Lo, Hi string // median, and the tenth and ninetieth percentile
	Here          string
	Departs       string // how; empty: it does not
}

// fewest songs that make a habit.
const habitLeast = 3

// habitsView is what the part Habits shows.
type habitsView struct {
	*shell.View
	Songs  int // with a take
	Least  int
	Habits []habit
}

// habits answers with what is usual over the other songs, by the last take of each, and where this song, as it is now, departs
// from it: by more than the others' tenth or ninetieth percentile.
func (h *handlers) habits(c *gin.Context) {
	v := h.Look(c, "log")
	if v == nil {
		return
	}
	ctx := c.Request.Context()
	songs, err := h.Store.Songs(ctx)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	out := habitsView{View: v, Least: habitLeast}
	var columns []figure.Figure
	var all [][]meter.Figure
	for _, s := range songs {
		if s.ID == v.ID || s.Deleted != "" {
			continue
		}
		takes, err := h.Store.Takes(ctx, s.ID)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		last := int64(0)
		var n takeNumbers
		for _, t := range takes {
			if t.ID > last {
				last = t.ID
				if err := json.Unmarshal([]byte(t.Numbers), &n); err != nil {
					h.FailWith(c, fmt.Errorf("the numbers of take %q: %w", t.Name, err))
					return
				}
			}
		}
		if last == 0 {
			continue
		}
		out.Songs++
		for i, f := range n.figures() {
			if len(all) <= i {
				all, columns = append(all, nil), append(columns, figure.Of(f.key))
			}
			if f.of.Valid() {
				all[i] = append(all[i], f.of)
			}
		}
	}
	if out.Songs >= habitLeast {
		now, err := h.numbers(c, v.Song)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		for i, f := range now.figures() {
			out.Habits = append(out.Habits, habitOf(columns[i], all[i], f.of))
		}
	}
	h.Write(c, http.StatusOK, "loghabits", out)
}

// habitOf sets a figure against those of other songs.
func habitOf(f figure.Figure, others []meter.Figure, here meter.Figure) habit {
	out := habit{Figure: f, Here: shell.Figure(here, f.Decimals), Usual: "–", Lo: "–", Hi: "–"}
	if len(others) < habitLeast {
		return out
	}
	lo, usual, hi := float64(meter.Percentile(others, 0.1)), float64(meter.Median(others)), float64(meter.Percentile(others, 0.9))
	said := func(v float64) string { return figure.Signed(v, f.Decimals) }
	out.Lo, out.Usual, out.Hi = said(lo), said(usual), said(hi)
	if least := math.Pow(10, -float64(f.Decimals)) / 2; here.Valid() && (float64(here) < lo-least || float64(here) > hi+least) {
		out.Departs = fmt.Sprintf("%s %s than usual", said(math.Abs(float64(here)-usual)), map[bool]string{true: "more", false: "less"}[float64(here) > usual])
	}
	return out
}
