package compare

import (
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/compare"
	"mellowthump/core/session"
)

// setView is the set of favourites with where the song stands in it.
type setView struct {
	*shell.View
	All     []favourite
	Keep    []session.Reference // of this song's finished tracks: those that are not in it
	Picture template.HTML
	compare.Standing
	Trouble2 string
}

type favourite struct {
	store.Favourite
	Here bool // among the song's finished tracks
}

// set answers with it.
func (h *handlers) set(c *gin.Context) {
	v := h.Look(c, "compare")
	if v == nil {
		return
	}
	all, err := h.Store.Favourites(c.Request.Context())
	if err != nil {
		h.FailWith(c, err)
		return
	}
	out := setView{View: v}
	in := map[string]bool{}
	var sounds []compare.Sound
	for _, f := range all {
		in[f.SHA] = true
		out.All = append(out.All, favourite{Favourite: f, Here: has(&v.Song.Song, f.SHA)})
		sounds = append(sounds, f.Sound)
	}
	for _, r := range v.Song.References {
		if !in[r.Audio] {
			out.Keep = append(out.Keep, r)
		}
	}
	if len(all) > 0 {
		_, now, err := compare.MixSound(c.Request.Context(), v.Bench)
		switch {
		case errors.Is(err, compare.ErrSilent):
			out.Trouble2 = shell.Sentence("the song: " + err.Error())
		case err != nil:
			h.FailWith(c, err)
			return
		default:
			out.Standing = compare.Stand(now, sounds)
			out.Picture = plot.SongInSet(now, out.Bands)
		}
	}
	h.Write(c, http.StatusOK, "compareset", out)
}

func has(song *session.Song, sha string) bool {
	for _, r := range song.References {
		if r.Audio == sha {
			return true
		}
	}
	return false
}

var errGone = errors.New("that finished track is no longer there")

// keep puts one of the song's finished tracks into the set, as the stretch that is compared; takes one out of it, or brings
// one to this song.
func (h *handlers) keep(c *gin.Context) {
	ctx := c.Request.Context()
	id, _ := strconv.ParseInt(c.PostForm("favourite"), 10, 64)
	switch c.Param("do") {
	case "in":
		song := h.Load(c)
		if song == nil {
			return
		}
		r := pick(&song.Song, c.PostForm("ref"))
		if r == nil {
			h.FailWith(c, &store.Refused{Err: errGone})
			return
		}
		b, err := h.Bench(ctx, &song.Song)
		var sound compare.Sound
		if err == nil {
			sound, err = compare.ReferenceSound(ctx, b, *r)
		}
		if errors.Is(err, compare.ErrSilent) {
			err = &store.Refused{Err: fmt.Errorf("%s: %w", r.Name, err)}
		}
		if err == nil {
			err = h.Store.AddFavourite(ctx, r.Audio, r.Name, sound)
		}
		if err != nil {
			h.FailWith(c, err)
			return
		}
	case "out":
		if err := h.Store.RemoveFavourite(ctx, id); err != nil {
			h.FailWith(c, err)
			return
		}
	case "here":
		all, err := h.Store.Favourites(ctx)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		for _, f := range all {
			if f.ID == id {
				h.Edit(c, "compare", "match", session.AddReference{File: f.Name + ".wav", Audio: f.SHA})
				return
			}
		}
		h.FailWith(c, &store.Refused{Err: errGone})
		return
	default:
		h.Fail(c, http.StatusNotFound, "There is no such page.")
		return
	}
	h.set(c)
}
