package compare

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/compare"
	"mellowthump/core/mix"
)

// earsView is the blind test that is open, or what one may be of.
type earsView struct {
	*shell.View
	Sides  []shell.Side
	Groups []sideGroup
	A, B   string // chosen
	Kind   string
	Trials string
	Solo   mix.Solo
	Wrong  string
	Open   *trial
	Last   string // what came of the last one
}

type sideGroup struct {
	Name  string
	Sides []shell.Side
}

// trial is the open trial of a test: nothing of its order.
type trial struct {
	Token, Kind string
	Number, Of  int
}

// sides are all that a blind test of a song may be of: now, before something, without a move, finished tracks, and its takes.
func (h *handlers) sides(c *gin.Context, v *shell.View) ([]sideGroup, error) {
	out := []sideGroup{{Name: "this song", Sides: h.Sides(v)}}
	takes, err := h.Store.Takes(c.Request.Context(), v.ID)
	if err != nil {
		return nil, err
	}
	var of []shell.Side
	for _, t := range takes {
		of = append(of, shell.Side{Rev: t.Revision, Name: "the take “" + t.Name + "”"})
	}
	if len(of) > 0 {
		out = append(out, sideGroup{Name: "takes", Sides: of})
	}
	return out, nil
}

// sideValue names a side in a form.
func sideValue(s shell.Side) string { return fmt.Sprintf("%d|%s", s.Rev, s.Of) }

// blindOf reads two revisions.
func blindOf(text string) (a, b int64, ok bool) {
	first, second, ok := strings.Cut(text, "-")
	a, err1 := strconv.ParseInt(first, 10, 64)
	b, err2 := strconv.ParseInt(second, 10, 64)
	return a, b, ok && err1 == nil && err2 == nil && a > 0 && b > 0 && a != b
}

// whole is the value of a revision as it is: a take, or the song now.
func whole(groups []sideGroup, rev int64) string {
	for _, g := range slices.Backward(groups) { // the takes first
		if i := slices.IndexFunc(g.Sides, func(s shell.Side) bool { return s.Rev == rev }); i >= 0 {
			return sideValue(g.Sides[i])
		}
	}
	return sideValue(groups[0].Sides[0])
}

func (h *handlers) ears(c *gin.Context) {
	if v := h.Look(c, "compare"); v != nil {
		h.showEars(c, http.StatusOK, v, "")
	}
}

func (h *handlers) showEars(c *gin.Context, status int, v *shell.View, wrong string) {
	out := earsView{View: v, Wrong: wrong, Kind: compare.SameOrDifferent, Trials: strconv.Itoa(compare.TrialsUsual), Solo: mix.SoloAll}
	var err error
	if out.Groups, err = h.sides(c, v); err != nil {
		h.FailWith(c, err)
		return
	}
	if c.Request.Method == http.MethodPost && wrong != "" { // what was typed stays
		out.A, out.B, out.Kind, out.Trials, out.Solo = c.PostForm("a"), c.PostForm("b"), c.PostForm("kind"), c.PostForm("trials"), mix.Solo(c.PostForm("solo"))
	} else if all := out.Groups[0].Sides; len(all) > 1 {
		out.A, out.B = sideValue(all[0]), sideValue(all[1])
		if a, b, ok := blindOf(c.Request.URL.Query().Get("blind")); ok {
			out.A, out.B = whole(out.Groups, a), whole(out.Groups, b)
		}
	}
	tests, err := h.Store.EarsOfSong(c.Request.Context(), v.ID)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	for _, e := range tests {
		if e.Kind != shell.BlindKind {
			continue
		}
		t, err := shell.ReadBlind(e)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		if e.State == store.EarsOpen {
			out.Open = &trial{Token: e.Token, Kind: t.Kind, Number: len(t.Answers) + 1, Of: len(t.Order)}
		} else {
			out.Last = t.Said()
		}
		break
	}
	h.Write(c, status, "compareears", out)
}

// begin draws a blind test and makes its two sounds, before the first is heard.
// Long because each thing that is asked of a blind test is refused in its own sentence.
func (h *handlers) begin(c *gin.Context) {
	v := h.Look(c, "compare")
	if v == nil {
		return
	}
	t := shell.BlindTest{Solo: mix.Solo(c.PostForm("solo")), Window: v.Win}
	no := func(err error) { h.showEars(c, http.StatusUnprocessableEntity, v, shell.Sentence(err.Error())) }
	groups, err := h.sides(c, v)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	for i, name := range []string{"a", "b"} {
		found := false
		for _, g := range groups {
			if k := slices.IndexFunc(g.Sides, func(s shell.Side) bool { return sideValue(s) == c.PostForm(name) }); k >= 0 {
				t.Sides[i], found = g.Sides[k], true
			}
		}
		if !found {
			no(errors.New("choose two sounds from the list; the song may have changed meanwhile"))
			return
		}
	}
	trials, err := strconv.Atoi(c.PostForm("trials"))
	if err != nil {
		no(fmt.Errorf("%q is no number of trials", c.PostForm("trials")))
		return
	}
	if !t.Solo.Valid() || t.Solo == mix.SoloKey {
		no(errors.New("choose what is heard: the kick, the bass, both or all"))
		return
	}
	b, err := compare.NewBlind(c.PostForm("kind"), trials)
	if err != nil {
		no(err)
		return
	}
	t.Blind = *b
	if t.Sides[0] == t.Sides[1] {
		no(errors.New("both are the same; choose two"))
		return
	}
	e := store.Ears{Token: store.NewToken(), SongID: v.ID, Kind: shell.BlindKind, State: store.EarsOpen}
	pair, err := h.pair(c.Request.Context(), e, t)
	if err == nil && compare.Same(pair) {
		err = compare.ErrSame
	}
	if err != nil {
		if errors.Is(err, compare.ErrLoud) || errors.Is(err, compare.ErrSame) {
			no(err)
		} else {
			h.FailWith(c, err)
		}
		return
	}
	if err := h.leaveOpen(c.Request.Context(), v.ID); err != nil {
		h.FailWith(c, err)
		return
	}
	h.keepTest(c, v, e, t)
}

// leaveOpen ends the test of a song that is open, without a result.
func (h *handlers) leaveOpen(ctx context.Context, song string) error {
	all, err := h.Store.EarsOfSong(ctx, song)
	if err != nil {
		return err
	}
	for _, e := range all {
		if e.Kind == shell.BlindKind && e.State == store.EarsOpen {
			e.State = store.EarsLeft
			if err := h.Store.SetEars(ctx, e); err != nil && !errors.Is(err, store.ErrConflict) {
				return err
			}
		}
	}
	return nil
}

func (h *handlers) keepTest(c *gin.Context, v *shell.View, e store.Ears, t shell.BlindTest) {
	body, err := json.Marshal(t)
	if err == nil {
		e.Body = string(body)
		err = h.Store.SetEars(c.Request.Context(), e)
	}
	if err != nil && !errors.Is(err, store.ErrConflict) { // answered in another tab: that stands
		h.FailWith(c, err)
		return
	}
	h.showEars(c, http.StatusOK, v, "")
}

// pair makes the two sounds of a test, each the same work every time: they are made together, and kept.
func (h *handlers) pair(ctx context.Context, e store.Ears, t shell.BlindTest) ([2]audio.Buffer, error) {
	return mix.Cached(ctx, h.Renderer.Cache, mix.Key("blind", e.Token), func() ([2]audio.Buffer, int, error) {
		var x [2]audio.Buffer
		for i, side := range t.Sides {
			var err error
			if x[i], err = h.RenderSide(ctx, e.SongID, side, t.Solo, t.Window); err != nil {
				return x, 0, err
			}
		}
		out, err := compare.Pair(x[0], x[1], true)
		return out, out[0].Bytes() + out[1].Bytes(), err
	})
}

// test loads the test of a token that belongs to the song of a request; where it cannot, it answers.
func (h *handlers) test(c *gin.Context, token string) (e store.Ears, t shell.BlindTest, ok bool) {
	e, err := h.Store.EarsOf(c.Request.Context(), token)
	if err == nil && (e.SongID != c.Param("id") || e.Kind != shell.BlindKind) {
		err = store.ErrNotFound
	}
	if err == nil {
		t, err = shell.ReadBlind(e)
	}
	if errors.Is(err, store.ErrNotFound) {
		h.Fail(c, http.StatusNotFound, "That test is no longer there.")
		return e, t, false
	}
	if err != nil {
		h.FailWith(c, err)
		return e, t, false
	}
	return e, t, true
}

// blindSound plays one of the two sounds of the open trial. Neither the address nor the answer says which it is: both are of
// one length and one loudness, made beforehand, and each has a dither of its own.
func (h *handlers) blindSound(c *gin.Context) {
	e, t, ok := h.test(c, c.Param("token"))
	if !ok {
		return
	}
	n, err := strconv.Atoi(c.Param("trial"))
	which := map[string]int{"1.wav": 0, "2.wav": 1}
	k, known := which[c.Param("which")]
	if err != nil || !known || e.State != store.EarsOpen || n != len(t.Answers)+1 {
		h.Fail(c, http.StatusNotFound, "That trial is not the one that is open.")
		return
	}
	pair, err := h.pair(c.Request.Context(), e, t)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	of := 0
	if t.Order[n-1][k] {
		of = 1
	}
	h.sendVeiled(c, pair[of])
}

func (h *handlers) sendVeiled(c *gin.Context, x audio.Buffer) {
	c.Header("Cache-Control", "no-store")
	shell.SendWAV(c, compare.Veiled(x), wav.Int24)
}

// answer takes the answer of the open trial.
func (h *handlers) answer(c *gin.Context) {
	e, t, ok := h.test(c, c.PostForm("token"))
	if !ok {
		return
	}
	v := h.Look(c, "compare")
	if v == nil {
		return
	}
	if c.PostForm("leave") != "" {
		e.State = store.EarsLeft
		h.keepTest(c, v, e, t)
		return
	}
	n, err := strconv.Atoi(c.PostForm("trial"))
	second, known := map[string]bool{"1": false, "2": true}[c.PostForm("answer")]
	if err != nil || !known {
		h.Fail(c, http.StatusBadRequest, "That is no answer.")
		return
	}
	if e.State != store.EarsOpen || t.Answer(n-1, second) != nil { // pressed twice, or in another tab: what was said first stands
		h.showEars(c, http.StatusOK, v, "")
		return
	}
	if t.Done() {
		e.State = store.EarsDone
	}
	h.keepTest(c, v, e, t)
}

// solos are what a test or a drill may be heard as.
func (earsView) Solos() []mix.Solo {
	return []mix.Solo{mix.SoloAll, mix.SoloBoth, mix.SoloKick, mix.SoloBass}
}

// Value names a side in the form.
func (earsView) Value(s shell.Side) string { return sideValue(s) }
