package room

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/field"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/room"
	"mellowthump/core/session"
)

// Speech stands at this level until another is typed, dBFS RMS; own choice.
const voiceLevel = -20.0

// voiceAt reads the level of the voice; an empty text is None.
func voiceAt(text string) (meter.Figure, error) {
	if strings.TrimSpace(text) == "" {
		return meter.None, nil
	}
	v, err := field.Number(text, "dB")
	if err == nil && !(v >= -60 && v <= 0) {
		err = fmt.Errorf("a voice at %g dBFS is out of bounds; -60 to 0 are taken", v)
	}
	return meter.Figure(v), err
}

// withVoice is the stems with a voice among them: the song's own, else speech. own is the level of the song's own as it came,
// None where it is silent in the stretch, where the crowd has none.
func (h *handlers) withVoice(ctx context.Context, b *bench.Bench, level meter.Figure) (crowd *room.Crowd, own meter.Figure, err error) {
	if crowd, err = room.CrowdOn(ctx, b); err != nil {
		return nil, meter.None, err
	}
	if b.Song.Voice != nil {
		return crowd.WithVoiceOf(ctx, h.Renderer, b.Song, b.RoomWindow(), level)
	}
	if !level.Valid() {
		level = voiceLevel
	}
	return crowd.WithVoice(float64(level)), level, nil
}

type voiceLine struct {
	room.Dip
	Name, Says, Value string
	On                bool
}

// voiceView is what the beat leaves a voice.
type voiceView struct {
	*shell.View
	Level, Wrong string
	Own          meter.Figure // level of the song's own voice
	Under        []string     // voices that come in
	Again        bool         // it is asked again soon
	Failed       []store.Job
	Space        *room.VoiceSpace
	Lines        []voiceLine
}

// voice answers with what the beat leaves a voice, and asks again while one comes in.
func (h *handlers) voice(c *gin.Context) {
	under, failed, ok := h.Coming(c, shell.VoiceJob)
	if !ok {
		return
	}
	v := h.looked(c)
	if v == nil {
		return
	}
	out := voiceView{View: v, Level: c.Query("level"), Own: meter.None, Under: shell.Measured(under), Failed: failed}
	out.Again = len(under) > 0 || c.Request.Method == http.MethodPost // a short one may be in already: look once more
	level, err := voiceAt(out.Level)
	if err != nil {
		out.Wrong = shell.Sentence(err.Error())
		h.Write(c, http.StatusUnprocessableEntity, "roomvoice", out)
		return
	}
	if out.Level == "" && v.Song.Voice == nil {
		out.Level = shell.Typed(voiceLevel)
	}
	if len(under) == 0 && h.CameIn(c, v.Song, "room") {
		return
	}
	if out.Again {
		h.Write(c, http.StatusOK, "roomvoice", out)
		return
	}
	crowd, own, err := h.withVoice(c.Request.Context(), v.Bench, level)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	if out.Own = own; own.Valid() {
		s := crowd.Space()
		out.Space = &s
		for _, d := range s.Dips {
			st := v.Song.Stem(d.By)
			out.Lines = append(out.Lines, voiceLine{d, st.Name, d.Says(&v.Song.Song), st.Name + ": " + move.Words(d.Params), st.Move(session.RoomFor+room.Voice) != nil})
		}
	}
	h.Write(c, http.StatusOK, "roomvoice", out)
}

// removeVoice takes the song's voice out.
func (h *handlers) removeVoice(c *gin.Context) { h.Edit(c, "room", "cut", session.SetVoice{}) }

// voiceDip dips a stem so that a voice is heard, or takes that out.
func (h *handlers) voiceDip(c *gin.Context) {
	by := c.PostForm("by")
	if c.PostForm("out") != "" {
		h.Edit(c, "room", "cut", session.DropMove{At: session.At{Stem: by}, ID: session.RoomFor + room.Voice})
		return
	}
	h.WorkOut(c, "room", "cut", func(song *session.Song) (session.Edit, error) {
		return h.voiced(c.Request.Context(), song, by, c.PostForm("level"), c.PostForm("mid") != "")
	})
}

func (h *handlers) voiced(ctx context.Context, song *session.Song, by, at string, mid bool) (session.Edit, error) {
	level, err := voiceAt(at)
	if err != nil {
		return nil, shell.BadInput("cut", err)
	}
	b, err := h.benchOf(ctx, song)
	if err != nil {
		return nil, err
	}
	crowd, _, err := h.withVoice(ctx, b, level)
	if err != nil {
		return nil, err
	}
	k, ok := crowd.Pair(by, room.Voice)
	if !ok {
		return nil, shell.BadInput("cut", errors.New("that stem takes nothing of the voice away"))
	}
	d, ok, err := crowd.DipAs(ctx, h.Renderer, song, b.RoomWindow(), k, room.Always, mid)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, shell.BadInput("cut", errors.New("that stem takes nothing of the voice away"))
	}
	return d.Edit(song), nil
}
