package room

import (
	"errors"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/move"
	"mellowthump/core/room"
	"mellowthump/core/session"
)

// pairView is who covers whom: the worst pairs, and the one that was chosen.
type pairView struct {
	*shell.View
	Worst    []room.Cover
	By, Of   string
	Dip      *room.Dip
	Says     string
	None     string // why there is nothing to do for the pair that was chosen
	On       bool
	DipValue string
}

// worstListed is how many pairs are listed.
const worstListed = 6

// NameOf is a stem's name.
func (p pairView) NameOf(id string) string {
	if st := p.Song.Stem(id); st != nil {
		return st.Name
	}
	return id
}

// pair answers with who covers whom, and with the smallest dip for the pair that is chosen.
func (h *handlers) pair(c *gin.Context) {
	v := h.looked(c)
	if v == nil {
		return
	}
	crowd, err := v.Bench.Crowd(c.Request.Context())
	if err != nil {
		h.FailWith(c, err)
		return
	}
	out := pairView{View: v, Worst: crowd.Covers(), By: c.Query("by"), Of: c.Query("of")}
	if len(out.Worst) > worstListed {
		out.Worst = out.Worst[:worstListed]
	}
	if out.By == "" && len(out.Worst) > 0 {
		out.By, out.Of = out.Worst[0].By, out.Worst[0].Of
	}
	k, ok := crowd.Pair(out.By, out.Of)
	switch d, found := crowd.Dip(k); {
	case out.By == "":
	case !ok:
		out.None = "Choose two different stems: who is to be heard, and who makes room."
	case !found:
		out.None = out.NameOf(out.By) + " takes nothing of " + out.NameOf(out.Of) + " away: it would not be heard better without."
	default:
		out.Dip, out.Says, out.DipValue = &d, d.Says(&v.Song.Song), out.NameOf(out.By)+": "+d.Bell.Words()
		out.On = v.Song.Stem(out.By).Move(session.RoomFor+out.Of) != nil
	}
	h.Write(c, http.StatusOK, "roompair", out)
}

// dip puts the smallest dip in, or takes it out.
func (h *handlers) dip(c *gin.Context) {
	by, of := c.PostForm("by"), c.PostForm("of")
	if c.PostForm("out") != "" {
		h.Edit(c, "room", "cut", session.DropMove{At: session.At{Stem: by}, ID: session.RoomFor + of})
		return
	}
	h.WorkOut(c, "room", "cut", func(song *session.Song) (session.Edit, error) {
		return h.dipped(c, song, by, of, c.PostForm("mid") != "")
	})
}

// crowd is every stem of a song as it is heard in the judged stretch.
func (h *handlers) crowd(c *gin.Context, song *session.Song) (*room.Crowd, error) {
	b, err := h.benchOf(c, song)
	if err != nil {
		return nil, err
	}
	return b.Crowd(c.Request.Context())
}

func (h *handlers) dipped(c *gin.Context, song *session.Song, by, of string, mid bool) (session.Edit, error) {
	crowd, err := h.crowd(c, song)
	if err != nil {
		return nil, err
	}
	k, ok := crowd.Pair(by, of)
	if !ok {
		return nil, shell.BadInput(c, "cut", errors.New("choose two different stems"))
	}
	d, ok := crowd.Dip(k)
	if !ok {
		return nil, shell.BadInput(c, "cut", errors.New("nothing of it is covered by the other"))
	}
	return d.Edit(song, mid), nil
}

// A voice stands at this level until another is typed, dBFS RMS; own choice.
const voiceLevel = -20.0

// voiceAt reads the level of the voice.
func voiceAt(text string) (float64, error) {
	if text == "" {
		return voiceLevel, nil
	}
	v, err := move.ParseNumber(text, "dB")
	if err == nil && !(v >= -60 && v <= 0) {
		err = fmt.Errorf("a voice at %g dBFS is out of bounds; -60 to 0 are taken", v)
	}
	return v, err
}

// voice answers with what the beat leaves a voice.
func (h *handlers) voice(c *gin.Context) {
	v := h.looked(c)
	if v == nil {
		return
	}
	type line struct {
		room.Dip
		Name, Says, Value string
		On                bool
	}
	out := struct {
		*shell.View
		Level, Wrong string
		Space        *room.VoiceSpace
		Lines        []line
	}{View: v, Level: c.Query("level")}
	level, err := voiceAt(out.Level)
	if out.Level == "" {
		out.Level = shell.Typed(voiceLevel)
	}
	if err != nil {
		out.Wrong = shell.Sentence(err.Error())
		h.Write(c, http.StatusUnprocessableEntity, "roomvoice", out)
		return
	}
	crowd, err := v.Bench.Crowd(c.Request.Context())
	if err != nil {
		h.FailWith(c, err)
		return
	}
	s := crowd.WithVoice(level).Space()
	out.Space = &s
	for _, d := range s.Dips {
		st := v.Song.Stem(d.By)
		out.Lines = append(out.Lines, line{d, st.Name, d.Says(&v.Song.Song), st.Name + ": " + d.Bell.Words(), st.Move(session.RoomFor+room.Voice) != nil})
	}
	h.Write(c, http.StatusOK, "roomvoice", out)
}

// voiceDip dips a stem so that a voice is heard, or takes that out.
func (h *handlers) voiceDip(c *gin.Context) {
	by := c.PostForm("by")
	if c.PostForm("out") != "" {
		h.Edit(c, "room", "cut", session.DropMove{At: session.At{Stem: by}, ID: session.RoomFor + room.Voice})
		return
	}
	h.WorkOut(c, "room", "cut", func(song *session.Song) (session.Edit, error) {
		return h.voiced(c, song, by, c.PostForm("level"), c.PostForm("mid") != "")
	})
}

func (h *handlers) voiced(c *gin.Context, song *session.Song, by, at string, mid bool) (session.Edit, error) {
	level, err := voiceAt(at)
	if err != nil {
		return nil, shell.BadInput(c, "cut", err)
	}
	crowd, err := h.crowd(c, song)
	if err != nil {
		return nil, err
	}
	crowd = crowd.WithVoice(level)
	k, ok := crowd.Pair(by, room.Voice)
	d, found := crowd.Dip(k)
	if !ok || !found {
		return nil, shell.BadInput(c, "cut", errors.New("that stem takes nothing of the voice away"))
	}
	return d.Edit(song, mid), nil
}
