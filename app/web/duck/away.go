package duck

import (
	"errors"
	"net/http"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/core/export"
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
		return export.DuckedStem(h.Renderer, song, c.Query("stem"), c.Query("with"), c.Query("as"))
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
	f, err := h.settingsOf(c, song)
	if errors.As(err, new(unmeasured)) {
		h.Fail(c, http.StatusConflict, shell.Sentence(err.Error()))
		return
	}
	h.Send(c, f, err)
}

// all sends everything there is to take away in one archive.
func (h *handlers) all(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	sheet, err := h.settingsOf(c, song)
	if err != nil && !errors.Is(err, export.ErrNoDuck) && !errors.As(err, new(unmeasured)) {
		h.FailWith(c, err)
		return
	}
	b, err := h.Bench(c.Request.Context(), &song.Song)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	f, err := export.All(c.Request.Context(), h.Renderer, &song.Song, sheet, b.RoomWindow())
	h.Send(c, f, err)
}

// unmeasured is why a duck cannot be measured.
type unmeasured string

// Error says it.
func (e unmeasured) Error() string { return "the duck cannot be measured: " + string(e) }

// settingsOf is the settings sheet of a song.
func (h *handlers) settingsOf(c *gin.Context, song *store.Song) (export.File, error) {
	if export.Ducked(&song.Song) == nil {
		return export.File{}, export.ErrNoDuck
	}
	v, err := h.View(c, song, "duck", nil)
	if err != nil {
		return export.File{}, err
	}
	ctx := c.Request.Context()
	if v.Levels, err = v.Bench.Loudness(ctx, mix.SoloAll); err != nil {
		return export.File{}, err
	}
	out, err := h.drawn(ctx, v)
	if err != nil {
		return export.File{}, err
	}
	if v.State == nil || v.State.Readout == nil {
		return export.File{}, unmeasured(v.Trouble)
	}
	e := export.Expect{Bars: v.Bars(), State: v.State, Freed: out.MixFreed(), Trigger: out.Named, Input: keyInput(v)}
	e.Lead, e.Led = v.State.Lead, v.State.Led
	return export.Settings(ctx, h.Renderer, &song.Song, e)
}
