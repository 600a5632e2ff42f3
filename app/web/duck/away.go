package duck

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/export"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// send answers with a file that is made of a song.
func (h *handlers) send(c *gin.Context, of func(song *session.Song) (export.File, error)) {
	song := h.Load(c)
	if song == nil {
		return
	}
	f, err := of(&song.Song)
	h.Send(c, f, err)
}

// curve sends the curve as CSV: ms after the hit, gain in dB.
func (h *handlers) curve(c *gin.Context) {
	h.send(c, func(song *session.Song) (export.File, error) {
		return export.Curve(c.Request.Context(), h.Renderer, song)
	})
}

// ducked sends a stem with its duck, over its whole length.
func (h *handlers) ducked(c *gin.Context) {
	h.send(c, func(song *session.Song) (export.File, error) {
		return export.DuckedStem(h.Renderer, song, c.Query("stem"), c.Query("as"))
	})
}

// hits sends the trigger's hits as a MIDI file.
func (h *handlers) hits(c *gin.Context) {
	h.send(c, func(song *session.Song) (export.File, error) { return export.Hits(h.Renderer, song) })
}

// gainMIDI sends the gain as a MIDI controller over the song.
func (h *handlers) gainMIDI(c *gin.Context) {
	h.send(c, func(song *session.Song) (export.File, error) {
		return export.GainMIDI(c.Request.Context(), h.Renderer, song)
	})
}

// gainWAV sends the gain as a WAV: 1.0 where nothing is lowered.
func (h *handlers) gainWAV(c *gin.Context) {
	h.send(c, func(song *session.Song) (export.File, error) {
		return export.GainWAV(c.Request.Context(), h.Renderer, song)
	})
}

// click sends a short click at each hit: a trigger for a key input elsewhere, not to be heard.
func (h *handlers) click(c *gin.Context) {
	h.send(c, func(song *session.Song) (export.File, error) { return export.Click(h.Renderer, song) })
}

// settings sends the settings in general terms, to be set by hand elsewhere.
func (h *handlers) settings(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	if export.Ducked(&song.Song) == nil {
		h.Send(c, export.File{}, export.ErrNoDuck)
		return
	}
	v, err := h.View(c, song, "duck", nil)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	ctx := c.Request.Context()
	if v.Levels, err = v.Bench.Loudness(ctx, mix.SoloAll); err != nil {
		h.FailWith(c, err)
		return
	}
	out, err := h.drawn(ctx, v)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	if v.State == nil || v.State.Readout == nil {
		h.Fail(c, http.StatusConflict, "The duck cannot be measured: "+v.Trouble)
		return
	}
	e := export.Expect{Bars: v.Bars(), State: v.State, Freed: out.MixFreed(), Trigger: out.Named, Input: keyInput(v)}
	e.Lead, e.Led = leads(v)
	f, err := export.Settings(ctx, h.Renderer, &song.Song, e)
	h.Send(c, f, err)
}

// leads is how the bass leads, after and before, where it does.
func leads(v *shell.View) (after, before meter.BassLead) {
	if v.Agree != nil {
		return v.Agree.Lead, v.Agree.Led
	}
	return after, before
}
