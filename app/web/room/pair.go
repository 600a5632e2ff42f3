package room

import (
	"context"
	"errors"
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
	Way      room.Way
	Mid      bool
	Dip      *room.Dip
	Says     string
	None     string     // why there is nothing to do for the pair that was chosen
	On       *move.Move // the dip that is in
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
	crowd, err := room.CrowdOn(c.Request.Context(), v.Bench)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	out := pairView{View: v, Worst: crowd.Covers(), By: c.Query("by"), Of: c.Query("of"), Way: wayOf(c.Query("way")), Mid: c.Query("mid") != ""}
	if len(out.Worst) > worstListed {
		out.Worst = out.Worst[:worstListed]
	}
	if out.By == "" && len(out.Worst) > 0 {
		out.By, out.Of = out.Worst[0].By, out.Worst[0].Of
	}
	k, ok := crowd.Pair(out.By, out.Of)
	d, found, err := crowd.DipAs(c.Request.Context(), h.Renderer, &v.Song.Song, v.Bench.RoomWindow(), k, out.Way, out.Mid)
	var no room.Refused
	if err != nil && !errors.As(err, &no) {
		h.FailWith(c, err)
		return
	}
	if st := v.Song.Stem(out.By); st != nil {
		out.On = st.Move(session.RoomFor + out.Of)
	}
	switch {
	case out.By == "" || out.On != nil:
	case !ok:
		out.None = "Choose two different stems: who is to be heard, and who makes room."
	case err != nil:
		out.None = shell.Sentence(no.Error())
	case !found:
		out.None = out.NameOf(out.By) + " takes nothing of " + out.NameOf(out.Of) + " away: it would not be heard better without."
	default:
		out.Dip, out.Says, out.DipValue = &d, d.Says(&v.Song.Song), out.NameOf(out.By)+": "+move.Words(d.Params)
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
		return h.dipped(c.Request.Context(), song, by, of, wayOf(c.PostForm("way")), c.PostForm("mid") != "")
	})
}

// wayOf is a way by its name; without one a dip works always.
func wayOf(name string) room.Way {
	if w := room.Way(name); w.Valid() {
		return w
	}
	return room.Always
}

func (h *handlers) dipped(ctx context.Context, song *session.Song, by, of string, way room.Way, mid bool) (session.Edit, error) {
	b, err := h.benchOf(ctx, song)
	if err != nil {
		return nil, err
	}
	crowd, err := room.CrowdOn(ctx, b)
	if err != nil {
		return nil, err
	}
	k, ok := crowd.Pair(by, of)
	if !ok {
		return nil, shell.BadInput("cut", errors.New("choose two different stems"))
	}
	d, ok, err := crowd.DipAs(ctx, h.Renderer, song, b.RoomWindow(), k, way, mid)
	if errors.As(err, new(room.Refused)) {
		return nil, shell.BadInput("cut", err)
	}
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, shell.BadInput("cut", errors.New("nothing of it is covered by the other"))
	}
	return d.Edit(song), nil
}
