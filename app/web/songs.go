package web

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/core/audio"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// home lists the songs and starts new ones.
func (s *Server) home(c *gin.Context) { s.showHome(c, http.StatusOK, "", nil) }

func (s *Server) showHome(c *gin.Context, status int, wrong string, typed map[string]string) {
	rows, err := s.Store.Songs(c.Request.Context())
	if err != nil {
		s.failWith(c, err)
		return
	}
	s.write(c, status, "home", map[string]any{"Songs": rows, "Theme": theme(c), "Built": s.built, "Wrong": wrong, "Typed": typed})
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
		s.showHome(c, http.StatusUnprocessableEntity, sentence(err.Error()), typed)
		return
	}
	id, err := s.Store.CreateSong(c.Request.Context(), song, "New song")
	if err != nil {
		s.failWith(c, err)
		return
	}
	c.Redirect(http.StatusSeeOther, "/songs/"+id+"/"+stageOfASong)
}

// setSettings changes the song's name, tempo, key and leader.
func (s *Server) setSettings(c *gin.Context) {
	s.edit(c, "intake", func(song *session.Song) (string, error) {
		was := *song
		song.Name = strings.TrimSpace(c.PostForm("name"))
		song.Key = strings.TrimSpace(c.PostForm("key"))
		if len([]rune(song.Key)) > 24 {
			return "", badInput(c, "settings", errors.New("the key is longer than 24 characters"))
		}
		var err error
		if song.BPM, err = move.ParseNumber(c.PostForm("bpm"), "bpm"); err != nil {
			return "", badInput(c, "settings", fmt.Errorf("the tempo %w", err))
		}
		song.FeltBPM = 0
		if f := strings.TrimSpace(c.PostForm("felt")); f != "" {
			if song.FeltBPM, err = move.ParseNumber(f, "bpm"); err != nil {
				return "", badInput(c, "settings", fmt.Errorf("the felt tempo %w", err))
			}
			if song.FeltBPM < 20 || song.FeltBPM > session.MaxBPM {
				return "", badInput(c, "settings", fmt.Errorf("a felt tempo of %g bpm is outside 20 to %g", song.FeltBPM, session.MaxBPM))
			}
		}
		if g, ok := c.GetPostForm("grid"); ok {
			ms, err := move.ParseNumber(g, "ms")
			if err != nil {
				return "", badInput(c, "settings", fmt.Errorf("the first bar: %w", err))
			}
			song.Grid = ms / 1000
		}
		dropped := false
		if l, ok := c.GetPostForm("leader"); ok {
			dropped = song.SetLeader(session.Leader(l))
		}
		if err := song.Validate(); err != nil {
			return "", badInput(c, "settings", err)
		}
		if d, _ := song.Duck(); d != nil { // note values follow the tempo and must still be in order
			if _, err := d.AtTempo(song.BPM); err != nil {
				return "", badInput(c, "settings", fmt.Errorf("at that tempo the duck's points fall out of order: %w", err))
			}
		}
		var said []string
		if was.Name != song.Name {
			said = append(said, "name "+song.Name)
		}
		if was.BPM != song.BPM || was.FeltBPM != song.FeltBPM {
			said = append(said, fmt.Sprintf("tempo %g bpm", song.BPM))
		}
		if was.Key != song.Key {
			said = append(said, "key "+song.Key)
		}
		if was.Grid != song.Grid {
			said = append(said, fmt.Sprintf("first bar at %.0f ms", 1000*song.Grid))
		}
		if was.Leader != song.Leader {
			said = append(said, string(song.Leader)+" leads"+map[bool]string{true: " (its duck is taken out)"}[dropped])
		}
		if len(said) == 0 {
			return "", nil
		}
		return "Set " + strings.Join(said, ", "), nil
	})
}

// takeProposal sets the one value that the files suggest.
func (s *Server) takeProposal(c *gin.Context) {
	s.edit(c, "intake", func(song *session.Song) (string, error) {
		value := c.PostForm("value")
		switch c.PostForm("field") {
		case "bpm":
			bpm, err := move.ParseNumber(value, "bpm")
			if err != nil {
				return "", badInput(c, "settings", err)
			}
			song.BPM = bpm
			if err := song.Validate(); err != nil {
				return "", badInput(c, "settings", err)
			}
			return fmt.Sprintf("Set tempo %g bpm", bpm), nil
		case "key":
			song.Key = value
			return "Set key " + value, nil
		case "grid":
			ms, err := move.ParseNumber(value, "ms")
			if err != nil {
				return "", badInput(c, "settings", err)
			}
			song.Grid = ms / 1000
			if err := song.Validate(); err != nil {
				return "", badInput(c, "settings", err)
			}
			return fmt.Sprintf("First bar at %g ms", ms), nil
		case "leader":
			song.SetLeader(session.Leader(value))
			if err := song.Validate(); err != nil {
				return "", badInput(c, "settings", err)
			}
			return value + " leads", nil
		}
		return "", nil
	})
}

// leastLoop is the shortest loop in seconds.
const leastLoop = 0.25

// setLoop chooses the loop in seconds, or gives it back to the program.
func (s *Server) setLoop(c *gin.Context) {
	auto := c.PostForm("auto") != ""
	from, err1 := strconv.ParseFloat(c.PostForm("from"), 64)
	to, err2 := strconv.ParseFloat(c.PostForm("to"), 64)
	if !auto && (err1 != nil || err2 != nil || !(to-from >= leastLoop && from >= 0 && to <= audio.MaxSeconds)) {
		s.fail(c, http.StatusUnprocessableEntity, "A loop lies within the song and is at least a quarter of a second long.")
		return
	}
	s.edit(c, currentStage(c), func(song *session.Song) (string, error) {
		if auto {
			if song.Loop == nil {
				return "", nil
			}
			song.Loop = nil
			return "Loop found by energy", nil
		}
		song.Loop = &session.Span{From: from, To: to}
		return fmt.Sprintf("Loop %s to %s", clock(from), clock(to)), nil
	})
}

func (s *Server) undo(c *gin.Context) {
	if err := s.Store.Undo(c.Request.Context(), c.Param("id")); err != nil {
		s.failWith(c, err)
		return
	}
	s.answer(c, currentStage(c), http.StatusOK, nil)
}

func (s *Server) redo(c *gin.Context) {
	if err := s.Store.Redo(c.Request.Context(), c.Param("id")); err != nil {
		s.failWith(c, err)
		return
	}
	s.answer(c, currentStage(c), http.StatusOK, nil)
}
