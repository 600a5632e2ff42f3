package duck

import (
	"html/template"
	"net/http"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/duck"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
)

// costView is what the trade-off and the whole song say; it comes after the page.
type costView struct {
	*shell.View
	Trade  template.HTML
	Fitted duck.Fitted
	Bound  meter.Figure // the least that any curve loses for the clearance that the song's own curve has, dB
	Whole  *pair.State
	Ends   float64 // the last clearance that can be reached, dB
	Notes  *duck.PerNote
	Lead   meter.BassLead // where the bass leads: after and
	Led    meter.BassLead // before
}

// ByNote reports whether the song's duck follows the notes already.
func (v costView) ByNote() bool {
	d, _ := v.Song.Duck()
	return d != nil && len(d.Parts) > 0
}

// NotesHelp reports whether following the notes saves any bass that can be seen in the figure.
func (v costView) NotesHelp() bool { return v.Notes != nil && v.Notes.Same-v.Notes.Loss >= 0.05 }

// cost weighs the duck over the whole song.
func (h *handlers) cost(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	v, err := h.View(c, song, "duck", nil)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	out := costView{View: v, Bound: meter.None}
	err = h.weigh(c, &out)
	if err != nil && bench.Trouble(err) == "" {
		h.FailWith(c, err)
		return
	}
	h.Write(c, http.StatusOK, "duckcost", out)
}

// weigh measures what the cost view shows.
func (h *handlers) weigh(c *gin.Context, out *costView) error {
	ctx, song := c.Request.Context(), &out.Song.Song
	n, err := h.Renderer.PairLength(song)
	if err != nil {
		return err
	}
	w := mix.Window{To: n}
	if out.Fitted, err = duck.FitOn(ctx, out.Bench, move.CurveSchool); err != nil {
		return err
	}
	whole, err := pair.Measure(ctx, h.Renderer, song, w)
	if err != nil {
		return err
	}
	line := out.Bench.Line()
	trade := out.Fitted.Trade
	if out.BassLeads() {
		if out.Lead, err = pair.Lead(ctx, h.Renderer, whole.Pair, whole.After, line); err != nil {
			return err
		}
		if out.Led, err = pair.Lead(ctx, h.Renderer, whole.Without, whole.Before, line); err != nil {
			return err
		}
	} else {
		if out.Notes, err = duck.FitSongPerNote(ctx, h.Renderer, song, w, line); err != nil {
			return err
		}
		if trade, err = duck.SongTradeOff(ctx, h.Renderer, song, w); err != nil {
			return err
		}
		if whole.Readout != nil {
			out.Bound = duck.BoundAt(trade, float64(whole.After.ClearanceP10))
		}
	}
	out.Whole = whole
	var pts []plot.TradePoint
	for _, t := range trade {
		pts = append(pts, plot.TradePoint{Clearance: t.Clearance, Loss: t.Loss, Bound: t.Bound})
		out.Ends = t.Clearance
	}
	out.Trade = plot.Trade(pts, song.Targets.Clearance, string(song.Ducked()))
	return nil
}

// Under tells how many hits of the whole song miss the target.
func (v costView) Under() int {
	if v.BassLeads() {
		return v.Lead.Under(v.Targets.Clearance)
	}
	return v.Whole.After.Under(v.Targets.Clearance)
}
