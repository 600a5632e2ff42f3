package shell

import (
	"encoding/json"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/core/audio/wav"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// deckPart plays one of the parts that the loop is made of while a hand draws a gain: a stem without its gains, or "rest".
func (s *Server) deckPart(c *gin.Context) {
	song, w, asked, ok := s.deckSong(c)
	if !ok {
		return
	}
	id := strings.TrimSuffix(c.Param("part"), ".wav")
	if id == "rest" {
		id = ""
	} else if song.Stem(id) == nil {
		s.Fail(c, http.StatusNotFound, "That stem is no longer there.")
		return
	}
	b, err := s.Renderer.Part(c.Request.Context(), &song.Song, asked.Solo, id, w)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	c.Header("Cache-Control", "private, max-age=3600, immutable")
	SendWAV(c, b, wav.Int24)
}

// DrawnGains answers with the gains of the handled stems over the deck's loop, as a hand draws them: for each of them one
// amplitude a millisecond. draw puts what the form says into the song; where it cannot, nothing is to be played anew.
func (s *Server) DrawnGains(c *gin.Context, draw func(*session.Song) error) {
	v := s.Look(c, s.CurrentStage(c))
	if v == nil {
		return
	}
	l, err := v.listens(c, nil)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	drawn := v.Song.Clone()
	if draw(&drawn) != nil {
		c.Status(http.StatusNoContent)
		return
	}
	gains := map[string][]float32{}
	for _, st := range mix.Handled(&drawn, l.Solo) {
		if gains[st.ID], err = s.Renderer.PartGain(c.Request.Context(), &drawn, st, l.Loop); err != nil {
			s.FailWith(c, err)
			return
		}
	}
	b, err := json.Marshal(gains)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	c.Data(http.StatusOK, "application/json", b)
}

// mostFollowed is how long a loop may be whose sound follows a hand, s: its parts and its gains go over the wire.
const mostFollowed = 60

// parts names what the deck plays while a hand draws: the rest, and the handled stems. None where nothing is drawn, or the loop
// is long.
func (v *View) parts() (names []string) {
	if !v.Deck.Try.None() || v.Stage.Follows == "" || v.Deck.Loop.Frames() > mostFollowed*v.Rate {
		return nil
	}
	handled := mix.Handled(&v.Song.Song, v.Deck.Solo)
	if len(handled) == 0 || v.Deck.Solo == mix.SoloKey {
		return nil
	}
	names = []string{"rest"}
	for _, st := range handled {
		names = append(names, st.ID)
	}
	return names
}
