package shell

import (
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/core/move"
	"mellowthump/core/session"
)

// home lists the songs and starts new ones.
func (s *Server) home(c *gin.Context) { s.showHome(c, http.StatusOK, "", nil) }

func (s *Server) showHome(c *gin.Context, status int, wrong string, typed map[string]string) {
	rows, err := s.Store.Songs(c.Request.Context())
	if err != nil {
		s.FailWith(c, err)
		return
	}
	s.Write(c, status, "home", map[string]any{"Songs": rows, "Theme": theme(c), "Built": s.built, "Wrong": wrong, "Typed": typed, "Gated": s.gate != nil})
}

// theme keeps the chosen theme; the page's script does the same without a reload.
func (s *Server) theme(c *gin.Context) {
	c.SetSameSite(http.SameSiteStrictMode)
	if t := c.PostForm("theme"); t == "day" || t == "night" {
		c.SetCookie(themeCookie, t, cookieSeconds, "/", "", false, false)
	}
	c.Redirect(http.StatusSeeOther, "/")
}

func (s *Server) createSong(c *gin.Context) {
	name := strings.TrimSpace(c.PostForm("name"))
	typed := map[string]string{"name": c.PostForm("name"), "bpm": c.PostForm("bpm")}
	bpm, err := move.ParseNumber(c.PostForm("bpm"), "bpm")
	if err != nil {
		s.showHome(c, http.StatusUnprocessableEntity, "The tempo "+err.Error()+".", typed)
		return
	}
	song := session.New(name, bpm)
	if err := song.Validate(); err != nil {
		s.showHome(c, http.StatusUnprocessableEntity, Sentence(err.Error()), typed)
		return
	}
	id, err := s.Store.CreateSong(c.Request.Context(), song, "New song")
	if err != nil {
		s.FailWith(c, err)
		return
	}
	c.Redirect(http.StatusSeeOther, "/songs/"+id+"/"+s.first())
}
