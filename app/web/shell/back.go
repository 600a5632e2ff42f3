package shell

import (
	"github.com/gin-gonic/gin"

	"net/http"

	"mellowthump/core/move"
	"mellowthump/core/room"
)

// Back is a handler that answers with how stems came back for which moves of a stage were planned.
func (s *Server) Back(stage string, of func(move.Move) bool) gin.HandlerFunc {
	return func(c *gin.Context) {
		v := s.Look(c, stage)
		if v == nil {
			return
		}
		backs, err := room.BacksOn(c.Request.Context(), v.Bench, of)
		if err != nil {
			s.FailWith(c, err)
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
		s.Write(c, http.StatusOK, "backs", lines)
	}
}
