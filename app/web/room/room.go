// Package room is the stage Room in the browser: what else is down there, and can be taken out unheard?
package room

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/field"
	"mellowthump/core/room"
	"mellowthump/core/session"
)

type handlers struct{ *shell.Server }

type sheet struct {
	*shell.View
	Picture template.HTML
	Cellar  *room.Cellar
	Rules   session.Room
	Moved   []*shell.Chain // of those that have moves of Room
	Others  []*shell.Chain
	Away    bool // moves of Room are on
	Back    bool // one of those has a new file
}

func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	out := &sheet{View: v, Rules: v.RoomRules()}
	if len(v.Stems) == 0 {
		v.Lead = v.Trouble
		return out, nil
	}
	var err error
	if out.Cellar, err = room.CellarOn(c.Request.Context(), v.Bench); err != nil {
		return nil, err
	}
	v.Lead = out.Cellar.Sentence(out.Rules.Cellar)
	if v.Bench.RoomWindow() != v.Win {
		v.Lead += " Of the judged stretch its first minute is listened to."
	}
	out.Moved, out.Others, out.Away, out.Back = v.ChainsOf(session.OfRoom)
	out.Picture = plot.CellarStairs(plot.Cellar{Pair: out.Cellar.Pair, Rest: out.Cellar.Rest, Label: "Kick, " + v.BassName()})
	return out, nil
}

// looked loads the song for what comes after the page; where it has no stems, it answers and returns nil.
func (h *handlers) looked(c *gin.Context) *shell.View {
	v := h.Look(c, "room")
	if v != nil && len(v.Stems) == 0 {
		h.Fail(c, http.StatusConflict, shell.NoStems)
		return nil
	}
	return v
}

// benchOf puts a song on the bench; one without stems is refused.
func (h *handlers) benchOf(ctx context.Context, song *session.Song) (*bench.Bench, error) {
	if len(song.Stems) == 0 {
		return nil, &shell.InputError{Field: "cut", Sentence: shell.NoStems}
	}
	return h.Bench(ctx, song)
}

// rows is what comes after the page: each stem with what may go of it, and the findings.
type rows struct {
	*shell.View
	Rows  []row
	Parts []room.Share
	Any   bool // something may be cut from below that is not
	Above bool // likewise from above
	Rules session.Room
}

type row struct {
	Stem      *session.Stem
	Cut       room.Cut
	Low, High float64 // the cuts that are set, Hz; 0: none
	Strip     template.HTML
}

// cuts answers with the rows.
func (h *handlers) cuts(c *gin.Context) {
	v := h.looked(c)
	if v == nil {
		return
	}
	ctx := c.Request.Context()
	out := &rows{View: v, Rules: v.RoomRules()}
	cuts, err := room.CutsOn(ctx, v.Bench)
	if err == nil {
		err = h.JudgeLater(c, v)
	}
	var cellar *room.Cellar
	if err == nil {
		cellar, err = room.CellarOn(ctx, v.Bench)
	}
	if err == nil {
		out.Parts, err = cellar.Shares(ctx, h.Renderer, &v.Song.Song, v.Bench.RoomWindow())
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	_, out.Any = room.All(&v.Song.Song, cuts, room.Low)
	_, out.Above = room.All(&v.Song.Song, cuts, room.High)
	for _, k := range cuts {
		st := v.Song.Stem(k.Stem)
		r := row{Stem: st, Cut: k, Low: st.RoomCut(session.RoomLow), High: st.RoomCut(session.RoomHigh)}
		r.Strip = plot.RoomStrip(plot.RoomRow{
			ID: st.ID, Name: st.Name, Spectrum: k.Spectrum,
			LowAlone: k.Low.Alone, LowMix: k.Low.Mix, Low: r.Low, HighAlone: k.High.Alone, HighMix: k.High.Mix, High: r.High,
		})
		out.Rows = append(out.Rows, r)
	}
	h.Write(c, http.StatusOK, "roomcuts", out)
}

// underKey answers with the schools of rolling kick and bass off.
func (h *handlers) underKey(c *gin.Context) {
	v := h.looked(c)
	if v == nil {
		return
	}
	rolls, err := room.RollsOn(c.Request.Context(), v.Bench)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	type line struct {
		room.Roll
		Says string // which note it takes
	}
	var lines []line
	for _, r := range rolls {
		lines = append(lines, line{r, r.Taken(v.Position)})
	}
	lifted := false
	for i := range v.Stems {
		lifted = lifted || v.Stems[i].Move(session.RoomLift) != nil
	}
	hz, err := v.Bench.KickHz()
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.Write(c, http.StatusOK, "roomkey", map[string]any{"ID": v.ID, "Rolls": lines, "Key": v.Key, "Hz": hz, "Lifted": lifted})
}

// roll rolls kick or bass off by a school.
func (h *handlers) roll(c *gin.Context) {
	h.WorkOut(c, "room", "cut", func(song *session.Song) (session.Edit, error) {
		return h.rolled(c.Request.Context(), song, c.PostForm("role"), c.PostForm("school"))
	})
}

func (h *handlers) rolled(ctx context.Context, song *session.Song, role, school string) (session.Edit, error) {
	b, err := h.benchOf(ctx, song)
	if err != nil {
		return nil, err
	}
	rolls, err := room.RollsOn(ctx, b)
	if err != nil {
		return nil, err
	}
	for _, r := range rolls {
		if string(r.Role) == role && r.School == school {
			return r.Edit(song), nil
		}
	}
	return nil, shell.BadInput("cut", errors.New("there is no such corner here"))
}

// complement lifts one of kick and bass where the other makes room, or takes that out again.
func (h *handlers) complement(c *gin.Context) {
	h.WorkOut(c, "room", "complement", func(song *session.Song) (session.Edit, error) {
		if c.PostForm("out") != "" {
			return session.Uncomplement{}, nil
		}
		db, err := field.Number(c.PostForm("db"), "dB")
		if err != nil {
			return nil, shell.BadInput("complement", fmt.Errorf("the lift %w", err))
		}
		return h.complemented(c.Request.Context(), song, db, c.PostForm("up"))
	})
}

func (h *handlers) complemented(ctx context.Context, song *session.Song, db float64, up string) (session.Edit, error) {
	b, err := h.benchOf(ctx, song)
	if err != nil {
		return nil, err
	}
	hz, err := b.KickHz()
	if err != nil {
		return nil, err
	}
	k, err := room.FindComplement(ctx, h.Renderer, song, b.RoomWindow(), hz, db, session.Role(up))
	if ctx := ctx.Err(); ctx != nil {
		return nil, ctx
	}
	if err != nil {
		return nil, shell.BadInput("complement", err)
	}
	return k.Edit(song), nil
}

// setCut cuts a stem at one end; an empty corner takes the cut out.
func (h *handlers) setCut(c *gin.Context) {
	h.WorkOut(c, "room", "cut", func(song *session.Song) (session.Edit, error) {
		e := session.CutRoom{Stem: c.PostForm("stem"), ID: session.RoomLow}
		if c.PostForm("side") == "high" {
			e.ID = session.RoomHigh
		}
		if text := strings.TrimSpace(c.PostForm("hz")); text != "" && text != "–" {
			var err error
			if e.Hz, err = field.Number(text, "Hz"); err != nil {
				return nil, shell.BadInput("cut", fmt.Errorf("the corner %w", err))
			}
			if e.Hz == 0 {
				return nil, shell.BadInput("cut", errors.New("a corner of 0 Hz cuts nothing; leave the field empty for none"))
			}
		}
		return e, nil
	})
}

// cutAll cuts every stem at its own corner, from below or from above.
func (h *handlers) cutAll(c *gin.Context) {
	side := room.Low
	if c.PostForm("side") == string(room.High) {
		side = room.High
	}
	h.WorkOut(c, "room", "cut", func(song *session.Song) (session.Edit, error) { return h.all(c.Request.Context(), song, side) })
}

func (h *handlers) all(ctx context.Context, song *session.Song, side room.Side) (session.Edit, error) {
	b, err := h.benchOf(ctx, song)
	if err != nil {
		return nil, err
	}
	cuts, err := room.CutsOn(ctx, b)
	if err != nil {
		return nil, err
	}
	e, ok := room.All(song, cuts, side)
	if !ok {
		return nil, shell.BadInput("cut", errors.New("nothing more can go unheard: every stem is cut as far as it may be"))
	}
	return e, nil
}

// setRules sets what Room goes by.
func (h *handlers) setRules(c *gin.Context) {
	h.WorkOut(c, "room", "rules", func(song *session.Song) (session.Edit, error) {
		r := song.RoomRules()
		if err := field.Read(r.Fields(), c.GetPostForm); err != nil {
			return nil, shell.BadInput("rules", err)
		}
		return session.SetRoom{Room: r}, nil
	})
}

// try works out what is heard before it is made: all cuts, or one of a stem.
func (h *handlers) try(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error) {
	s := &song.Song
	switch {
	case t.Is("all", 0):
		return h.all(ctx, s, room.Low)
	case t.Is("above", 0):
		return h.all(ctx, s, room.High)
	case t.Is("voice", 3):
		return h.voiced(ctx, s, t.Args[0], t.Args[1], t.Args[2] == "mid")
	case t.Is("dip", 4):
		return h.dipped(ctx, s, t.Args[0], t.Args[1], wayOf(t.Args[2]), t.Args[3] == "mid")
	case t.Is("complement", 2):
		db, err := field.Number(t.Args[0], "dB")
		if err != nil {
			return nil, &shell.InputError{Field: "complement", Sentence: "There is no such lift."}
		}
		return h.complemented(ctx, s, db, t.Args[1])
	case t.Is("roll", 2):
		return h.rolled(ctx, s, t.Args[0], t.Args[1])
	case t.Is("low", 2), t.Is("high", 2):
		hz, err := field.Number(t.Args[1], "Hz")
		if err != nil {
			break
		}
		return session.CutRoom{Stem: t.Args[0], ID: map[string]string{"low": session.RoomLow, "high": session.RoomHigh}[t.What], Hz: hz}, nil
	}
	return nil, &shell.InputError{Field: "cut", Sentence: "There is no such cut."}
}
