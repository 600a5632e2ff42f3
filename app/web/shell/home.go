package shell

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"html/template"
	"log/slog"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/demodata"
	"mellowthump/app/store"
	"mellowthump/app/web/plot"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/session"
)

// plainBPM is the tempo that a song starts with where none was said; the hits propose another.
const plainBPM = 120.0

// homeView is the list of songs.
type homeView struct {
	Songs, Archived, Deleted []homeSong
	All                      int // that are neither archived nor deleted
	Templates                []store.Template
	Query, Sort              string
	Sorts                    []struct{ Key, Label string }

	Theme, Built, Wrong string
	Typed               map[string]string
	Gated               bool
	Gone                *homeSong // that was deleted just now
	Freed               int64     // bytes, by removing for good just now
	Said                bool      // something was removed
}

// homeSong is a song of the list with what tells it apart.
type homeSong struct {
	store.SongRow
	Picture template.HTML
	Open    int  // findings
	Counted bool // on all stages
	Of      bool // of the song as it is now
	Frees   int64
}

var homeSorts = []struct{ Key, Label string }{{"changed", "last changed"}, {"name", "name"}, {"tempo", "tempo"}, {"open", "open findings"}, {"size", "size"}}

// home lists the songs and starts new ones.
func (s *Server) home(c *gin.Context) { s.showHome(c, http.StatusOK, &homeView{}) }

func (s *Server) showHome(c *gin.Context, status int, v *homeView) {
	ctx := c.Request.Context()
	rows, err := s.Store.Songs(ctx)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	if v.Templates, err = s.Store.Templates(ctx); err != nil {
		s.FailWith(c, err)
		return
	}
	v.Query, v.Sort, v.Sorts = strings.TrimSpace(c.Query("q")), c.Query("sort"), homeSorts
	v.Theme, v.Built, v.Gated = theme(c), s.built, s.gate != nil
	for _, r := range rows {
		song := homeSong{SongRow: r}
		s.openOf(&song)
		switch {
		case r.Deleted != "":
			if song.Frees, err = s.Store.Frees(ctx, r.ID); err != nil {
				s.FailWith(c, err)
				return
			}
			v.Deleted = append(v.Deleted, song)
			continue
		case r.Archived == "":
			v.All++
		}
		if !strings.Contains(strings.ToLower(r.Name+" "+r.Song.Key+" "+fmt.Sprint(r.Song.BPM)), strings.ToLower(v.Query)) {
			continue
		}
		if song.Picture, err = s.humps(ctx, &song.SongRow); err != nil {
			slog.Error("drawing a song of the list", "song", r.ID, "err", err) // it is listed without its picture
		}
		if r.Archived != "" {
			v.Archived = append(v.Archived, song)
		} else {
			v.Songs = append(v.Songs, song)
		}
	}
	for _, list := range [][]homeSong{v.Songs, v.Archived} {
		slices.SortStableFunc(list, func(a, b homeSong) int { // the store lists the last changed first
			switch v.Sort {
			case "name":
				return cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name))
			case "tempo":
				return cmp.Compare(a.Song.BPM, b.Song.BPM)
			case "open":
				return cmp.Compare(b.Open, a.Open)
			case "size":
				return cmp.Compare(b.Bytes, a.Bytes)
			}
			return 0
		})
	}
	s.Write(c, status, "home", v)
}

// openOf sums the findings that are open on all stages.
func (s *Server) openOf(song *homeSong) {
	song.Counted, song.Of = len(song.Song.Stems) > 0, true
	for _, st := range s.stages {
		if st.Judge == nil {
			continue
		}
		m, ok := s.counts.Load(countKey(song.ID, st.Key))
		if !ok && st.Later { // it was not looked at
			continue
		}
		if !ok {
			song.Counted = false
			continue
		}
		song.Open += m.(mark).Count
		song.Of = song.Of && m.(mark).Rev == song.Rev
	}
}

// humps draws a song small: kick above, bass below. It is drawn once for each revision.
func (s *Server) humps(ctx context.Context, r *store.SongRow) (template.HTML, error) {
	type drawn struct {
		rev     int64
		picture template.HTML
	}
	if d, ok := s.drawn.Load(r.ID); ok && d.(drawn).rev == r.Rev {
		return d.(drawn).picture, nil
	}
	sum := func(role session.Role) ([]float64, error) {
		var out []float64
		for _, st := range r.Song.ByRole(role) {
			a, err := s.Store.Facts(ctx, st.Audio)
			if err != nil {
				return nil, err
			}
			gain := dsp.Gain(st.Source + st.Clip + st.Fader)
			for i, p := range a.Overview {
				if i >= len(out) {
					out = append(out, 0)
				}
				out[i] = max(out[i], float64(p)*gain)
			}
		}
		return out, nil
	}
	kick, err := sum(session.Kick)
	if err != nil {
		return "", err
	}
	bass, err := sum(session.Bass)
	if err != nil {
		return "", err
	}
	d := drawn{r.Rev, plot.Humps("humps-"+r.ID, r.Name, kick, bass)}
	s.drawn.Store(r.ID, d)
	return d.picture, nil
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
	bpm := plainBPM
	if text := strings.TrimSpace(c.PostForm("bpm")); text != "" {
		var err error
		if bpm, err = field.Number(text, "bpm"); err != nil {
			s.showHome(c, http.StatusUnprocessableEntity, &homeView{Wrong: "The tempo " + err.Error() + ".", Typed: typed})
			return
		}
	}
	song := session.New(name, bpm)
	if strings.TrimSpace(c.PostForm("bpm")) == "" {
		song.FromHits = &session.FromHits{}
	}
	said := "New song"
	if id, _ := strconv.ParseInt(c.PostForm("template"), 10, 64); id > 0 {
		from, err := s.Store.TemplateSong(c.Request.Context(), id)
		if errors.Is(err, store.ErrNotFound) {
			s.showHome(c, http.StatusUnprocessableEntity, &homeView{Wrong: "That template is no longer there.", Typed: typed})
			return
		}
		if err != nil {
			s.FailWith(c, err)
			return
		}
		said = "New song from the template “" + from.Name + "”"
		from.Name, from.FromHits = name, song.FromHits
		if song.FromHits == nil {
			from.BPM = bpm
		}
		song = from
	}
	if err := song.Validate(); err != nil {
		s.showHome(c, http.StatusUnprocessableEntity, &homeView{Wrong: Sentence(err.Error()), Typed: typed})
		return
	}
	id, err := s.Store.CreateSong(c.Request.Context(), song, said)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	c.Redirect(http.StatusSeeOther, "/songs/"+id+"/"+s.first())
}

// loadDemo brings the demo song, and opens it.
func (s *Server) loadDemo(c *gin.Context) {
	before, err := s.Store.Songs(c.Request.Context())
	if err == nil {
		err = demodata.Load(c.Request.Context(), s.Store)
	}
	var after []store.SongRow
	if err == nil {
		after, err = s.Store.Songs(c.Request.Context())
	}
	if err != nil || len(after) <= len(before) {
		s.backHome(c, err)
		return
	}
	c.Redirect(http.StatusSeeOther, "/songs/"+after[0].ID)
}

// backHome answers with the list after something was done to a song of it.
func (s *Server) backHome(c *gin.Context, err error) {
	if err != nil {
		s.FailWith(c, err)
		return
	}
	c.Redirect(http.StatusSeeOther, "/")
}

// renameSong gives a song another name, as an edit of it.
func (s *Server) renameSong(c *gin.Context) {
	song := s.Load(c)
	if song == nil {
		return
	}
	name := strings.TrimSpace(c.PostForm("name"))
	if song.Name != c.PostForm("was") {
		s.Fail(c, http.StatusConflict, "The song was given the name “"+song.Name+"” in another tab meanwhile, so it keeps that. Reload the list to give it another.")
		return
	}
	_, err := s.Store.Edit(c.Request.Context(), c.Param("id"), song.Rev, session.Settings{Name: &name})
	s.backHome(c, err)
}

// keepTemplate makes a template of a song, under a name.
func (s *Server) keepTemplate(c *gin.Context) {
	song := s.LoadSeen(c)
	if song == nil {
		return
	}
	name := strings.TrimSpace(c.PostForm("name"))
	t := song.Template()
	if name != "" {
		t.Name = name
	}
	if err := t.Validate(); err != nil {
		s.Fail(c, http.StatusUnprocessableEntity, Sentence(err.Error()))
		return
	}
	s.backHome(c, s.Store.AddTemplate(c.Request.Context(), t.Name, t))
}

// removeTemplate takes a template out.
func (s *Server) removeTemplate(c *gin.Context) {
	id, _ := strconv.ParseInt(c.PostForm("template"), 10, 64)
	s.backHome(c, s.Store.RemoveTemplate(c.Request.Context(), id))
}

// duplicateSong makes a song of its own of a song as it is now; its takes and its log stay with the first.
func (s *Server) duplicateSong(c *gin.Context) {
	song := s.Load(c)
	if song == nil {
		return
	}
	copied := song.Clone()
	if r := []rune(copied.Name + ", copy"); len(r) <= session.MaxName {
		copied.Name = string(r)
	}
	_, err := s.Store.CreateSong(c.Request.Context(), copied, "Copy of "+song.Name)
	s.backHome(c, err)
}

func (s *Server) archiveSong(c *gin.Context) {
	s.backHome(c, s.Store.Archive(c.Request.Context(), c.Param("id"), c.PostForm("back") == ""))
}

// deleteSong puts a song away; the list says so, with a way back.
func (s *Server) deleteSong(c *gin.Context) {
	ctx, id := c.Request.Context(), c.Param("id")
	song := s.Load(c)
	if song == nil {
		return
	}
	err := s.Store.Delete(ctx, id, true)
	if err != nil {
		s.FailWith(c, err)
		return
	}
	gone := &homeSong{SongRow: store.SongRow{ID: id, Name: song.Name}}
	if gone.Frees, err = s.Store.Frees(ctx, id); err != nil {
		s.FailWith(c, err)
		return
	}
	s.showHome(c, http.StatusOK, &homeView{Gone: gone})
}

func (s *Server) restoreSong(c *gin.Context) {
	s.backHome(c, s.Store.Delete(c.Request.Context(), c.Param("id"), false))
}

// removeSong takes a deleted song out for good and says what that freed.
func (s *Server) removeSong(c *gin.Context) {
	freed, err := s.Store.Remove(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.FailWith(c, err)
		return
	}
	s.Renderer.Forget()
	s.showHome(c, http.StatusOK, &homeView{Freed: freed, Said: true})
}
