package web

import (
	"context"
	"errors"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// deckData answers with the deck's addresses and offset for another solo.
func (s *Server) deckData(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	c.SetSameSite(http.SameSiteStrictMode)
	c.SetCookie(soloCookie, string(solo(c)), cookieSeconds, "/", "", false, true)
	school := c.Query("school")
	if err := s.trySchool(c.Request.Context(), &song.Song, school); err != nil {
		s.failSchool(c, err)
		return
	}
	v, err := s.view(c, song, currentStage(c), nil)
	if err != nil {
		s.failWith(c, err)
		return
	}
	if school != "" {
		v.Deck.School, v.Deck.Trying = school, schoolLabel(school)
		v.Deck.After += "&school=" + school
	}
	s.write(c, http.StatusOK, "deckdata", v)
}

// trySchool gives a song the duck that a school's fit would give it, to be heard before it is chosen;
// nothing is stored.
func (s *Server) trySchool(ctx context.Context, song *session.Song, school string) error {
	if school == "" {
		return nil
	}
	if schoolLabel(school) == "" {
		return errNoSchool
	}
	_, err := s.fitInto(ctx, song, school)
	return err
}

var errNoSchool = errors.New("there is no such school")

// failSchool answers where a school cannot be tried.
func (s *Server) failSchool(c *gin.Context, err error) {
	switch t := trouble(err); {
	case errors.Is(err, errNoSchool):
		s.fail(c, http.StatusBadRequest, "There is no such school.")
	case t != "":
		s.fail(c, http.StatusConflict, t)
	default:
		s.failWith(c, err)
	}
}

// schoolLabel names a school, empty where there is none of that name.
func schoolLabel(school string) string {
	for _, k := range move.Schools {
		if k.School == school {
			return k.Label
		}
	}
	return ""
}

// deckAudio plays one side of the deck: the loop of a revision as a 24-bit WAV. The address
// holds all that the sound depends on, so it may be kept.
func (s *Server) deckAudio(c *gin.Context) {
	side := c.Param("side")
	if side != "before.wav" && side != "after.wav" {
		s.fail(c, http.StatusNotFound, "The deck has two sides, before and after.")
		return
	}
	rev, err := strconv.ParseInt(c.Query("rev"), 10, 64)
	from, err1 := strconv.Atoi(c.Query("from"))
	to, err2 := strconv.Atoi(c.Query("to"))
	if err != nil || err1 != nil || err2 != nil || from < 0 || to <= from || to-from > audio.MaxSeconds*audio.MaxRate {
		s.fail(c, http.StatusBadRequest, "That is no address of the deck's.")
		return
	}
	song, err := s.Store.At(c.Request.Context(), c.Param("id"), rev)
	if err != nil {
		s.failWith(c, err)
		return
	}
	length, err := s.Renderer.Length(&song)
	if err != nil {
		s.failWith(c, err)
		return
	}
	if from >= length {
		s.fail(c, http.StatusBadRequest, "That is no address of the deck's.")
		return
	}
	if err := s.trySchool(c.Request.Context(), &song, c.Query("school")); err != nil {
		s.failSchool(c, err)
		return
	}
	if side == "before.wav" {
		if c.Query("of") == "trims" {
			song = song.Untrimmed()
		} else {
			song = song.Bypassed()
		}
	}
	b, _, err := s.Renderer.Heard(c.Request.Context(), &song, solo(c), mix.Window{From: from, To: min(to, length)})
	if err != nil {
		s.failWith(c, err)
		return
	}
	c.Header("Cache-Control", "private, max-age=3600, immutable")
	sendWAV(c, b, wav.Int24)
}

// sendWAV answers with a buffer as a WAV.
func sendWAV(c *gin.Context, b audio.Buffer, depth wav.Depth) {
	data := b.Frames() * len(b.Ch) * int(depth) / 8
	c.Header("Content-Type", "audio/wav")
	c.Header("Content-Length", strconv.Itoa(len(wav.Header(b.Rate, len(b.Ch), b.Frames(), depth))+data+data%2))
	c.Status(http.StatusOK)
	if err := wav.Write(c.Writer, b, depth); err != nil {
		c.Abort() // the other end has gone, or it will see that the file is short
	}
}
