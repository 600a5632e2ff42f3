package logbook

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/core/runsheet"
	"mellowthump/core/session"
)

// mostSides is how many takes are set side by side.
const mostSides = 4

// nowKey stands for the song as it is, among takes.
const nowKey = "now"

// takeSide is a take, or the song as it is, set beside others.
type takeSide struct {
	Key, Name, Note string
	Rev             int64
	Moves           []session.Difference // against the first
	song            session.Song
}

// besideView is what was set side by side.
type besideView struct {
	Sides []takeSide
	Query string
	Wrong string
}

// chosenSides reads which are to be set side by side; the sentence says why they cannot be.
func (h *handlers) chosenSides(c *gin.Context, v *shell.View) ([]takeSide, string, error) {
	var keys []string
	for _, k := range c.Request.URL.Query()["take"] {
		if !slices.Contains(keys, k) {
			keys = append(keys, k)
		}
	}
	if len(keys) > mostSides {
		return nil, fmt.Sprintf("%d are ticked; at most %d stand side by side.", len(keys), mostSides), nil
	}
	takes, err := h.Store.Takes(c.Request.Context(), v.ID)
	if err != nil {
		return nil, "", err
	}
	var out []takeSide
	for _, k := range keys {
		if k == nowKey {
			out = append(out, takeSide{Key: k, Name: "now", Rev: v.Rev, song: v.Song.Song})
			continue
		}
		id, _ := strconv.ParseInt(k, 10, 64)
		i := slices.IndexFunc(takes, func(t store.Take) bool { return t.ID == id })
		if i < 0 {
			return nil, "One of these takes is no longer there.", nil
		}
		song, err := h.Store.At(c.Request.Context(), v.ID, takes[i].Revision)
		if err != nil {
			return nil, "", err
		}
		out = append(out, takeSide{Key: k, Name: takes[i].Name, Note: takes[i].Note, Rev: takes[i].Revision, song: song})
	}
	slices.SortStableFunc(out, func(a, b takeSide) int { return int(a.Rev - b.Rev) }) // the older first
	for i := range out[min(1, len(out)):] {
		out[i+1].Moves = session.Differ(&out[0].song, &out[i+1].song)
	}
	return out, "", nil
}

// beside puts what is set side by side in.
func (h *handlers) beside(c *gin.Context, out *sheet) error {
	sides, wrong, err := h.chosenSides(c, out.View)
	out.Beside = besideView{Sides: sides, Wrong: wrong}
	q := ""
	for _, s := range sides {
		q += "&take=" + s.Key
	}
	out.Beside.Query = strings.TrimPrefix(q, "&")
	return err
}

// Ticked reports whether one stands side by side with others.
func (b besideView) Ticked(key any) bool {
	return slices.ContainsFunc(b.Sides, func(s takeSide) bool { return s.Key == fmt.Sprint(key) })
}

// besideFigures answers with the figures of all that is set side by side, each measured over its own judged stretch.
func (h *handlers) besideFigures(c *gin.Context) {
	v := h.Look(c, "log")
	if v == nil {
		return
	}
	sides, wrong, err := h.chosenSides(c, v)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	if wrong != "" || len(sides) == 0 {
		c.Status(http.StatusNoContent)
		return
	}
	type row struct {
		runsheet.Change
		Values []string
		Better []int // 1 nearer to what is asked than the first, -1 further
	}
	var rows []row
	for i, s := range sides {
		b, err := h.Bench(c.Request.Context(), &s.song)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		all, err := runsheet.Figures(c.Request.Context(), h.Renderer, &s.song, b.Facts)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		for k, f := range all {
			if i == 0 {
				rows = append(rows, row{Change: f})
			}
			r := &rows[k]
			f.Before = r.Before
			better := 0
			if f.Asked() && f.Better() {
				better = 1
			} else if f.Asked() && f.Worse() {
				better = -1
			}
			r.Values, r.Better = append(r.Values, f.Said(f.After)), append(r.Better, better)
		}
	}
	rows = slices.DeleteFunc(rows, func(r row) bool { return !slices.ContainsFunc(r.Values, func(t string) bool { return t != "–" }) })
	h.Write(c, http.StatusOK, "besidefigures", map[string]any{"Sides": sides, "Rows": rows})
}

// takeWords reads a take's name and note.
func takeWords(c *gin.Context) (name, note string, err error) {
	name, note = strings.TrimSpace(c.PostForm("name")), strings.TrimSpace(c.PostForm("note"))
	switch {
	case name == "":
		err = errors.New("a take needs a name")
	case len([]rune(name)) > longestName:
		err = fmt.Errorf("the take's name is longer than %d characters", longestName)
	case len([]rune(note)) > longestNote:
		err = fmt.Errorf("the note is longer than %d characters", longestNote)
	}
	return name, note, err
}

// setTake changes a take's words, and pins it.
func (h *handlers) setTake(c *gin.Context) {
	id, _ := strconv.ParseInt(c.Param("take"), 10, 64)
	name, note, err := takeWords(c)
	if err != nil {
		h.Fail(c, http.StatusUnprocessableEntity, shell.Sentence(err.Error()))
		return
	}
	err = h.Store.SetTake(c.Request.Context(), c.Param("id"), id, c.PostForm("seen"), name, note, c.PostForm("pinned") != "")
	if errors.Is(err, store.ErrConflict) {
		h.Fail(c, http.StatusConflict, "The words of this take were changed in another tab meanwhile, so these were not set. Reload to see them, then set yours.")
		return
	}
	if err != nil {
		h.FailWith(c, err)
		return
	}
	h.Answer(c, "log", http.StatusOK, nil)
}

// tryTake is the song as a take has it, or as it is now.
func (h *handlers) tryTake(ctx context.Context, song *store.Song, key string) (session.Edit, error) {
	if key == nowKey {
		return session.Settings{}, nil // as it is
	}
	id, _ := strconv.ParseInt(key, 10, 64)
	takes, err := h.Store.Takes(ctx, song.ID)
	if err != nil {
		return nil, err
	}
	for _, t := range takes {
		if t.ID == id {
			was, err := h.Store.At(ctx, song.ID, t.Revision)
			return session.Become{Song: was, Said: "the take “" + t.Name + "”"}, err
		}
	}
	return nil, &shell.InputError{Sentence: "One of these takes is no longer there."}
}

// found reports whether a text holds what is searched for, whatever its case.
func found(q string, texts ...string) bool {
	return slices.ContainsFunc(texts, func(t string) bool { return strings.Contains(strings.ToLower(t), q) })
}
