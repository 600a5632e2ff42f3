package hits

import (
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/field"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Handlers are the addresses under which a stage lets hits be changed by hand.
type Handlers struct{ *shell.Server }

// Routes adds them, under /songs/:id.
func (h Handlers) Routes(g *gin.RouterGroup) {
	g.GET("/hits/line", h.line)
	g.GET("/hits/menu", h.menu)
	g.POST("/hits/edit", h.LimitForm, h.edit)
	g.POST("/hits/listening", h.LimitForm, h.setListening)
}

// mostZoom is how many times the judged stretch is drawn as wide as the page.
const mostZoom = 16

// lineView is the line of hits with what it takes for one.
type lineView struct {
	ID      string
	Picture template.HTML
	Zoom    int
	Marks   []bench.HitMark
	Count   int // of the whole song
	Here    int // of the judged stretch
	Doubted int
	Hand    int // changed by hand
	Quiet   float64
	Sense   float64 // percent
	Gap     float64 // ms
	Found   bool    // they are found, not notes
}

// Wider is the next zoom, or 0.
func (l lineView) Wider() int { return zoomed(l.Zoom*2, l.Zoom) }

// Narrower is the zoom before, or 0.
func (l lineView) Narrower() int { return zoomed(l.Zoom/2, l.Zoom) }

func zoomed(z, now int) int {
	if z < 1 || z > mostZoom || z == now {
		return 0
	}
	return z
}

// newLine draws the hits of a song's kick over its judged stretch.
func (h Handlers) newLine(v *shell.View, zoom int) lineView {
	t := v.Trigger(session.KickTrigger)
	l := lineView{ID: v.ID, Zoom: zoom, Marks: v.Bench.HitMarks(), Quiet: meter.QuietHits}
	if t != nil {
		l.Quiet, l.Sense, l.Gap, l.Hand = t.QuietDB(), 100*t.Sense, t.Gap, len(t.Added)+len(t.Removed)
	}
	if st := v.TriggerStem(); st != nil {
		l.Found = st.MIDI == nil
	}
	rate := float64(v.Rate)
	from, to := float64(v.Win.From)/rate, float64(v.Win.To)/rate
	p := plot.HitLine{Width: 774 * float64(zoom), Height: 116, From: from, To: to, Bar: v.BarSeconds(), Grid: v.Grid, Name: v.Position}
	p.Kick, p.Bass, p.KickFrom, p.Step = envelopes(v)
	for _, m := range l.Marks {
		here := m.At >= from && m.At < to
		if m.Counts() {
			l.Count++
			if here {
				l.Here++
			}
		} else if m.Kind == bench.DoubtfulHit {
			l.Doubted++
		}
		if here {
			p.Marks = append(p.Marks, plot.HitLineMark{At: m.At, Kind: string(m.Kind), Title: v.Position(m.At) + ", " + says(m)})
		}
	}
	l.Picture = plot.HitLined(p)
	return l
}

// says says what a mark is.
func says(m bench.HitMark) string {
	switch m.Kind {
	case bench.AddedHit:
		return "put in by hand"
	case bench.OutHit:
		return "left out by hand"
	case bench.DoubtfulHit:
		return fmt.Sprintf("doubtful: %s, %.0f %% sure", m.Why, 100*m.Sure)
	}
	return "a hit"
}

// envelopes are those of kick and bass: where they are judged the envelopes of that, else the peaks of the files.
func envelopes(v *shell.View) (kick, bass []float64, from, step float64) {
	wide := func(e plot.Envelope) []float64 {
		out := make([]float64, len(e))
		for i, x := range e {
			out[i] = float64(x)
		}
		return out
	}
	if v.State != nil {
		return wide(plot.Calm(v.State.Pair.Meter.Kick)), wide(plot.Calm(v.State.After.Bass)), -float64(Offset(v)) * meter.EnvelopeStep, meter.EnvelopeStep
	}
	if st := v.TriggerStem(); st != nil && v.Facts[st.Audio] != nil {
		a := v.Facts[st.Audio]
		for _, x := range a.Overview {
			kick = append(kick, float64(x))
		}
		return kick, nil, st.Nudged() / 1000, a.DurationS / float64(max(1, len(a.Overview)))
	}
	return nil, nil, 0, 1
}

// seen loads the song as a line shows it; where it cannot, it answers.
func (h Handlers) seen(c *gin.Context, change session.Edit) *shell.View {
	song := h.Load(c)
	if song == nil {
		return nil
	}
	if change != nil {
		var err error
		if song.Song, _, err = session.Made(&song.Song, change); err != nil {
			c.Status(http.StatusNoContent) // a slider on its way: the last picture stays
			return nil
		}
	}
	v, err := h.View(c, song, h.stage(c), nil)
	if err == nil {
		err = v.NeedPair(c.Request.Context())
	}
	if err != nil {
		h.FailWith(c, err)
		return nil
	}
	return v
}

// stage is the stage that a request came from, Duck where that is not known.
func (h Handlers) stage(c *gin.Context) string {
	if st := h.CurrentStage(c); st == stage.Pocket {
		return st
	}
	return stage.Duck
}

// line shows the line, at a zoom, and as other values would make it.
func (h Handlers) line(c *gin.Context) {
	var change session.Edit
	if c.Query("quiet") != "" {
		e, err := listening(c.Query)
		if err != nil {
			c.Status(http.StatusNoContent)
			return
		}
		change = e
	}
	v := h.seen(c, change)
	if v == nil {
		return
	}
	zoom, _ := strconv.Atoi(c.Query("zoom"))
	if zoom < 1 || zoom > mostZoom {
		zoom = 1
	}
	h.Write(c, http.StatusOK, "hitline", h.newLine(v, zoom))
}

// listening reads what is taken for a hit.
func listening(get func(string) string) (session.Listening, error) {
	var e session.Listening
	for _, f := range []struct {
		name, unit string
		to         **float64
		by         float64
	}{{"quiet", "dB", &e.Quiet, 1}, {"sense", "", &e.Sense, 0.01}, {"gap", "ms", &e.Gap, 1}} {
		text := get(f.name)
		if text == "" {
			continue
		}
		v, err := field.Number(text, f.unit)
		if err != nil {
			return e, fmt.Errorf("the threshold %w", err)
		}
		v *= f.by
		*f.to = &v
	}
	return e, nil
}

// setListening stores it.
func (h Handlers) setListening(c *gin.Context) {
	h.WorkOut(c, h.stage(c), "quiet", func(*session.Song) (session.Edit, error) {
		e, err := listening(c.PostForm)
		if err != nil {
			return nil, shell.BadInput("quiet", err)
		}
		return e, nil
	})
}

// menuView is what can be done with a hit.
type menuView struct {
	ID             string
	Place          string
	Mark           bench.HitMark
	Says           string
	Quieter, Alike int
	Gap            float64 // s, to the next
}

// menu shows what can be done with the hit at a place.
func (h Handlers) menu(c *gin.Context) {
	v := h.seen(c, nil)
	if v == nil {
		return
	}
	at, err := strconv.ParseFloat(c.Query("at"), 64)
	marks := v.Bench.HitMarks()
	m := bench.MarkAt(marks, at)
	if err != nil || m == nil {
		h.Fail(c, http.StatusUnprocessableEntity, "That hit is no longer there.")
		return
	}
	some := func(times []float64) int { // all of them together is no choice
		n := 0
		for _, o := range marks {
			if o.Counts() {
				n++
			}
		}
		if m.Counts() && len(times) >= n {
			return 0
		}
		return len(times)
	}
	out := menuView{ID: v.ID, Place: v.Position(m.At), Mark: *m, Says: says(*m), Quieter: some(m.Quieter(marks)), Alike: some(m.Alike(marks)), Gap: 0.5}
	for _, o := range marks {
		if o.Counts() && o.At > m.At+move.HitNear {
			out.Gap = o.At - m.At
			break
		}
	}
	h.Write(c, http.StatusOK, "hitmenu", out)
}

// edit puts hits in, leaves them out, moves one, alone or with those like it.
func (h Handlers) edit(c *gin.Context) {
	bad := func(err error) error { return shell.BadInput("trigger", err) }
	h.WorkOut(c, h.stage(c), "trigger", func(song *session.Song) (session.Edit, error) {
		at, err := song.ParsePosition(c.PostForm("at"))
		if err != nil {
			return nil, bad(err)
		}
		b, err := h.Bench(c.Request.Context(), song)
		if err != nil {
			return nil, err
		}
		do := c.PostForm("do")
		if do == "put" { // where the hand pointed
			if c.PostForm("exact") == "" {
				at = h.snapped(c, b, at)
			}
			return session.EditHits{In: []float64{at}}, nil
		}
		marks := b.HitMarks()
		m := bench.MarkAt(marks, at)
		if m == nil {
			return nil, bad(errors.New("that hit is no longer there"))
		}
		some := []float64{m.At}
		switch do {
		case "quieter":
			some = m.Quieter(marks)
		case "alike":
			some = m.Alike(marks)
		case "one":
		case "move":
			to, err := song.ParsePosition(c.PostForm("to"))
			if err != nil {
				return nil, bad(err)
			}
			return session.EditHits{In: []float64{to}, Out: some}, nil
		default:
			return nil, bad(shell.ErrUnknown())
		}
		if m.Counts() {
			return session.EditHits{Out: some}, nil
		}
		return session.EditHits{In: some}, nil
	})
}

// snapped is the start of the kick's sound that a hand pointed at.
func (h Handlers) snapped(c *gin.Context, b *bench.Bench, at float64) float64 {
	const reach = 0.04 // s
	st, err := pair.On(c.Request.Context(), b)
	if err != nil {
		return at
	}
	m := st.Pair.Meter
	return bench.Snap(m.Kick, meter.EnvelopeStep, float64(m.Offset)/float64(b.Song.Rate), at, reach)
}
