package body

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"net/http"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/body"
	"mellowthump/core/device"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// speakerView is the bass behind a stand-in.
type speakerView struct {
	*shell.View
	Speakers []device.Device
	On       device.Device
	Says     string
	Heard    int
	Of       int
	Picture  template.HTML
	Driven   *body.Driven
	Values   string
	In       *move.Drive // the harmonics that are added
}

// speaker answers with the notes of the bass behind a stand-in, and with the least drive by which they are heard.
func (h *handlers) speaker(c *gin.Context) {
	v := h.Look(c, "body")
	if v == nil {
		return
	}
	ctx := c.Request.Context()
	out := speakerView{View: v, Speakers: device.All}
	out.On, _ = device.Of(c.Query("on"))
	now, before, err := body.SpeakerOn(ctx, v.Bench, out.On)
	if err == nil {
		out.Driven, err = body.DriveOn(ctx, v.Bench, out.On)
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	out.Says, out.Of, out.Heard = now.Sentence(), len(now.Notes), len(now.Notes)-len(now.Unheard())
	if out.Driven != nil {
		out.Values = v.BassName() + ": " + move.Words(out.Driven.Move)
	}
	for _, st := range v.Song.ByRole(session.Bass) {
		if m := st.Move(session.BodyDrive); m != nil {
			out.In, _ = m.Params.(*move.Drive)
		}
	}
	var ladders []plot.Ladder
	for i, n := range now.Notes {
		l := plot.Ladder{Note: n.Note, Place: v.Position(n.Start), Hz: n.Hz, Level: n.Level, Audible: n.Audible, Heard: n.Heard(), Margin: n.Margin}
		if out.In != nil && i < len(before.Notes) {
			l.Before = before.Notes[i].Level
		}
		ladders = append(ladders, l)
	}
	if len(ladders) > 0 {
		out.Picture = plot.Ladders(ladders, out.On.Name, out.On.From)
	}
	h.Write(c, http.StatusOK, "bodyspeaker", out)
}

// drive adds the least harmonics by which the bass is heard on a stand-in, or takes them out.
func (h *handlers) drive(c *gin.Context) {
	h.WorkOut(c, "body", "drive", func(song *session.Song) (session.Edit, error) {
		if c.PostForm("out") != "" {
			var e session.Together
			e.Said = "No harmonics are added to the bass any more"
			for _, st := range song.ByRole(session.Bass) {
				e.Edits = append(e.Edits, session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: session.BodyDrive}})
			}
			return e, nil
		}
		return h.driven(c.Request.Context(), song, c.PostForm("on"))
	})
}

func (h *handlers) driven(ctx context.Context, song *session.Song, on string) (session.Edit, error) {
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	s, _ := device.Of(on)
	d, err := body.DriveOn(ctx, b, s)
	if err != nil {
		return nil, err
	}
	if d == nil {
		if len(b.Line()) == 0 {
			return nil, shell.BadInput("drive", errors.New("there are no notes of a bass here"))
		}
		return nil, shell.BadInput("drive", fmt.Errorf("on %s nine of ten notes are heard already", s.Name))
	}
	return body.DriveEdit(song, d.Move), nil
}
