package room

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"mellowthump/core/export"
	"mellowthump/core/room"
)

// back answers with how stems came back for which moves of Room were planned.
func (h *handlers) back(c *gin.Context) {
	v := h.looked(c)
	if v == nil {
		return
	}
	backs, err := room.Backs(c.Request.Context(), h.Renderer, &v.Song.Song, v.Bench.RoomWindow())
	if err != nil {
		h.FailWith(c, err)
		return
	}
	type line struct {
		ID, Says string
		Landed   bool
	}
	var lines []line
	for _, b := range backs {
		lines = append(lines, line{b.Stem, b.Says(v.Song.Stem(b.Stem).Name), b.Landed()})
	}
	h.Write(c, http.StatusOK, "roomback", lines)
}

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
