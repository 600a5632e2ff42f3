package shell

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"strconv"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/core/group"
)

// Load reads the song of a request; where it cannot, it answers and returns nil.
func (s *Server) Load(c *gin.Context) *store.Song {
	song, err := s.Store.Load(c.Request.Context(), c.Param("id"))
	if err != nil {
		s.FailWith(c, err)
		return nil
	}
	return song
}

// LoadSeen is Load for what must be done to the song as its sender saw it: another tab may have been faster.
func (s *Server) LoadSeen(c *gin.Context) *store.Song {
	song := s.Load(c)
	if song != nil && song.Rev != Base(c) {
		s.FailWith(c, store.ErrConflict)
		return nil
	}
	return song
}

// FailWith answers with what an error means to the user.
func (s *Server) FailWith(c *gin.Context, err error) {
	var no *store.Refused
	var bad *InputError
	switch {
	case errors.Is(err, context.Canceled) && c.Request.Context().Err() != nil:
		c.Abort() // nobody waits for it any more
	case errors.Is(err, store.ErrNotFound):
		s.Fail(c, http.StatusNotFound, "There is no such song here. It may belong to another data folder.")
	case errors.Is(err, store.ErrConflict):
		s.Fail(c, http.StatusConflict, "The song was changed in another tab meanwhile, so this edit was not made. Reload to see it as it is now, then edit again.")
	case errors.Is(err, store.ErrNothing):
		s.Fail(c, http.StatusConflict, "There is nothing further to undo or redo.")
	case store.Full(err):
		s.Fail(c, http.StatusInsufficientStorage, "The disk is full, so that was not done. The song is as it was; make room, then do it again.")
	case errors.Is(err, errAddress):
		s.Fail(c, http.StatusBadRequest, errAddress.Sentence)
	case errors.As(err, &no), errors.As(err, &bad):
		s.Fail(c, http.StatusUnprocessableEntity, Sentence(err.Error()))
	case group.Stopped(err): // logged where it stopped
		slog.Error("a request stopped short", "path", c.Request.URL.Path)
		s.Fail(c, http.StatusInternalServerError, "Something went wrong inside the program. Your song is as it was.")
	default:
		slog.Error("a request failed", "path", c.Request.URL.Path, "err", err)
		s.Fail(c, http.StatusInternalServerError, "That did not work: "+err.Error()+". The song is as it was.")
	}
}

// Fail answers with one sentence: in the page's notice line, or as a page of its own.
func (s *Server) Fail(c *gin.Context, status int, sentence string) {
	c.Abort()
	if IsHTMX(c) {
		c.Header("HX-Retarget", "#notice")
		c.Header("HX-Reswap", "innerHTML")
		s.Write(c, status, "notice", sentence)
		return
	}
	s.Write(c, status, "failure", map[string]any{"Sentence": sentence, "Theme": theme(c), "Built": s.built})
}

// BadInput makes an InputError; what was typed is kept where it is answered.
func BadInput(field string, err error) *InputError {
	return &InputError{Field: field, Sentence: Sentence(err.Error())}
}

// keepTyped puts in what the form of a request holds.
func (e *InputError) keepTyped(c *gin.Context) {
	if e == nil || e.Typed != nil {
		return
	}
	e.Typed = map[string]string{}
	for k, v := range c.Request.PostForm {
		if len(v) > 0 {
			e.Typed[k] = v[0]
		}
	}
}

// Base is the revision that the sender of a form saw.
func Base(c *gin.Context) int64 {
	rev, _ := strconv.ParseInt(c.PostForm("rev"), 10, 64)
	if rev == 0 {
		return -1 // an edit that does not say what it saw is one that saw nothing
	}
	return rev
}

// ErrUnknown is for forms that no page of this program sends.
func ErrUnknown() error { return errUnknown }

// errUnknown is for forms that no page of this program sends.
var errUnknown = errors.New("the page asked for something unknown")
