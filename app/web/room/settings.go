package room

import (
	"github.com/gin-gonic/gin"

	"mellowthump/core/export"
)

// settings sends what Room's moves are, in general terms, to be set by hand elsewhere.
func (h *handlers) settings(c *gin.Context) {
	song := h.Load(c)
	if song == nil {
		return
	}
	b, err := h.Bench(c.Request.Context(), &song.Song)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	f, err := export.RoomSettings(c.Request.Context(), h.Renderer, &song.Song, b.RoomWindow())
	h.Send(c, f, err)
}
