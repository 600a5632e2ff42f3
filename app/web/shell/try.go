package shell

import (
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/core/find"
	"mellowthump/core/session"
)

// triedOn reports whether what is tried stands on more than the song as it is.
func (v *View) triedOn(what string) bool {
	of, _, _ := strings.Cut(what, "/")
	return v.Stage.Key == of && v.Stage.TryOn != nil
}

// beforeOf is before, also of what is tried.
func (s *Server) beforeOf(c *gin.Context, song session.Song, of string) (session.Song, bool, error) {
	what, ok := strings.CutPrefix(of, againstTried+":")
	if !ok {
		before, ok := s.before(song, of)
		return before, ok, nil
	}
	key, what, _ := strings.Cut(what, "/")
	stage := s.stageOf(key)
	if stage == nil || stage.TryOn == nil {
		return song, false, nil
	}
	e, err := stage.TryOn(c, &song, what)
	if err == nil {
		_, err = applied(&song, e)
	}
	return song, true, err
}

// applied makes an edit on a copy of a song that a variable holds.
func applied(song *session.Song, e session.Edit) (string, error) {
	*song = song.Clone() // what it was is not touched
	name, err := e.Apply(song)
	if err == nil {
		song.Settle()
		err = song.Validate()
	}
	if err != nil {
		return "", &InputError{Sentence: Sentence(err.Error())}
	}
	return name, nil
}

// try gives a song what the deck is to try, and names it.
func (s *Server) try(c *gin.Context, song *session.Song, what string) (string, error) {
	if what == "" {
		return "", nil
	}
	of, what, _ := strings.Cut(what, "/")
	var e session.Edit
	var err error
	if of == "finding" {
		key, id, _ := strings.Cut(what, "/")
		stage := s.stageOf(key)
		if stage == nil || stage.Judge == nil {
			return "", &InputError{Sentence: "There is no such stage."}
		}
		var f find.Finding
		if f, err = s.finding(c, song, stage, id); err == nil && len(f.Fix) == 0 {
			err = &InputError{Sentence: "No single change mends that, so there is none to hear."}
		}
		e = f.Edit()
	} else if stage := s.stageOf(of); stage != nil && stage.Try != nil {
		e, err = stage.Try(c, song, what)
	} else {
		return "", &InputError{Sentence: "There is no such thing to try."}
	}
	if err != nil {
		return "", err
	}
	name, err := applied(song, e)
	if err == nil && name == "" {
		name = "the same as now"
	}
	return name, err
}
