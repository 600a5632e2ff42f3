package shell

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// try gives a song what the deck is to try.
func (s *Server) try(ctx context.Context, song *session.Song, what string) (string, error) {
	if what == "" {
		return "", nil
	}
	return s.tries().Try(ctx, song, what)
}

// deckData answers with the deck's addresses and offset for another solo.
func (s *Server) deckData(c *gin.Context) {
	song := s.Load(c)
	if song == nil {
		return
	}
	c.SetSameSite(http.SameSiteStrictMode)
	c.SetCookie(soloCookie, string(solo(c)), cookieSeconds, "/", "", false, true)
	what := c.Query("school")
	name, err := s.try(c.Request.Context(), &song.Song, what)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	v, err := s.View(c, song, s.CurrentStage(c), nil)
	if err == nil {
		err = s.top(c, v)
	}
	if err != nil {
		s.FailWith(c, err)
		return
	}
	if what != "" {
		v.Deck.School, v.Deck.Trying = what, name
		v.Deck.After += "&school=" + url.QueryEscape(what)
	}
	s.Write(c, http.StatusOK, "deckdata", v)
}

// deckAudio plays one side of the deck: the loop of a revision as a 24-bit WAV. The address
// holds all that the sound depends on, so it may be kept.
func (s *Server) deckAudio(c *gin.Context) {
	side := c.Param("side")
	if side != "before.wav" && side != "after.wav" {
		s.Fail(c, http.StatusNotFound, "The deck has two sides, before and after.")
		return
	}
	rev, err := strconv.ParseInt(c.Query("rev"), 10, 64)
	from, err1 := strconv.Atoi(c.Query("from"))
	to, err2 := strconv.Atoi(c.Query("to"))
	if err != nil || err1 != nil || err2 != nil || from < 0 || to <= from || to-from > audio.MaxSeconds*audio.MaxRate {
		s.Fail(c, http.StatusBadRequest, "That is no address of the deck's.")
		return
	}
	ctx := c.Request.Context()
	song, err := s.Store.At(ctx, c.Param("id"), rev)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	length, err := s.Renderer.Length(&song)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	if from >= length {
		s.Fail(c, http.StatusBadRequest, "That is no address of the deck's.")
		return
	}
	if _, err := s.try(ctx, &song, c.Query("school")); err != nil {
		s.FailWith(c, err)
		return
	}
	if side == "before.wav" {
		if of := s.stageOf(c.Query("of")); of != nil && of.Before != nil {
			song = of.Before(song)
		} else {
			song = song.Bypassed()
		}
	}
	b, _, err := s.Renderer.Heard(ctx, &song, solo(c), mix.Window{From: from, To: min(to, length)})
	if err != nil {
		s.FailWith(c, err)
		return
	}
	c.Header("Cache-Control", "private, max-age=3600, immutable")
	SendWAV(c, b, wav.Int24)
}
