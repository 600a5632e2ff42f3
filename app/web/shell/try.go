package shell

import (
	"context"
	"net/url"
	"strings"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/core/find"
	"mellowthump/core/session"
)

// errAddress says so in a sentence.
var errAddress = &InputError{Sentence: Sentence(ask.ErrAddress.Error())}

// triedOn reports whether what is tried stands on more than the song as it is.
func (v *View) triedOn(t ask.Try) bool { return v.Stage.Key == t.Stage && v.Stage.TryOn != nil }

// before gives a song as Before plays it.
func (s *Server) before(ctx context.Context, song *store.Song, of ask.Before) (session.Song, error) {
	switch of.As {
	case ask.Brought, "":
		return song.Brought(), nil
	case ask.Now:
		return song.Song, nil
	case ask.OfStage:
		if st := s.stageOf(of.Of); st != nil && st.Before != nil {
			return st.Before(song.Song), nil
		}
	case ask.OfMove:
		if without, ok := song.WithoutMove(of.At, of.Of); ok {
			return without, nil
		}
	case ask.OfTry:
		if stage := s.stageOf(of.Tried.Stage); stage != nil && stage.TryOn != nil {
			e, err := stage.TryOn(ctx, song, of.Tried)
			if err != nil {
				return song.Song, err
			}
			out, _, err := applied(&song.Song, e)
			return out, err
		}
	}
	return song.Song, errAddress
}

// applied makes an edit on a copy of a song, and names it.
func applied(song *session.Song, e session.Edit) (session.Song, string, error) {
	out, name, err := session.Made(song, e)
	if err != nil {
		return out, "", &InputError{Sentence: Sentence(err.Error())}
	}
	return out, name, nil
}

// try gives the song that the deck is to try, and names what is tried. page is the query of the page that asks.
func (s *Server) try(ctx context.Context, song *store.Song, t ask.Try, page url.Values) (session.Song, string, error) {
	if t.None() {
		return song.Song, "", nil
	}
	var e session.Edit
	var err error
	if t.Stage == ask.Finding {
		key, id, _ := strings.Cut(t.What, "/")
		stage := s.stageOf(key)
		if stage == nil || stage.Judge == nil {
			return song.Song, "", &InputError{Sentence: "There is no such stage."}
		}
		var f find.Finding
		if f, err = s.finding(ctx, &song.Song, stage, page, id); err == nil && len(f.Fix) == 0 {
			err = &InputError{Sentence: "No single change mends that, so there is none to hear."}
		}
		e = f.Edit()
	} else if stage := s.stageOf(t.Stage); stage != nil && stage.Try != nil {
		e, err = stage.Try(ctx, song, t)
	} else {
		err = &InputError{Sentence: "There is no such thing to try."}
	}
	if err != nil {
		return song.Song, "", err
	}
	out, name, err := applied(&song.Song, e)
	if err == nil && name == "" {
		name = "the same as now"
	}
	return out, name, err
}
